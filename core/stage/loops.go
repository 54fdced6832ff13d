package stage

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// repeatRunner begins a pass of a loop, or leaves it.
type repeatRunner struct {
	Idle
	Waiting
	spec *procedure.Repeat
	// judging is which of the figures that end the loop is being computed, from 1; 0: none.
	judging int
}

func (r *repeatRunner) Enter(m *Machine) ([]Effect, Verdict) {
	head := m.state.Stage
	r.judging = 0
	passes := m.state.Passes[head]
	if passes > 0 && passes >= r.spec.Times {
		return r.exit(m)
	}
	r.Begin(m.state.Now)
	switch {
	case passes == 0:
		return r.pass(m)
	case r.plain():
		if m.state.Seen {
			return r.pass(m)
		}
	case len(r.spec.Enough) > 0:
		r.judging = 1
		return r.Asked(), GoesOn
	}
	return nil, GoesOn
}

// Asked gives the figure that is waited for.
func (r *repeatRunner) Asked() []Effect {
	if r.judging == 0 {
		return nil
	}
	return []Effect{Need{r.spec.Enough[r.judging-1].Figure}}
}

// Figured leaves the loop when a figure says that it is enough. One that is undetermined does not.
func (r *repeatRunner) Figured(m *Machine, e Figured) ([]Effect, Verdict) {
	if r.judging == 0 {
		return nil, GoesOn
	}
	band := r.spec.Enough[r.judging-1]
	f := e.Result
	if f.Undetermined == nil && f.Value >= band.Min && f.Value <= band.Max {
		effects, v := r.exit(m)
		return append([]Effect{NewMark(e.T, record.MarkCondition, quantity.Sprintf("enough: %s is %.6g %s", f.ID, f.Value,
			f.Unit))},
			effects...), v
	}
	if r.judging < len(r.spec.Enough) {
		r.judging++
		return r.Asked(), GoesOn
	}
	r.judging = 0
	return r.pass(m)
}

func (r *repeatRunner) Save() any {
	return repeatState{Waiting: r.Waiting.Save(), Judging: r.judging}
}

// repeatState is what a loop remembers between two passes.
type repeatState struct {
	Waiting any `json:"waiting"`
	Judging int `json:"judging,omitempty"`
}

func (r *repeatRunner) Load(data []byte) error {
	var s struct {
		Waiting json.RawMessage `json:"waiting"`
		Judging int             `json:"judging"`
	}
	if err := json.Unmarshal(data, &s); err != nil {
		return err
	}
	r.judging = min(s.Judging, len(r.spec.Enough))
	return r.Waiting.Load(s.Waiting)
}

func (r *repeatRunner) pass(m *Machine) ([]Effect, Verdict) {
	head := m.state.Stage
	m.state.Passes[head]++
	m.state.Seen = false
	return []Effect{NewMark(m.state.Now, record.MarkLoop, fmt.Sprintf("%s, pass %d of %d", m.program.Stages[head].Name,
		m.state.Passes[head], r.spec.Times))}, Over
}

func (r *repeatRunner) exit(m *Machine) ([]Effect, Verdict) {
	delete(m.state.Passes, m.state.Stage)
	m.to = r.spec.End
	return nil, Elsewhere
}

// plain tells that nothing is judged between two passes.
func (r *repeatRunner) plain() bool { return r.Until == nil && len(r.spec.Enough) == 0 }

// Frame judges until, between two passes. Where nothing is judged it only lets the next pass begin: no two passes are
// without a frame between them, at which guards are watched and a stop is heard.
func (r *repeatRunner) Frame(m *Machine, f trace.Frame) ([]Effect, Verdict) {
	if r.plain() {
		return r.pass(m)
	}
	if r.Until == nil {
		return nil, GoesOn // a figure is being computed
	}
	switch truth, v := r.decide(m, f); truth {
	case condition.True:
		effects, v := r.exit(m)
		return append([]Effect{NewMark(f.T, record.MarkCondition, r.Until.Text)}, effects...), v
	case condition.False:
		return r.pass(m)
	default:
		return nil, v
	}
}

// decide evaluates a condition of which one frame is enough, unless it looks back. While it is not known the
// stage goes on, and is lost when that is for readings that do not come.
func (w *Waiting) decide(m *Machine, f trace.Frame) (condition.Truth, Verdict) {
	truth := w.Until.Evaluate(m.Sample(f))
	if truth == condition.Unknown && !w.Until.Filling() && f.T-w.Wait.Since > m.program.LostAfter {
		return truth, Lost
	}
	return truth, GoesOn
}

// jumpRunner only leads elsewhere: back to the head of a loop, or over the stages that were not chosen.
type jumpRunner struct {
	Stateless
	to int
}

func (r *jumpRunner) Enter(m *Machine) ([]Effect, Verdict) {
	m.to = r.to
	return nil, Elsewhere
}

// whenRunner chooses, by a condition or by a figure.
type whenRunner struct {
	Idle
	Waiting
	spec *procedure.When
}

func (r *whenRunner) Enter(m *Machine) ([]Effect, Verdict) {
	r.Begin(m.state.Now)
	return r.Asked(), GoesOn
}

// Asked gives the figure that is waited for.
func (r *whenRunner) Asked() []Effect {
	if r.Until != nil {
		return nil
	}
	return []Effect{Need{*r.spec.Figure}}
}

func (r *whenRunner) Frame(m *Machine, f trace.Frame) ([]Effect, Verdict) {
	if r.Until == nil {
		return nil, GoesOn // the figure is still being computed
	}
	switch truth, v := r.decide(m, f); truth {
	case condition.True:
		return []Effect{NewMark(f.T, record.MarkCondition, r.Until.Text)}, Over
	case condition.False:
		return r.otherwise(m, f.T, "not "+r.Until.Text)
	default:
		return nil, v
	}
}

func (r *whenRunner) otherwise(m *Machine, t float64, why string) ([]Effect, Verdict) {
	m.to = r.spec.Otherwise
	return []Effect{NewMark(t, record.MarkCondition, why)}, Elsewhere
}

// Figured chooses by a figure; one that is undetermined does not choose the stages.
func (r *whenRunner) Figured(m *Machine, e Figured) ([]Effect, Verdict) {
	f := e.Result
	if f.Undetermined != nil {
		return r.otherwise(m, e.T, fmt.Sprintf("%s is undetermined: %s", f.ID, f.Undetermined.Sentence))
	}
	words := quantity.Sprintf("%s is %.6g %s", f.ID, f.Value, f.Unit)
	if f.Value < r.spec.Min || f.Value > r.spec.Max || math.IsNaN(f.Value) {
		return r.otherwise(m, e.T, words)
	}
	return []Effect{NewMark(e.T, record.MarkCondition, words)}, Over
}
