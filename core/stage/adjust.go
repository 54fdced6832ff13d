package stage

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/core/procedure"
	"usherbench/core/record"
)

// Adjust goes on with a program that was resolved with another value of an adjustable parameter. Setpoints in
// force that depend on it are set anew. It fails when the change would alter the course of the procedure.
func (m *Machine) Adjust(program *procedure.Program, t float64, by, what string) ([]Effect, error) {
	if m.state.Finished {
		return nil, fmt.Errorf("the run is over")
	}
	if !sameCourse(program, m.program) {
		return nil, errors.New("the change alters the course of the procedure; it can only be given at the start")
	}
	data, err := m.Snapshot()
	if err != nil {
		return nil, err
	}
	next, err := Restore(program, data)
	if err != nil {
		return nil, err
	}
	changed := m.changed(program)
	setBy := maps.Clone(m.state.SetBy)
	*m = *next
	effects := []Effect{NewMark(t, record.MarkHand, by+" changed "+what)}
	if len(changed) == 0 || m.pending() {
		return effects, nil
	}
	effects = append(effects, m.aside(changed))
	maps.Copy(m.state.SetBy, setBy) // the stage that set it first still stands for it
	return m.out(effects), nil
}

// sameCourse tells whether two programs have the same stages and guards, but for their numbers.
func sameCourse(a, b *procedure.Program) bool {
	if len(a.Guards) != len(b.Guards) {
		return false
	}
	return slices.EqualFunc(a.Stages, b.Stages, func(x, y procedure.Stage) bool { return x.Kind() == y.Kind() })
}

// changed lists the setpoints in force that another program would have set to something else.
func (m *Machine) changed(program *procedure.Program) []procedure.Setting {
	var changed []procedure.Setting
	for column, i := range m.state.SetBy {
		before, was := settingOf(m.program.Stages[i], column)
		after, is := settingOf(program.Stages[i], column)
		if was && is && before.Value != after.Value && m.state.Setpoints[column] == before.Value {
			changed = append(changed, after)
		}
	}
	slices.SortFunc(changed, func(a, b procedure.Setting) int { return strings.Compare(a.Column(), b.Column()) })
	return changed
}

// aside commands something that is not the stage's own doing.
func (m *Machine) aside(settings []procedure.Setting) Command {
	c := Command{Settings: settings}
	m.note([]Effect{c})
	m.sidelong = true
	return c
}

// settingOf finds the one value that a stage sets a column to.
func settingOf(s procedure.Stage, column string) (procedure.Setting, bool) {
	a, ok := s.Action.(procedure.Commanding)
	if !ok {
		return procedure.Setting{}, false
	}
	for _, x := range a.Commands() {
		if x.Column() == column && x.Word == "" {
			return x, true
		}
	}
	return procedure.Setting{}, false
}
