package stage

import (
	"encoding/json"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// holdRunner keeps things as they are for a time, until a condition, or until a quantity is stable. A rest
// switches the outputs off first. A watch without an end goes on until somebody ends it.
type holdRunner struct {
	spec   procedure.Hold
	off    []procedure.Setting // what a rest switches off
	until  *condition.Condition
	within float64
	column int // of the quantity that is to be stable
	hold   holdState
}

type holdState struct {
	wait
	// Extra is by how much somebody made it longer, s.
	Extra float64 `json:"extra,omitempty"`
	// Window is the recent past of the quantity that is to be stable.
	Window trace.Series `json:"window"`
}

func (r *holdRunner) enter(m *Machine) ([]Effect, verdict) {
	r.hold = holdState{wait: wait{Since: m.state.Now}}
	if r.until != nil {
		r.until.Reset()
	}
	if len(r.off) > 0 {
		return []Effect{Command{Settings: r.off}}, goesOn
	}
	return nil, goesOn
}

func (r *holdRunner) applied(_ *Machine, t float64) ([]Effect, verdict) {
	if len(r.off) == 0 {
		return nil, goesOn // the commands were those of the stage before
	}
	r.hold.Since = t
	return []Effect{Mark{t, MarkCommand, settingsLabel(r.off)}}, goesOn
}

func (r *holdRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.spec.Stable != nil && r.stable(f) {
		return []Effect{Mark{f.T, MarkCondition, r.spec.Stable.Column + " is stable"}}, over
	}
	if r.spec.For > 0 && f.T-r.hold.Since >= r.spec.For+r.hold.Extra {
		return nil, over
	}
	within := r.within
	if within > 0 {
		within = max(within+r.hold.Extra, 1e-9)
	}
	return awaited(m, f, r.until, r.hold.Since, within)
}

// stable takes the frame into the window and tells whether the full window's slope, noise included, lies inside
// the band.
func (r *holdRunner) stable(f trace.Frame) bool {
	w := &r.hold.Window
	if r.column < 0 || r.column >= len(f.Values) || f.Values[r.column] != f.Values[r.column] {
		return false // a missing reading
	}
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
	longest += r.hold.Extra
	if r.until != nil {
		detail = "until " + r.until.Text
	}
	if r.spec.Stable != nil {
		detail = "until " + r.spec.Stable.Column + " is stable"
	}
	if r.spec.For > 0 {
		left = max(longest-past, 0)
	}
	if longest <= 0 {
		return 0, 0, detail
	}
	return min(past/longest, 1), left, detail
}

// shift moves the window too: what was before a pause is as long ago as if there had been none.
func (r *holdRunner) shift(s float64) {
	r.hold.Since += s
	shifted(s, r.until)
	for i := range r.hold.Window.T {
		r.hold.Window.T[i] += s
	}
}

func (r *holdRunner) extend(s float64) { r.hold.Extra += s }

func (r *holdRunner) save() any {
	h := r.hold
	h.wait = h.wait.saved(r.until)
	return h
}

func (r *holdRunner) load(data []byte) error {
	if err := json.Unmarshal(data, &r.hold); err != nil {
		return err
	}
	if r.until != nil && r.hold.Past != nil {
		r.until.Restore(*r.hold.Past)
	}
	r.hold.Past = nil
	return nil
}
