package stage

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// mostJumps bounds how often one stage may lead elsewhere, so that no run goes round for ever.
const mostJumps = 100

// mostControls bounds the stages that are passed without anything being done, in one go.
const mostControls = 1_000_000

// follow goes on after a runner's answer: to the next stage, to another, to the end, or not at all.
func (m *Machine) follow(effects []Effect, v verdict) []Effect {
	m.note(effects)
	switch v {
	case over:
		return m.enter(effects, m.state.Stage+1)
	case elsewhere:
		return m.enter(effects, m.to)
	case timedOut:
		return m.giveUp(effects)
	case lost:
		s := m.program.Stages[m.state.Stage]
		what := s.Until
		if what == "" {
			what = "what it depends on"
		}
		return append(effects,
			m.finish(m.state.Now, Aborted, fmt.Sprintf("stage %q: %s cannot be told, its readings are missing", s.Name,
				what))...)
	}
	return effects
}

// enter goes to a stage, and through those that are over at once.
func (m *Machine) enter(effects []Effect, index int) []Effect {
	for range mostControls {
		t := m.state.Now
		from := m.state.Stage
		if from >= 0 && !procedure.Control(m.program.Stages[from].Action) {
			effects = append(effects, Mark{t, MarkStageEnd, m.program.Stages[from].Name})
		}
		m.state.Stage = index
		if loop, ok := m.loopAt(index); ok && (from < index || from >= loop.End) {
			delete(m.state.Passes, index) // entered from outside: the passes are counted anew
		}
		if index >= len(m.stages) {
			m.state.Stage = len(m.stages) - 1
			return append(effects, m.finish(t, Done, "")...)
		}
		m.state.StageT, m.state.Try = t, 1
		m.state.Entry++
		if !procedure.Control(m.program.Stages[index].Action) {
			effects = append(effects, Mark{t, MarkStage, m.program.Stages[index].Name})
		}
		entered, v := m.runner().enter(m)
		m.note(entered)
		effects = append(effects, entered...)
		switch v {
		case over:
			index++
		case elsewhere:
			index = m.to
		default:
			return effects
		}
	}
	return append(effects, m.finish(m.state.Now, Aborted, "the procedure goes round without doing anything")...)
}

func (m *Machine) loopAt(index int) (*procedure.Repeat, bool) {
	if index >= len(m.stages) {
		return nil, false
	}
	loop, ok := m.program.Stages[index].Action.(*procedure.Repeat)
	return loop, ok
}

// giveUp tries again, or does what the stage's else says.
func (m *Machine) giveUp(effects []Effect) []Effect {
	s, t := m.program.Stages[m.state.Stage], m.state.Now
	reason := fmt.Sprintf("stage %q: not within %s", s.Name, seconds(s.Within))
	switch {
	case m.why != "":
		reason = fmt.Sprintf("stage %q: %s", s.Name, m.why)
	case s.Until != "":
		reason = fmt.Sprintf("stage %q: %s did not hold within %s", s.Name, s.Until, seconds(s.Within))
	}
	m.why = ""
	effects = append(effects, Mark{t, MarkTimeout, reason})
	again := m.state.Try < s.Tries
	if l, ok := m.runner().(leaving); ok && (again || s.Else != procedure.ElseFail) {
		left := l.leave()
		m.note(left)
		effects = append(effects, left...)
	}
	if again {
		return m.tryAgain(effects, s)
	}
	switch s.Else {
	case procedure.ElseNext:
		return m.enter(effects, m.state.Stage+1)
	case procedure.ElseGoto:
		if m.state.Jumps[m.state.Stage]++; m.state.Jumps[m.state.Stage] > mostJumps {
			return append(effects, m.finish(t, Failure, fmt.Sprintf("%s, and it has led back %d times", reason, mostJumps))...)
		}
		return m.enter(effects, s.Goto)
	case procedure.ElseStop:
		return append(effects, m.finish(t, Done, reason)...)
	}
	return append(effects, m.finish(t, Failure, reason)...)
}

// tryAgain begins the stage anew.
func (m *Machine) tryAgain(effects []Effect, s procedure.Stage) []Effect {
	m.state.Try++
	m.state.StageT = m.state.Now
	m.state.Entry++
	effects = append(effects, Mark{m.state.Now, MarkTry, fmt.Sprintf("%s, try %d of %d", s.Name, m.state.Try, s.Tries)})
	entered, v := m.runner().enter(m)
	return append(effects, m.follow(entered, v)...)
}

// idle has the methods of a runner that does nothing with an event, stateless those of one that has nothing to
// remember either.
type (
	idle      struct{}
	stateless struct{ idle }
)

func (idle) applied(*Machine, float64) ([]Effect, verdict)   { return nil, goesOn }
func (idle) frame(*Machine, trace.Frame) ([]Effect, verdict) { return nil, goesOn }
func (idle) progress(*Machine) (share, left float64, detail string) {
	return 0, 0, ""
}
func (stateless) shift(float64)     {}
func (stateless) save() any         { return nil }
func (stateless) load([]byte) error { return nil }

// repeatRunner begins a pass of a loop, or leaves it.
type repeatRunner struct {
	idle
	waiting
	spec *procedure.Repeat
	// judging is which of the figures that end the loop is being computed, from 1; 0: none.
	judging int
}

func (r *repeatRunner) enter(m *Machine) ([]Effect, verdict) {
	head := m.state.Stage
	r.judging = 0
	passes := m.state.Passes[head]
	if passes > 0 && passes >= r.spec.Times {
		return r.leave(m)
	}
	r.begin(m.state.Now)
	switch {
	case passes == 0 || r.until == nil && len(r.spec.Enough) == 0:
		return r.pass(m)
	case len(r.spec.Enough) > 0:
		r.judging = 1
		return r.asked(), goesOn
	}
	return nil, goesOn
}

// asked gives the figure that is waited for.
func (r *repeatRunner) asked() []Effect {
	if r.judging == 0 {
		return nil
	}
	return []Effect{Need{r.spec.Enough[r.judging-1].Figure}}
}

// figured leaves the loop when a figure says that it is enough. One that is undetermined does not.
func (r *repeatRunner) figured(m *Machine, e Figured) ([]Effect, verdict) {
	if r.judging == 0 {
		return nil, goesOn
	}
	band := r.spec.Enough[r.judging-1]
	f := e.Result
	if f.Undetermined == nil && f.Value >= band.Min && f.Value <= band.Max {
		effects, v := r.leave(m)
		return append([]Effect{Mark{e.T, MarkCondition, fmt.Sprintf("enough: %s is %.6g %s", f.ID, f.Value, f.Unit)}},
			effects...), v
	}
	if r.judging < len(r.spec.Enough) {
		r.judging++
		return r.asked(), goesOn
	}
	r.judging = 0
	return r.pass(m)
}

func (r *repeatRunner) save() any {
	return repeatState{Waiting: r.waiting.save(), Judging: r.judging}
}

// repeatState is what a loop remembers between two passes.
type repeatState struct {
	Waiting any `json:"waiting"`
	Judging int `json:"judging,omitempty"`
}

func (r *repeatRunner) load(data []byte) error {
	var s struct {
		Waiting json.RawMessage `json:"waiting"`
		Judging int             `json:"judging"`
	}
	if err := json.Unmarshal(data, &s); err != nil {
		return err
	}
	r.judging = min(s.Judging, len(r.spec.Enough))
	return r.waiting.load(s.Waiting)
}

func (r *repeatRunner) pass(m *Machine) ([]Effect, verdict) {
	head := m.state.Stage
	m.state.Passes[head]++
	return []Effect{Mark{m.state.Now, MarkLoop, fmt.Sprintf("%s, pass %d of %d", m.program.Stages[head].Name,
		m.state.Passes[head], r.spec.Times)}}, over
}

func (r *repeatRunner) leave(m *Machine) ([]Effect, verdict) {
	delete(m.state.Passes, m.state.Stage)
	m.to = r.spec.End
	return nil, elsewhere
}

// frame judges until, between two passes.
func (r *repeatRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.until == nil {
		return nil, goesOn // a figure is being computed
	}
	switch truth, v := r.decide(m, f); truth {
	case condition.True:
		effects, v := r.leave(m)
		return append([]Effect{Mark{f.T, MarkCondition, r.until.Text}}, effects...), v
	case condition.False:
		return r.pass(m)
	default:
		return nil, v
	}
}

// decide evaluates a condition of which one frame is enough, unless it looks back. While it is not known the
// stage goes on, and is lost when that is for readings that do not come.
func (w *waiting) decide(m *Machine, f trace.Frame) (condition.Truth, verdict) {
	truth := w.until.Evaluate(m.sample(f))
	if truth == condition.Unknown && !w.until.Filling() && f.T-w.wait.Since > m.program.LostAfter {
		return truth, lost
	}
	return truth, goesOn
}

// jumpRunner only leads elsewhere: back to the head of a loop, or over the stages that were not chosen.
type jumpRunner struct {
	stateless
	to int
}

func (r *jumpRunner) enter(m *Machine) ([]Effect, verdict) {
	m.to = r.to
	return nil, elsewhere
}

// whenRunner chooses, by a condition or by a figure.
type whenRunner struct {
	idle
	waiting
	spec *procedure.When
}

func (r *whenRunner) enter(m *Machine) ([]Effect, verdict) {
	r.begin(m.state.Now)
	return r.asked(), goesOn
}

// asked gives the figure that is waited for.
func (r *whenRunner) asked() []Effect {
	if r.until != nil {
		return nil
	}
	return []Effect{Need{*r.spec.Figure}}
}

func (r *whenRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.until == nil {
		return nil, goesOn // the figure is still being computed
	}
	switch truth, v := r.decide(m, f); truth {
	case condition.True:
		return []Effect{Mark{f.T, MarkCondition, r.until.Text}}, over
	case condition.False:
		return r.otherwise(m, f.T, "not "+r.until.Text)
	default:
		return nil, v
	}
}

func (r *whenRunner) otherwise(m *Machine, t float64, why string) ([]Effect, verdict) {
	m.to = r.spec.Otherwise
	return []Effect{Mark{t, MarkCondition, why}}, elsewhere
}

// figured chooses by a figure; one that is undetermined does not choose the stages.
func (r *whenRunner) figured(m *Machine, e Figured) ([]Effect, verdict) {
	f := e.Result
	if f.Undetermined != nil {
		return r.otherwise(m, e.T, fmt.Sprintf("%s is undetermined: %s", f.ID, f.Undetermined.Sentence))
	}
	words := fmt.Sprintf("%s is %.6g %s", f.ID, f.Value, f.Unit)
	if f.Value < r.spec.Min || f.Value > r.spec.Max || math.IsNaN(f.Value) {
		return r.otherwise(m, e.T, words)
	}
	return []Effect{Mark{e.T, MarkCondition, words}}, over
}
