package stage

import (
	"fmt"

	"usherbench/core/procedure"
	"usherbench/core/record"
)

// mostJumps bounds how often one stage may lead elsewhere, so that no run goes round for ever.
const mostJumps = 100

// mostControls bounds the stages that are passed without anything being done, in one go.
const mostControls = 1_000_000

// follow goes on after a runner's answer: to the next stage, to another, to the end, or not at all.
func (m *Machine) follow(effects []Effect, v Verdict) []Effect {
	m.note(effects)
	switch v {
	case Over:
		return m.enter(effects, m.state.Stage+1)
	case Elsewhere:
		return m.enter(effects, m.to)
	case TimedOut:
		return m.giveUp(effects)
	case Lost:
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
			effects = append(effects, NewMark(t, record.MarkStageEnd, m.program.Stages[from].Name))
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
			s := m.program.Stages[index]
			effects = append(effects, MarkAbout(t, record.MarkStage, s.Name, record.Began{Stage: s.Kind(), Index: index}))
			m.ask(index)
			if s.State != "" {
				effects = append(effects, MarkAbout(t, record.MarkState, s.State, record.State{State: s.State, At: t}))
			}
		}
		entered, v := m.runner().Enter(m)
		m.note(entered)
		effects = append(effects, entered...)
		switch v {
		case Over:
			index++
		case Elsewhere:
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
	reason := fmt.Sprintf("stage %q: not within %s", s.Name, Seconds(s.Within))
	switch {
	case m.why != "":
		reason = fmt.Sprintf("stage %q: %s", s.Name, m.why)
	case s.Until != "":
		reason = fmt.Sprintf("stage %q: %s did not hold within %s", s.Name, s.Until, Seconds(s.Within))
	}
	m.why = ""
	effects = append(effects, NewMark(t, record.MarkTimeout, reason))
	again := m.state.Try < s.Tries
	if l, ok := m.runner().(Leaving); ok && (again || s.Else != procedure.ElseFail) {
		left := l.Leave()
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
	effects = append(effects, NewMark(m.state.Now, record.MarkTry, fmt.Sprintf("%s, try %d of %d", s.Name, m.state.Try,
		s.Tries)))
	entered, v := m.runner().Enter(m)
	return append(effects, m.follow(entered, v)...)
}
