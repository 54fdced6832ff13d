package stage

import (
	"encoding/json"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// setRunner sets things; with until it then waits.
type setRunner struct {
	waiting
	spec   procedure.Set
	within float64
}

// waiting is the condition that a stage waits for, with its state: what is common to all stages that keep nothing else.
type waiting struct {
	until *condition.Condition // nil: none
	wait  wait
}

// begin waits anew from a time on.
func (w *waiting) begin(t float64) {
	w.wait = wait{Since: t}
	if w.until != nil {
		w.until.Reset()
	}
}

func (w *waiting) shift(s float64)        { w.wait.Since += s; shifted(s, w.until) }
func (w *waiting) save() any              { return w.wait.saved(w.until) }
func (w *waiting) load(data []byte) error { return w.wait.load(data, w.until) }

// wait is the state of waiting for a condition.
type wait struct {
	Since float64          `json:"since"`
	Past  *condition.State `json:"past,omitempty"` // only in a snapshot
}

// saved is the state with what the condition remembers.
func (w wait) saved(until *condition.Condition) wait {
	if until != nil {
		state := until.State()
		w.Past = &state
	}
	return w
}

func (w *wait) load(data []byte, until *condition.Condition) error {
	if err := json.Unmarshal(data, w); err != nil {
		return err
	}
	if until != nil && w.Past != nil {
		until.Restore(*w.Past)
	}
	w.Past = nil
	return nil
}

func (r *setRunner) enter(m *Machine) ([]Effect, verdict) {
	r.begin(m.state.Now)
	return []Effect{Command{Settings: r.spec.Settings}}, goesOn
}

func (r *setRunner) applied(_ *Machine, t float64) ([]Effect, verdict) {
	r.wait.Since = t
	effects := []Effect{Mark{t, MarkCommand, settingsLabel(r.spec.Settings)}}
	if r.until == nil {
		return effects, over
	}
	return effects, goesOn
}

func (r *setRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	return awaited(m, f, r.until, r.wait.Since, r.within)
}

// awaited evaluates a condition that is waited for since a time, for a time. A unit is not blamed for readings
// that do not come: when the condition cannot be told, the wait goes on for as long as an instrument may be
// silent, and then counts as lost.
func awaited(m *Machine, f trace.Frame, until *condition.Condition, since, within float64) ([]Effect, verdict) {
	truth := condition.False
	if until != nil {
		truth = until.Evaluate(m.sample(f))
	}
	past := f.T - since
	switch {
	case truth == condition.True:
		return []Effect{Mark{f.T, MarkCondition, until.Text}}, over
	case within == 0 || past <= within:
		return nil, goesOn
	case truth == condition.False || until != nil && until.Filling():
		return nil, timedOut
	case past > within+m.program.LostAfter:
		return nil, lost
	}
	return nil, goesOn
}

func (r *setRunner) progress(m *Machine) (share, left float64, detail string) {
	if r.until == nil {
		return 0, 0, ""
	}
	return min((m.state.Now-r.wait.Since)/r.within, 1), 0, "until " + r.until.Text
}

// shifted moves what conditions remember; nil ones are left out.
func shifted(s float64, conditions ...*condition.Condition) {
	for _, c := range conditions {
		if c != nil {
			c.Shift(s)
		}
	}
}

func settingsLabel(settings []procedure.Setting) string {
	label := ""
	for i, s := range settings {
		if i > 0 {
			label += ", "
		}
		label += s.String()
	}
	return label
}
