package stage

import (
	"cmp"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// rare is what a capture trigger has had.
type rare struct {
	// Armed says that the scope waits, or captures, for it; Shot numbers what was asked for it.
	Armed bool `json:"armed,omitempty"`
	Shot  int  `json:"shot"`
	// From is when it may capture again, Of how many it has captured.
	From float64 `json:"from,omitempty"`
	Of   int     `json:"of,omitempty"`
	// Holds says that its condition holds, Missed that its scope could not capture.
	Holds  bool       `json:"holds,omitempty"`
	Missed bool       `json:"missed,omitempty"`
	Kept   []rareShot `json:"kept,omitempty"`
}

// rareShot is a capture that is kept.
type rareShot struct {
	Index  int     `json:"index"`
	Beyond float64 `json:"beyond"`
}

// missedPause is how long nothing is asked of a scope that could not capture, s.
const missedPause = 30.0

// shotOf numbers what is asked for a trigger: below zero, and another number for every trigger and time.
func (m *Machine) shotOf(i int) int { return -(m.state.Rare[i].Shot*len(m.rare) + i + 1) }

// ofShot is the trigger that a number is of.
func (m *Machine) ofShot(shot int) int { return (-shot - 1) % len(m.rare) }

// disarmRare notes that no trigger has the scope.
func (m *Machine) disarmRare() {
	for i := range m.state.Rare {
		m.state.Rare[i].Armed = false
	}
}

// lookForRare has the scope wait for its trigger, or capture at once where a condition has come to hold. A stage that
// captures has the scope for itself.
func (m *Machine) lookForRare(f trace.Frame) (effects []Effect) {
	if len(m.rare) == 0 {
		return nil
	}
	_, taken := m.runner().(Capturing)
	taken = taken || m.state.Paused
	s := m.Sample(f)
	for i, c := range m.rare {
		x := &m.state.Rare[i]
		wanted := c == nil
		if c != nil {
			holds := c.Evaluate(s) == condition.True
			wanted, x.Holds = holds && !x.Holds, holds
		}
		if taken || !wanted || f.T < x.From || m.shooting(c == nil) {
			continue
		}
		m.disarmRare()
		x.Armed = true
		x.Shot++
		spec := m.program.Triggers[i]
		effects = append(effects, Arm{Seat: spec.Seat, Setup: spec.Setup, Shot: m.shotOf(i)})
	}
	return effects
}

// shooting tells whether the scope is busy for a trigger: one that is to wait leaves it to whoever has it, one that
// captures at once takes it from one that waits.
func (m *Machine) shooting(waits bool) bool {
	for i, x := range m.state.Rare {
		if x.Armed && (waits || m.rare[i] != nil) {
			return true
		}
	}
	return false
}

// rareCaptured keeps what a trigger has captured, in place of one that is neither among the worst nor among the newest.
func (m *Machine) rareCaptured(e Captured) []Effect {
	if len(m.rare) == 0 {
		return nil
	}
	i := m.ofShot(e.Shot)
	x, spec := &m.state.Rare[i], m.program.Triggers[i]
	if !x.Armed || e.Shot != m.shotOf(i) {
		return nil
	}
	x.Armed = false
	if e.Missed != "" {
		x.From = e.T + missedPause
		if x.Missed {
			return nil
		}
		x.Missed = true
		return []Effect{NewMark(e.T, record.MarkBench, spec.Name+": "+e.Missed)}
	}
	x.Missed, x.From = false, e.T+spec.Pause
	x.Of++
	kept := m.NewCapture(spec.Name, x.Of, e.Triggered, e.Channels)
	unit := ""
	kept.Beyond, unit = spec.Beyond(e.Channels)
	x.Kept = append(x.Kept, rareShot{kept.Index, kept.Beyond})
	effects := []Effect{Taken{Capture: kept},
		NewMark(e.Triggered, record.MarkEvent, quantity.Sprintf("%s: %.3g %s", spec.Name, kept.Beyond, unit))}
	if drop, ok := x.surplus(spec.Worst, spec.Newest); ok {
		effects = append(effects, Dropped{Index: drop})
	}
	return effects
}

// surplus takes out the capture that is not kept any longer, if there is one.
func (x *rare) surplus(worst, newest int) (index int, ok bool) {
	if len(x.Kept) <= worst+newest {
		return 0, false
	}
	older := slices.Clone(x.Kept[:len(x.Kept)-newest])
	slices.SortStableFunc(older, func(a, b rareShot) int { return cmp.Compare(b.Beyond, a.Beyond) })
	drop := older[len(older)-1]
	x.Kept = slices.DeleteFunc(x.Kept, func(k rareShot) bool { return k == drop })
	return drop.Index, true
}
