package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/bench"
	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// A run begins from a stated state: what somebody set by hand, or an earlier run left, must not decide about it. Every
// setting that the dialect of a seat knows is set before the first stage, with the outputs off: levels to what moves
// nothing, limits to what the procedure says that it needs, or to the most. Protections and words about how a unit is
// wired stay as they are, where the procedure does not state them; preflight says so.

// beginning lists what a seat begins with, in the order of its kind; what the bay's configuration has as its default
// stands in place of that.
func beginning(program *procedure.Program, x *outputs.Seat) (settings []procedure.Setting, err error) {
	d, defaults := x.First().Dialect, maps.Clone(x.Config.Defaults)
	for _, q := range x.Kind.Sets {
		s, ok := procedure.Setting{Seat: x.Name, Quantity: q}, false
		if text, given := defaults[q]; given {
			if s, err = bench.ReadSetting(d, x.Name, q, text); err != nil {
				return nil, fmt.Errorf("default of %s: %w", x.Name, err)
			}
			delete(defaults, q)
			ok = true
		} else if _, isNumber := d.Set[q]; isNumber {
			ok = true
			if x.Kind.Begins(q) == seats.AtMost {
				s.Value, ok = needed(program, x, q)
			}
		} else if q == seats.Mode {
			s.Word = seats.BeginsIn
			_, ok = d.Words[q][s.Word]
		}
		if ok {
			settings = append(settings, s)
		}
	}
	for _, q := range slices.Sorted(maps.Keys(defaults)) {
		s, err := bench.ReadSetting(d, x.Name, q, defaults[q])
		if err != nil {
			return nil, fmt.Errorf("default of %s: %w", x.Name, err)
		}
		settings = append(settings, s)
	}
	return settings, nil
}

// needed is what a procedure says that a seat must be able to do, else the most that it can; a dialect without ranges
// does not say that.
func needed(program *procedure.Program, x *outputs.Seat, q string) (most float64, known bool) {
	for _, s := range program.Seats {
		if most, known = s.Ratings[q]; known && s.Name == x.Name {
			return most, true
		}
	}
	return x.Most(q)
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
