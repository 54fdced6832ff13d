package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/bench"
	"usherbench/core/procedure"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// A run begins from a stated state: what somebody set by hand, or an earlier run left, must not decide about it. Every
// setting that the dialect of a seat knows is set before the first stage, with the outputs off: levels to what moves
// nothing, limits to what the procedure says that it needs, or to the most. Protections and words about how a unit is
// wired stay as they are, where the procedure does not state them; preflight says so.

// beginning lists what a seat begins with; what the bay's configuration has as its default stands in place of that.
func beginning(program *procedure.Program, x *outputs.Seat) ([]procedure.Setting, error) {
	d := x.First().Dialect
	settings := program.Beginning(x.Name, func(q, word string) bool {
		if word != "" {
			_, can := d.Words[q][word]
			return can
		}
		_, can := d.Set[q]
		return can
	}, x.Most)
	for _, q := range slices.Sorted(maps.Keys(x.Config.Defaults)) {
		s, err := bench.ReadSetting(d, x.Name, q, x.Config.Defaults[q])
		if err != nil {
			return nil, fmt.Errorf("default of %s: %w", x.Name, err)
		}
		if i := slices.IndexFunc(settings, func(of procedure.Setting) bool { return of.Quantity == q }); i >= 0 {
			settings[i] = s
		} else {
			settings = append(settings, s)
		}
	}
	return settings, nil
}

// begin sets what every seat begins with. What an instrument refuses is put on record: its procedure may never need it.
func (r *liveRun) begin(ctx context.Context) error {
	for _, x := range r.bay.outputs.Seats() {
		settings, err := beginning(r.program, x)
		if err != nil {
			return err
		}
		for _, s := range settings {
			err := r.bay.outputs.Apply(ctx, x, s)
			_, asked := x.Config.Defaults[s.Quantity]
			switch {
			case err == nil:
			case asked:
				return fmt.Errorf("default of %s: %w", x.Name, err)
			case !instrument.Refused(err):
				return err
			default:
				r.bay.engine.Journal(store.JournalEntry{By: "service", Bay: r.bay.name, RunID: r.record.ID,
					What: "a setting stays as it is", Detail: fmt.Sprintf("%s is not taken: %s", s, err)})
			}
		}
	}
	return nil
}

// begins says what a seat begins with, and what is in force now in place of it: what was set by hand, or left by an
// earlier run.
func (p *preflight) begins(ctx context.Context, x *outputs.Seat) {
	settings, err := beginning(p.program, x)
	if err != nil {
		p.blocks("settings", "correct the defaults of the bay", "%s", err)
		return
	}
	var now, then []string
	for _, s := range settings {
		then = append(then, wordsOf(s))
		found := procedure.Setting{Quantity: s.Quantity}
		var ok bool
		if s.Word != "" {
			found.Word, ok, err = x.First().Word(ctx, s.Quantity)
		} else {
			found.Value, ok, err = x.First().Setting(ctx, s.Quantity)
			found.Value /= x.Share(s.Quantity, 1)
		}
		if ok && err == nil && wordsOf(found) != wordsOf(s) {
			now = append(now, wordsOf(found))
		}
	}
	switch {
	case len(now) > 0:
		p.fine("settings", "%s begins with %s, in place of %s, which is in force now", x.Name, strings.Join(then, ", "),
			strings.Join(now, ", "))
	case len(then) > 0:
		p.fine("settings", "%s begins with %s", x.Name, strings.Join(then, ", "))
	}
}

func wordsOf(s procedure.Setting) string {
	if s.Word != "" {
		return s.Quantity + " " + s.Word
	}
	return s.Quantity + " " + dialect.Show(s.Quantity, s.Value)
}
