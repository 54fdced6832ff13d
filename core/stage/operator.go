package stage

import (
	"encoding/json"
	"fmt"

	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// askRunner waits for the operator.
type askRunner struct {
	idle
	name   string
	spec   *procedure.Ask
	within float64
	wait   wait
}

func (r *askRunner) enter(m *Machine) ([]Effect, verdict) {
	r.wait = wait{Since: m.state.Now}
	return r.asked(), goesOn
}

// asked gives the prompt that is waited for.
func (r *askRunner) asked() []Effect { return []Effect{r.prompt()} }

func (r *askRunner) prompt() Ask {
	a := Ask{Ask: *r.spec, T: r.wait.Since, Stage: r.name}
	if r.within > 0 {
		a.Until = r.wait.Since + r.within
	}
	return a
}

func (r *askRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.within > 0 && f.T-r.wait.Since > r.within {
		m.why = fmt.Sprintf("nobody answered within %s", seconds(r.within))
		return []Effect{Dismiss{}}, timedOut
	}
	return nil, goesOn
}

// answered takes the answer; a prompt to confirm that is answered with no has not been reached.
func (r *askRunner) answered(m *Machine, e Answered) ([]Effect, verdict) {
	x, err := answerOf(r.spec, e.Text)
	if err != nil {
		return nil, goesOn
	}
	name := r.spec.Into
	if name == "" {
		name = r.name
	}
	m.state.Replies[name] = e.Text
	if r.spec.Form == procedure.AskNumber {
		m.state.Answers[r.spec.Into] = x
	}
	effects := []Effect{Dismiss{}, Mark{e.T, MarkAnswer, fmt.Sprintf("%s answered %s: %s %s", e.By, name, e.Text,
		r.spec.Unit)}}
	if r.spec.Form == procedure.AskConfirm && e.Text == "no" {
		m.why = e.By + " answered no"
		return effects, timedOut
	}
	return effects, over
}

func (r *askRunner) leave() []Effect { return []Effect{Dismiss{}} }

func (r *askRunner) progress(m *Machine) (share, left float64, detail string) {
	if r.within <= 0 {
		return 0, 0, "waits for the operator"
	}
	past := m.state.Now - r.wait.Since
	return min(past/r.within, 1), 0, "waits for the operator"
}

func (r *askRunner) shift(s float64)        { r.wait.Since += s }
func (r *askRunner) save() any              { return r.wait }
func (r *askRunner) load(data []byte) error { return json.Unmarshal(data, &r.wait) }

// signalRunner tells the operator something.
type signalRunner struct {
	stateless
	spec *procedure.Signal
}

func (r *signalRunner) enter(m *Machine) ([]Effect, verdict) {
	return []Effect{Signal{*r.spec, m.state.Now}, Mark{m.state.Now, MarkSignal, r.spec.Message}}, over
}

// acquireRunner averages readings into a row.
type acquireRunner struct {
	idle
	name string
	spec *procedure.Acquire
	row  acquireState
}

type acquireState struct {
	Since  float64    `json:"since"` // when the present reading began
	Done   int        `json:"done"`
	Frames keptFrames `json:"frames,omitempty"` // only in a snapshot
	frames []trace.Frame
}

func (r *acquireRunner) enter(m *Machine) ([]Effect, verdict) {
	r.row = acquireState{Since: m.state.Now}
	return nil, goesOn
}

func (r *acquireRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if f.T < r.row.Since {
		return nil, goesOn // the next reading has not begun
	}
	r.row.frames = append(r.row.frames, f)
	past := f.T - r.row.frames[0].T
	if past < r.spec.Average || len(r.row.frames) < fewestReadings && past < longestAverage*r.spec.Average {
		return nil, goesOn
	}
	p := m.point(r.name, r.row.frames, r.spec.Columns)
	p.Row = r.spec.Row
	r.row.Done++
	r.row.Since, r.row.frames = max(r.row.Since+r.spec.Every, f.T), nil
	effects := []Effect{Point{p}, Mark{f.T, MarkPointDone, fmt.Sprintf("%s, reading %d of %d", r.spec.Row, r.row.Done,
		r.spec.Times)}}
	if r.row.Done == r.spec.Times {
		return effects, over
	}
	return effects, goesOn
}

func (r *acquireRunner) progress(*Machine) (share, left float64, detail string) {
	n := float64(r.spec.Times)
	return float64(r.row.Done) / n, (n - float64(r.row.Done)) * max(r.spec.Every, r.spec.Average),
		fmt.Sprintf("%d of %d readings", r.row.Done, r.spec.Times)
}

func (r *acquireRunner) shift(s float64) { r.row.Since, r.row.frames = r.row.Since+s, nil }

func (r *acquireRunner) save() any {
	s := r.row
	s.Frames = keptOf(s.frames)
	return s
}

func (r *acquireRunner) load(data []byte) error {
	if err := json.Unmarshal(data, &r.row); err != nil {
		return err
	}
	r.row.frames, r.row.Frames = r.row.Frames.frames(), nil
	return nil
}
