package stage

import (
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/figure"
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
		return append(effects, m.finish(m.state.Now, Aborted, fmt.Sprintf("stage %q: %s cannot be told, its readings are missing", s.Name, what))...)
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
	if l, ok := m.runner().(leaving); ok && s.Else != procedure.ElseFail {
		left := l.leave()
		m.note(left)
		effects = append(effects, left...)
	}
	if m.state.Try < s.Tries {
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

// idle has the methods of a runner that does nothing with an event.
type idle struct{}

func (idle) applied(*Machine, float64) ([]Effect, verdict)   { return nil, goesOn }
func (idle) frame(*Machine, trace.Frame) ([]Effect, verdict) { return nil, goesOn }
func (idle) progress(*Machine) (share, left float64, detail string) {
	return 0, 0, ""
}
func (idle) shift(float64)     {}
func (idle) save() any         { return nil }
func (idle) load([]byte) error { return nil }

// repeatRunner begins a pass of a loop, or leaves it.
type repeatRunner struct {
	idle
	spec  *procedure.Repeat
	until *condition.Condition
	wait  wait
}

func (r *repeatRunner) enter(m *Machine) ([]Effect, verdict) {
	head := m.state.Stage
	switch passes := m.state.Passes[head]; {
	case passes == 0 || r.until == nil && passes < r.spec.Times:
		return r.pass(m)
	case passes >= r.spec.Times:
		return r.leave(m)
	}
	r.until.Reset()
	r.wait = wait{Since: m.state.Now}
	return nil, goesOn
}

func (r *repeatRunner) pass(m *Machine) ([]Effect, verdict) {
	head := m.state.Stage
	m.state.Passes[head]++
	return []Effect{Mark{m.state.Now, MarkLoop, fmt.Sprintf("%s, pass %d of %d", m.program.Stages[head].Name, m.state.Passes[head], r.spec.Times)}}, over
}

func (r *repeatRunner) leave(m *Machine) ([]Effect, verdict) {
	delete(m.state.Passes, m.state.Stage)
	m.to = r.spec.End
	return nil, elsewhere
}

// frame judges until, between two passes.
func (r *repeatRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	switch decided(m, f, r.until) {
	case condition.True:
		effects, v := r.leave(m)
		return append([]Effect{Mark{f.T, MarkCondition, r.until.Text}}, effects...), v
	case condition.False:
		return r.pass(m)
	}
	if !r.until.Filling() && f.T-r.wait.Since > m.program.LostAfter {
		return nil, lost
	}
	return nil, goesOn
}

// decided evaluates a condition of which one frame is enough, unless it looks back.
func decided(m *Machine, f trace.Frame, c *condition.Condition) condition.Truth {
	return c.Evaluate(m.sample(f))
}

func (r *repeatRunner) shift(s float64) { r.wait.Since += s; shifted(s, r.until) }
func (r *repeatRunner) save() any       { return r.wait.saved(r.until) }
func (r *repeatRunner) load(data []byte) error {
	return r.wait.load(data, r.until)
}

// againRunner leads back to the head of its loop.
type againRunner struct {
	idle
	spec *procedure.Again
}

func (r *againRunner) enter(m *Machine) ([]Effect, verdict) {
	m.to = r.spec.Head
	return nil, elsewhere
}

// skipRunner leads over the stages that were not chosen.
type skipRunner struct {
	idle
	spec *procedure.Skip
}

func (r *skipRunner) enter(m *Machine) ([]Effect, verdict) {
	m.to = r.spec.To
	return nil, elsewhere
}

// whenRunner chooses.
type whenRunner struct {
	idle
	spec *procedure.When
	when *condition.Condition
	wait wait
}

func (r *whenRunner) enter(m *Machine) ([]Effect, verdict) {
	r.wait = wait{Since: m.state.Now}
	if r.when != nil {
		r.when.Reset()
		return nil, goesOn
	}
	return []Effect{Need{*r.spec.Figure}}, goesOn
}

func (r *whenRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.when == nil {
		return nil, goesOn
	}
	switch decided(m, f, r.when) {
	case condition.True:
		return []Effect{Mark{f.T, MarkCondition, r.when.Text}}, over
	case condition.False:
		return r.otherwise(m, f.T, "not "+r.when.Text)
	}
	if !r.when.Filling() && f.T-r.wait.Since > m.program.LostAfter {
		return nil, lost
	}
	return nil, goesOn
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

func (r *whenRunner) shift(s float64) { r.wait.Since += s; shifted(s, r.when) }
func (r *whenRunner) save() any       { return r.wait.saved(r.when) }
func (r *whenRunner) load(data []byte) error {
	return r.wait.load(data, r.when)
}

// Needs is the figure that the current stage waits for; nil if it waits for none. A run that goes on after a restart asks for it again.
func (m *Machine) Needs() *figure.Request {
	if r, ok := m.runner().(*whenRunner); ok && r.when == nil {
		return r.spec.Figure
	}
	return nil
}
