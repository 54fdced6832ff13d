package stage

import (
	"fmt"
	"math"

	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
)

// byHand takes what people do to a run.
func (m *Machine) byHand(e Event) []Effect {
	switch e := e.(type) {
	case Answered:
		return m.onAnswer(e)
	case Figured:
		if r, ok := m.runner().(Figuring); ok {
			m.state.Now = math.Max(m.state.Now, e.T)
			return m.follow(r.Figured(m, e))
		}
	case Noted:
		return []Effect{NewMark(e.T, record.MarkNote, e.By+": "+e.Text)}
	case Stated:
		words := e.State + ", said by " + e.By
		if late := e.T - e.At; late > 0 {
			words += quantity.Sprintf(" %.3g s later", late)
		}
		return []Effect{MarkAbout(e.T, record.MarkState, words, record.State{State: e.State, At: e.At})}
	case Requested:
		m.put(e.Column, asked{Stage: -1, Value: e.Value})
	case Paused:
		return m.onPause(e)
	case Resumed:
		return m.onResume(e)
	case Skipped:
		return m.onSkip(e)
	case Interrupted:
		return m.onInterrupted(e)
	case Returned:
		return m.onReturned(e)
	case Extended:
		if r, ok := m.runner().(Extending); ok {
			r.Extend(e.Seconds)
			return []Effect{NewMark(e.T, record.MarkHand, fmt.Sprintf("%s changed the length of %s by %+g s", e.By,
				m.program.Stages[m.state.Stage].Name, e.Seconds))}
		}
	}
	return nil
}

// shift has everything that counts time go on after a pause where it stood.
func (m *Machine) shift(dt float64) {
	m.state.StageT += dt
	m.runner().Shift(dt)
	for column, a := range m.state.Asked {
		a.Since += dt
		m.state.Asked[column] = a
	}
}

func (m *Machine) onPause(e Paused) []Effect {
	if m.state.Paused {
		return nil
	}
	m.state.Paused, m.state.PausedT = true, e.T
	effects := []Effect{NewMark(e.T, record.MarkHand, "paused by "+e.By)}
	if r, ok := m.runner().(Pausing); ok {
		if settings := r.Paused(); settings != nil {
			effects = append(effects, m.aside(settings))
		}
	}
	return effects
}

func (m *Machine) onResume(e Resumed) []Effect {
	if !m.state.Paused || m.state.Away { // a run that is away goes on when it comes back, with what was in force
		return nil
	}
	dt := e.T - m.state.PausedT
	m.state.Paused = false
	m.state.Now = e.T
	m.shift(dt)
	effects := []Effect{NewMark(e.T, record.MarkHand, quantity.Sprintf("resumed by %s after %.4g s", e.By, dt))}
	if r, ok := m.runner().(Pausing); ok {
		if settings := r.Resumed(); settings != nil {
			effects = append(effects, m.aside(settings))
		}
	}
	return effects
}

// onSkip ends the stage as if it had reached what it waits for. A paused run goes on with that.
func (m *Machine) onSkip(e Skipped) []Effect {
	if m.state.Away || procedure.Control(m.program.Stages[m.state.Stage].Action) {
		return nil
	}
	m.state.Paused = false
	m.state.Now = math.Max(m.state.Now, e.T)
	effects := []Effect{NewMark(e.T, record.MarkHand, e.By+" skipped the rest of "+m.program.Stages[m.state.Stage].Name)}
	if r, ok := m.runner().(Leaving); ok {
		effects = append(effects, r.Leave()...)
	}
	for i := range m.state.Outstanding { // whose acknowledgement is for a stage that is gone
		m.state.Outstanding[i] = true
	}
	return m.follow(effects, Over)
}
