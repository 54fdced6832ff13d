package dialect

import (
	"maps"
	"slices"
	"strings"

	"usherbench/core/document"
	"usherbench/core/seats"
)

// Messages of an instrument with several channels must tell the channels apart, each by itself or by what is sent
// before: a setting that is meant for the second must not reach the first.

// tellsApart refuses a dialect of several channels whose messages reach the same one.
func (r *reader) tellsApart(root document.Node) {
	d := r.d
	switch {
	case d.Channels < 2:
		return
	case d.Protocol == Registers && d.Stride == 0:
		root.Fail(`it has %d channels, but their registers are the same; say how far apart they are: "channel stride: 100"`,
			d.Channels)
		return
	case d.Protocol == Registers || strings.Contains(d.Select, "{channel}"):
		return
	}
	said := map[part]bool{}
	for _, seat := range d.Seats {
		for _, what := range d.For(seat).ofOneChannel() {
			if !what.told && !said[what] {
				said[what] = true
				r.failAt(root, what.at, "%s: of %d channels it reaches the same one always; write {channel} where the number "+
					"of the channel goes, or say how a channel is chosen before: select", what.name, d.Channels)
			}
		}
	}
}

// failAt records a finding where something stands in this file; for what a base says at the whole.
func (r *reader) failAt(root document.Node, at Place, format string, args ...any) {
	if at.File != r.file || at.Line == 0 {
		root.Fail(format, args...)
		return
	}
	root.FailPlace(at.Line, at.Column, format, args...)
}

// part is something that is done with one channel, and whether its messages say which.
type part struct {
	name string
	at   Place
	told bool
}

// ofOneChannel lists what concerns one channel. What may belong to the whole instrument, as its watchdog, its
// interlock, and how it measures, is not among it.
func (d *Dialect) ofOneChannel() (all []part) {
	set := func(name string, s Setter) {
		if len(s.Messages) > 0 {
			all = append(all, part{name, s.Place, strings.Contains(strings.Join(s.Messages, "\n"), "{channel}")})
		}
	}
	ask := func(name string, q Query) {
		if q.Message != "" {
			all = append(all, part{name, q.Place, strings.Contains(q.Message, "{channel}")})
		}
	}
	for _, q := range slices.Sorted(maps.Keys(d.Set)) {
		set("set "+q, d.Set[q])
	}
	for _, of := range []string{seats.Output, seats.Mode} {
		for _, word := range slices.Sorted(maps.Keys(d.Words[of])) {
			set(of+" "+word, d.Words[of][word])
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Ask)) {
		if _, choice := d.Built[name]; !choice && (d.Set[name].Exists() || name == seats.Output || name == seats.Mode) {
			ask("ask for "+name, d.Ask[name])
		}
	}
	for _, q := range d.Read {
		ask("read", q)
	}
	ask("confirm", d.Confirm)
	for _, s := range d.MakeSafe {
		set("make safe", s)
	}
	for _, name := range slices.Sorted(maps.Keys(d.Protect)) {
		set("protect "+name, d.Protect[name])
	}
	for name, s := range map[string]Setter{"levels": d.Program.Levels, "dwells": d.Program.Dwells,
		"start": d.Program.Start} {
		set("program "+name, s)
	}
	return all
}
