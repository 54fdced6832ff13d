package record

import (
	"fmt"
	"strings"
)

// Half is one half-cycle: a charge, a discharge, or a rest between them, from when its current was switched on
// to when it was off.
type Half struct {
	Span
	From, To float64 // of the current
	Ended    string  // the rule that ended it, several joined by commas; empty: something else did
}

// Halves lists the stages of a kind, in order, without pulses; with a name only those of that name, whatever they are.
func (rec *Record) Halves(kind, name string) []Half {
	var all []Half
	for _, s := range rec.Stages {
		if kind != "" && s.Kind != kind || name != "" && s.Name != name {
			continue
		}
		all = append(all, rec.halfOf(s))
	}
	if name == "" {
		return rec.withoutPulses(all)
	}
	return all
}

func (rec *Record) halfOf(s Span) Half {
	h := Half{Span: s, From: s.T0, To: s.T1}
	began := false
	for _, m := range rec.MarksIn(s) {
		if m.Kind == MarkCommand && !began {
			h.From, began = m.T, true
			continue
		}
		if ended, ok := m.About.(Ended); ok && ended.Stage == s.Kind {
			h.Ended, h.To = strings.Join(ended.Rules, ", "), m.T
		}
	}
	return h
}

// Half is the half-cycle of a kind, of the stage by that name where one is given: the given pass from 1, or with 0 the
// last. Of a name that no stage of the kind has it is what a stage of another kind did. It fails with no-mark.
func (rec *Record) Half(kind, stage string, pass int) (Half, error) {
	what := "no " + kind + " took place"
	all := rec.Halves(kind, stage)
	if stage != "" && len(all) == 0 { // whatever does it: a hold may discharge as well
		what = fmt.Sprintf("the stage %q did not happen", stage)
		all = rec.Halves("", stage)
	}
	switch {
	case len(all) == 0:
		return Half{}, Because(NoMark, "%s", what)
	case pass > len(all):
		return Half{}, Because(NoMark, "it happened %d times, not %d", len(all), pass)
	case pass > 0:
		return all[pass-1], nil
	}
	return all[len(all)-1], nil
}
