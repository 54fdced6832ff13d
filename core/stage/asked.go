package stage

import (
	"usherbench/core/trace"
)

// asked is what the unit is asked for in a column: a shape of a stage since a time, or a value.
type asked struct {
	Stage int     `json:"stage"` // -1: Value
	Since float64 `json:"since,omitempty"`
	Value float64 `json:"value,omitempty"`
}

// ask begins what a stage asks the unit for.
func (m *Machine) ask(index int) {
	for _, a := range m.program.Stages[index].Asks {
		m.put(a.Column, asked{Stage: index, Since: m.state.Now})
	}
}

func (m *Machine) put(column string, a asked) {
	if m.state.Asked == nil {
		m.state.Asked = map[string]asked{}
	}
	m.state.Asked[column] = a
}

// fillAsked fills the columns of what the unit is asked for. What is paused stands still.
func (m *Machine) fillAsked(f trace.Frame) {
	t := f.T
	if m.state.Paused {
		t = m.state.PausedT
	}
	for column, a := range m.state.Asked {
		i := m.program.Columns.Index(column)
		if i < 0 || i >= len(f.Values) {
			continue
		}
		f.Values[i] = a.Value
		if a.Stage < 0 || a.Stage >= len(m.program.Stages) {
			continue
		}
		for _, of := range m.program.Stages[a.Stage].Asks {
			if of.Column == column {
				f.Values[i] = of.Shape.At(max(t-a.Since, 0))
			}
		}
	}
}
