package stage

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
)

// Resumable tells whether the run can go on after an interruption, or why it cannot.
func (m *Machine) Resumable() error {
	switch {
	case m.state.Finished:
		return fmt.Errorf("it had ended")
	case m.state.Stage < 0:
		return fmt.Errorf("it had not begun")
	case m.ByInstrument():
		return fmt.Errorf("an instrument played %s by itself, and nobody knows how far it came",
			m.program.Stages[m.Stage()].Name)
	}
	return nil
}

// Away tells whether nobody looks after the run now: its outputs are off until it comes back.
func (m *Machine) Away() bool { return m.state.Away }

// ByInstrument tells whether instruments act by programs of their own now.
func (m *Machine) ByInstrument() bool {
	r, ok := m.runner().(Delegating)
	return ok && r.ByInstrument() && !m.state.Finished
}

// onInterrupted stops the run's clock at the instant since when nobody looked after it.
func (m *Machine) onInterrupted(e Interrupted) []Effect {
	if m.state.Away {
		return nil
	}
	m.state.Held = m.state.Paused
	if !m.state.Paused {
		m.state.PausedT = e.T
	}
	m.state.Owed = slices.Contains(m.state.Outstanding, false)
	m.state.Paused, m.state.Away, m.state.Outstanding = true, true, nil
	m.state.Unwatched.Last = -1
	m.forget()
	return []Effect{NewMark(e.T, record.MarkBreak, e.Why)}
}

// forget has guards begin anew: what held before says nothing about what comes.
func (m *Machine) forget() {
	for i, g := range m.guards {
		g.Reset()
		m.state.Unknown[i] = -1
	}
}

// onReturned goes on: what was in force is set again, loads and sources in the order in which they are safely
// switched on.
func (m *Machine) onReturned(e Returned) []Effect {
	if !m.state.Away {
		return nil
	}
	dt := e.T - m.state.PausedT
	m.forget()
	m.state.Away, m.state.Paused = false, m.state.Held
	m.state.AwayFor += dt
	if !m.state.Held { // what somebody had paused stays so
		m.shift(dt)
	}
	m.state.Now = e.T
	effects := []Effect{NewMark(e.T, record.MarkBreak, quantity.Sprintf("goes on after %.4g s", dt))}
	if r, ok := m.runner().(Asking); ok {
		effects = append(effects, r.Asked()...)
	}
	settings := m.inForce()
	if r, ok := m.runner().(Pausing); ok && !m.state.Held {
		settings = replaced(settings, r.Resumed())
	}
	owed := m.state.Owed
	m.state.Owed = false
	if len(settings) == 0 && !owed {
		return effects
	}
	m.sidelong = !owed
	return append(effects, Command{Settings: settings})
}

// replaced are settings of which some are to be others: those of a stage that goes on otherwise than it was.
func replaced(settings, by []procedure.Setting) []procedure.Setting {
	settings = slices.DeleteFunc(settings, func(s procedure.Setting) bool {
		return slices.ContainsFunc(by, func(b procedure.Setting) bool { return b.Column() == s.Column() })
	})
	settings = append(settings, by...)
	procedure.InSafeOrder(settings)
	return settings
}

// inForce lists what was set, in the order in which it is set again: modes, levels, then outputs, sources
// before loads. What was off stays off.
func (m *Machine) inForce() []procedure.Setting {
	var settings []procedure.Setting
	for _, s := range m.state.InForce {
		if s.Quantity == seats.Output && s.Word != seats.On {
			continue
		}
		settings = append(settings, s)
	}
	slices.SortFunc(settings, func(a, b procedure.Setting) int {
		return cmp.Or(procedure.SafeBefore(a, b), strings.Compare(a.Column(), b.Column()))
	})
	return settings
}
