package stage

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/procedure"
	"usherbench/core/quantity"
)

// byHand takes what people do to a run.
func (m *Machine) byHand(e Event) []Effect {
	switch e := e.(type) {
	case Answered:
		return m.onAnswer(e)
	case Figured:
		if r, ok := m.runner().(figuring); ok {
			m.state.Now = math.Max(m.state.Now, e.T)
			return m.follow(r.figured(m, e))
		}
	case Noted:
		return []Effect{Mark{e.T, MarkNote, e.By + ": " + e.Text}}
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
		if r, ok := m.runner().(extending); ok {
			r.extend(e.Seconds)
			return []Effect{Mark{e.T, MarkHand, fmt.Sprintf("%s changed the length of %s by %+g s", e.By,
				m.program.Stages[m.state.Stage].Name, e.Seconds)}}
		}
	}
	return nil
}

func (m *Machine) onPause(e Paused) []Effect {
	if m.state.Paused {
		return nil
	}
	m.state.Paused, m.state.PausedT = true, e.T
	effects := []Effect{Mark{e.T, MarkHand, "paused by " + e.By}}
	if r, ok := m.runner().(pausing); ok {
		if settings := r.paused(); settings != nil {
			effects = append(effects, m.aside(settings))
		}
	}
	return effects
}

func (m *Machine) onResume(e Resumed) []Effect {
	if !m.state.Paused {
		return nil
	}
	dt := e.T - m.state.PausedT
	m.state.Paused = false
	m.state.StageT += dt
	m.state.Now = e.T
	m.runner().shift(dt)
	effects := []Effect{Mark{e.T, MarkHand, fmt.Sprintf("resumed by %s after %.4g s", e.By, dt)}}
	if r, ok := m.runner().(pausing); ok {
		if settings := r.resumed(); settings != nil {
			effects = append(effects, m.aside(settings))
		}
	}
	return effects
}

// onSkip ends the stage as if it had reached what it waits for. A paused run goes on with that.
func (m *Machine) onSkip(e Skipped) []Effect {
	if procedure.Control(m.program.Stages[m.state.Stage].Action) {
		return nil
	}
	m.state.Paused = false
	m.state.Now = math.Max(m.state.Now, e.T)
	effects := []Effect{Mark{e.T, MarkHand, e.By + " skipped the rest of " + m.program.Stages[m.state.Stage].Name}}
	if r, ok := m.runner().(leaving); ok {
		effects = append(effects, r.leave()...)
	}
	m.state.Pending, m.state.Aside = false, false
	return m.follow(effects, over)
}

func (m *Machine) onAnswer(e Answered) []Effect {
	r, ok := m.runner().(answering)
	if !ok || m.state.Finished {
		return nil
	}
	m.state.Now = math.Max(m.state.Now, e.T)
	return m.follow(r.answered(m, e))
}

// Asking is the prompt that waits for an answer; nil if there is none.
func (m *Machine) Asking() *procedure.Ask {
	if m.state.Finished || m.state.Stage < 0 {
		return nil
	}
	if a, ok := m.program.Stages[m.state.Stage].Action.(*procedure.Ask); ok {
		return a
	}
	return nil
}

// CheckAnswer tells whether a text answers the present prompt, and what is wrong with it otherwise.
func (m *Machine) CheckAnswer(text string) error {
	a := m.Asking()
	if a == nil {
		return fmt.Errorf("nothing is asked now")
	}
	_, err := answerOf(a, text)
	return err
}

// answerOf reads an answer; of a number its value in SI.
func answerOf(a *procedure.Ask, text string) (float64, error) {
	text = strings.TrimSpace(text)
	switch a.Form {
	case procedure.AskConfirm:
		if text != "yes" && text != "no" {
			return 0, fmt.Errorf("%q does not answer it; say yes or no", text)
		}
	case procedure.AskChoice:
		if !slices.Contains(a.Choice, text) {
			return 0, fmt.Errorf("%q is not among the choices: %s", text, strings.Join(a.Choice, ", "))
		}
	case procedure.AskText, procedure.AskSerial:
		if text == "" {
			return 0, fmt.Errorf("the answer is empty")
		}
	case procedure.AskNumber:
		return numberOf(a, text)
	}
	return 0, nil
}

func numberOf(a *procedure.Ask, text string) (float64, error) {
	unit, err := a.AnswerUnit()
	if err != nil {
		return 0, err
	}
	x, err := strconv.ParseFloat(strings.ReplaceAll(text, "−", "-"), 64)
	if err == nil {
		x *= unit.Factor
	} else {
		q, qerr := quantity.Parse(text)
		if qerr != nil || q.Dim != unit.Dim {
			return 0, fmt.Errorf("%q is not a number in %s", text, a.Unit)
		}
		x = q.Value
	}
	shown := x / unit.Factor
	if math.IsNaN(x) || math.IsInf(x, 0) || a.Min != nil && shown < *a.Min || a.Max != nil && shown > *a.Max {
		return 0, fmt.Errorf("%g %s is outside %s", shown, a.Unit, boundsOf(a))
	}
	return x, nil
}

func boundsOf(a *procedure.Ask) string {
	switch {
	case a.Min != nil && a.Max != nil:
		return fmt.Sprintf("%g to %g %s", *a.Min, *a.Max, a.Unit)
	case a.Min != nil:
		return fmt.Sprintf("from %g %s", *a.Min, a.Unit)
	case a.Max != nil:
		return fmt.Sprintf("up to %g %s", *a.Max, a.Unit)
	}
	return "what is possible"
}

// Adjust goes on with a program that was resolved with another value of an adjustable parameter. Setpoints in
// force that depend on it are set anew. It fails when the change would alter the course of the procedure.
func (m *Machine) Adjust(program *procedure.Program, t float64, by, what string) ([]Effect, error) {
	if m.state.Finished {
		return nil, fmt.Errorf("the run is over")
	}
	if len(program.Stages) != len(m.program.Stages) || len(program.Guards) != len(m.program.Guards) {
		return nil, fmt.Errorf("the change alters the course of the procedure; it can only be given at the start")
	}
	for i, s := range program.Stages {
		if s.Kind() != m.program.Stages[i].Kind() {
			return nil, fmt.Errorf("the change alters the course of the procedure; it can only be given at the start")
		}
	}
	data, err := m.Snapshot()
	if err != nil {
		return nil, err
	}
	next, err := Restore(program, data)
	if err != nil {
		return nil, err
	}
	var changed []procedure.Setting
	for column, i := range m.state.SetBy {
		before, was := settingOf(m.program.Stages[i], column)
		after, is := settingOf(program.Stages[i], column)
		if was && is && before.Value != after.Value && m.state.Setpoints[column] == before.Value {
			changed = append(changed, after)
		}
	}
	slices.SortFunc(changed, func(a, b procedure.Setting) int { return strings.Compare(a.Column(), b.Column()) })
	setBy := maps.Clone(m.state.SetBy)
	*m = *next
	effects := []Effect{Mark{t, MarkHand, by + " changed " + what}}
	if len(changed) == 0 || m.state.Pending {
		return effects, nil
	}
	effects = append(effects, m.aside(changed))
	maps.Copy(m.state.SetBy, setBy) // the stage that set it first still stands for it
	return effects, nil
}

// aside commands something that is not the stage's own doing.
func (m *Machine) aside(settings []procedure.Setting) Command {
	c := Command{Settings: settings}
	m.note([]Effect{c})
	m.state.Aside = true
	return c
}

// settingOf finds the one value that a stage sets a column to.
func settingOf(s procedure.Stage, column string) (procedure.Setting, bool) {
	var settings []procedure.Setting
	switch a := s.Action.(type) {
	case *procedure.Set:
		settings = a.Settings
	case *procedure.Drive:
		settings = a.Settings
	}
	for _, x := range settings {
		if x.Column() == column && x.Word == "" {
			return x, true
		}
	}
	return procedure.Setting{}, false
}
