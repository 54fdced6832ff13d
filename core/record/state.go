package record

import (
	"cmp"
	"math"
	"slices"
)

// State is what the unit does from an instant on, to the next state: it sleeps, it transmits. A person says so, or a
// program, which may say later when it was.
type State struct {
	State string `json:"state"`
	// At is since when, s; the mark stands where it became known.
	At float64 `json:"at"`
}

func (State) is() string { return "state" }

// States are those in which somebody said that the unit was, each once, as they came.
func (rec *Record) States() (names []string) {
	for _, m := range rec.Marks {
		if s, is := m.About.(State); is && !slices.Contains(names, s.State) {
			names = append(names, s.State)
		}
	}
	return names
}

// Visit is a time in which the unit was in a state.
type Visit struct{ T0, T1 float64 }

// Seconds is how long it was.
func (v Visit) Seconds() float64 { return v.T1 - v.T0 }

// Visits are the times in which the unit was in a state, within some stages of a name, or in all of the run. It fails
// with no mark.
func (rec *Record) Visits(state, stage string) (visits []Visit, err error) {
	var states []State
	for _, m := range rec.Marks {
		if s, is := m.About.(State); is {
			states = append(states, s)
		}
	}
	slices.SortStableFunc(states, func(a, b State) int { return cmp.Compare(a.At, b.At) })
	spans := rec.spansNamed([]string{stage})
	if stage == "" {
		from, to := rec.Ends()
		spans = []Span{{T0: from, T1: to}}
	}
	for i, s := range states {
		until := math.Inf(1)
		if i+1 < len(states) {
			until = states[i+1].At
		}
		for _, span := range spans {
			if v := (Visit{max(s.At, span.T0), min(until, span.T1)}); s.State == state && v.T1 > v.T0 {
				visits = append(visits, v)
			}
		}
	}
	if len(visits) == 0 {
		return nil, Because(NoMark, "nobody has said that the unit was in the state %q", state)
	}
	return visits, nil
}

// Visited reads a column in a visit, to its very ends: between the readings around a mark it is a straight line.
func (rec *Record) Visited(column string, v Visit) (m Measured, err error) {
	if m, err = rec.Measured(column, v.T0, v.T1); err != nil {
		return m, err
	}
	pad := 2 * usualInterval(m.T)
	around, err := rec.Trace(column, v.T0-pad, v.T1+pad)
	if err != nil {
		return m, CodeOf(err, column)
	}
	if exact, err := around.Present().Window(v.T0, v.T1); err == nil {
		mean, err := exact.Mean()
		if err != nil {
			return m, CodeOf(err, column)
		}
		m.Series = exact
		m.Mean.Value = mean
	}
	return m, nil
}
