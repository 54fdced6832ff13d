package stage

import (
	"encoding/json"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// holdRunner keeps things as they are for a time, until a condition, or until a quantity is stable.
type holdRunner struct {
	spec   procedure.Hold
	until  *condition.Condition
	within float64
	column int // of the quantity that is to be stable
	hold   holdState
}

type holdState struct {
	wait
	// Window is the recent past of the quantity that is to be stable.
	Window trace.Series `json:"window"`
}

func (r *holdRunner) enter(m *Machine) []Effect {
	r.hold = holdState{wait: wait{Since: m.state.Now}}
	if r.until != nil {
		r.until.Reset()
	}
	return nil
}

func (r *holdRunner) applied(*Machine, float64) ([]Effect, verdict) { return nil, goesOn }

func (r *holdRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.spec.Stable != nil && r.stable(f) {
		return []Effect{Mark{f.T, MarkCondition, r.spec.Stable.Column + " is stable"}}, over
	}
	if r.spec.For > 0 && f.T-r.hold.Since >= r.spec.For {
		return nil, over
	}
	return awaited(m, f, r.until, r.hold.Since, r.within)
}

// stable takes the frame into the window and tells whether the full window's slope, noise included, lies inside the band.
func (r *holdRunner) stable(f trace.Frame) bool {
	w := &r.hold.Window
	w.T, w.X = append(w.T, f.T), append(w.X, f.Values[r.column])
	keep := 0
	for keep+1 < len(w.T) && w.T[keep+1] <= f.T-r.spec.Stable.Window {
		keep++
	}
	w.T, w.X = w.T[keep:], w.X[keep:]
	if f.T-w.T[0] < r.spec.Stable.Window {
		return false
	}
	line, err := w.Slope()
	return err == nil && line.Stable(r.spec.Stable.Band)
}

func (r *holdRunner) progress(m *Machine) (share, left float64, detail string) {
	past := m.state.Now - r.hold.Since
	longest := r.spec.For
	if longest == 0 {
		longest = r.within
	}
	if r.until != nil {
		detail = "until " + r.until.Text
	}
	if r.spec.Stable != nil {
		detail = "until " + r.spec.Stable.Column + " is stable"
	}
	if r.spec.For > 0 {
		left = max(r.spec.For-past, 0)
	}
	return min(past/longest, 1), left, detail
}

func (r *holdRunner) save() any {
	if r.until != nil {
		r.hold.Held = r.until.State()
	}
	return r.hold
}

func (r *holdRunner) load(data []byte) error {
	if err := json.Unmarshal(data, &r.hold); err != nil {
		return err
	}
	if r.until != nil {
		r.until.Restore(r.hold.Held)
	}
	return nil
}
