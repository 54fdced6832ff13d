package stage

import (
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// watched tells whether a guard is watched now. While a run is away its outputs are off, and with them what most guards
// look at: then only temperatures are watched. The unit is looked at before the run goes on, and from the first frame
// after that all guards are watched again.
func (m *Machine) watched(i int) bool {
	g := m.program.Guards[i]
	return m.state.Stage >= g.From && m.state.Stage < g.To && (!m.state.Away || m.ofTemperatures(i))
}

// ofTemperatures tells whether a guard reads nothing but temperatures.
func (m *Machine) ofTemperatures(i int) bool {
	columns := m.guards[i].Columns()
	return len(columns) > 0 && !slices.ContainsFunc(columns, func(c int) bool {
		kind, known := quantity.KindOfColumn(m.program.Columns[c])
		return !known || kind.Unit.Dim != quantity.Temperature
	})
}

// watch evaluates every guard, before any stage sees the frame.
func (m *Machine) watch(f trace.Frame) (effects []Effect, tripped bool) {
	s := m.Sample(f)
	for i, g := range m.guards {
		truth := g.Evaluate(s) // those of other stages too, so that what looks back has seen every frame
		if !m.watched(i) {
			g.Release() // for how long it holds counts from when it is watched
			m.state.Unknown[i], m.state.Warned[i] = -1, false
			continue
		}
		spec := m.program.Guards[i]
		switch {
		case truth == condition.True && spec.Warn:
			if !m.state.Warned[i] {
				effects = append(effects, m.warn(i, f.T)...)
			}
			m.state.Warned[i] = true
		case truth == condition.True:
			return append(effects, m.tripBy(f.T, spec)...), true
		case truth == condition.Unknown && !g.Filling():
			if m.state.Unknown[i] < 0 {
				m.state.Unknown[i] = f.T
			}
			if f.T-m.state.Unknown[i] >= m.program.LostAfter && !spec.Warn {
				reason := quantity.Sprintf("guard cannot be watched, its readings are missing for %.3g s: %s", m.program.LostAfter,
					spec.Words())
				return append(effects, m.Trip(f.T, reason, reason)...), true
			}
		default:
			m.state.Unknown[i], m.state.Warned[i] = -1, false
		}
	}
	return effects, false
}

// warn marks what a guard that does not trip has seen, and has every frame about it kept where it asks for that. Of
// more events than it wants no more is said.
func (m *Machine) warn(i int, t float64) []Effect {
	spec := m.program.Guards[i]
	if spec.Record == nil {
		return []Effect{NewMark(t, record.MarkWarning, spec.Words())}
	}
	if m.state.Events[i] == spec.Record.Most {
		return nil
	}
	if m.state.Events == nil { // a state of an earlier version
		m.state.Events = map[int]int{}
	}
	m.state.Events[i]++
	return []Effect{NewMark(t, record.MarkEvent, spec.Words()), RecordAll{From: t - spec.Record.Past,
		Until: t + spec.Record.For}}
}

// tripBy ends the run since a guard holds: for the unit to be put in anew, where it tells an open contact.
func (m *Machine) tripBy(t float64, g procedure.Guard) []Effect {
	words := g.Words()
	if g.Reseat {
		return append([]Effect{NewMark(t, record.MarkGuard, words)}, m.finish(t, OpenContact, "open contact: "+words)...)
	}
	return m.Trip(t, words, "guard tripped: "+words)
}

func (m *Machine) Trip(t float64, label, reason string) []Effect {
	return append([]Effect{NewMark(t, record.MarkGuard, label)}, m.finish(t, Aborted, reason)...)
}

// peek has guards that can be told already act at once. What they do not know yet comes with the frame.
func (m *Machine) peek(f trace.Frame) []Effect {
	s := m.Sample(f)
	for i, g := range m.guards {
		missing := func(c int) bool { return c < len(f.Values) && math.IsNaN(f.Values[c]) }
		if !m.watched(i) || m.program.Guards[i].Warn || slices.ContainsFunc(g.Columns(), missing) {
			continue
		}
		if g.Evaluate(s) == condition.True {
			return m.tripBy(f.T, m.program.Guards[i])
		}
	}
	return nil
}

// GuardState is a guard and how far it is from tripping.
type GuardState struct {
	Words string `json:"words"`
	// Distance is empty while it is not known.
	Distance string `json:"distance,omitempty"`
	// Warn is true for a guard that only leaves a mark.
	Warn bool `json:"warn,omitempty"`
}

// Guards tells the distance of each guard of the current stage to tripping on a frame.
func (m *Machine) Guards(f trace.Frame) []GuardState {
	s := m.Sample(f)
	states := []GuardState{}
	for i, g := range m.guards {
		if !m.watched(i) {
			continue
		}
		state := GuardState{Words: m.program.Guards[i].Words(), Warn: m.program.Guards[i].Warn}
		if d, ok := g.Margin(s); ok {
			state.Distance = d.Format(3)
		}
		states = append(states, state)
	}
	return states
}
