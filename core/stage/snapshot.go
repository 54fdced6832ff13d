package stage

import (
	"encoding/json"
	"fmt"

	"usherbench/core/condition"
	"usherbench/core/procedure"
)

// snapshot is the whole state of a run as JSON.
type snapshot struct {
	State  state              `json:"state"`
	Guards [][]condition.Hold `json:"guards,omitempty"`
	Runner json.RawMessage    `json:"runner,omitempty"`
}

// Snapshot is the whole state of the machine as JSON, from which [Restore] goes on.
func (m *Machine) Snapshot() ([]byte, error) {
	s := snapshot{State: m.state}
	for _, g := range m.guards {
		s.Guards = append(s.Guards, g.State())
	}
	if i := m.state.Stage; i >= 0 && i < len(m.stages) {
		data, err := json.Marshal(m.stages[i].save())
		if err != nil {
			return nil, fmt.Errorf("save stage %q: %w", m.program.Stages[i].Name, err)
		}
		s.Runner = data
	}
	return json.Marshal(s)
}

// Restore makes a machine for the program that goes on where the snapshot was taken.
func Restore(program *procedure.Program, data []byte) (*Machine, error) {
	m, err := New(program)
	if err != nil {
		return nil, err
	}
	var s snapshot
	if err := json.Unmarshal(data, &s); err != nil {
		return nil, fmt.Errorf("read snapshot: %w", err)
	}
	if s.State.Stage >= len(m.stages)+1 || len(s.Guards) != len(m.guards) || len(s.State.Unknown) != len(m.guards) {
		return nil, fmt.Errorf("the snapshot is of another program")
	}
	if s.State.Setpoints == nil {
		s.State.Setpoints = map[string]float64{}
	}
	m.state = s.State
	for i, g := range s.Guards {
		m.guards[i].Restore(g)
	}
	if i := m.state.Stage; i >= 0 && i < len(m.stages) && len(s.Runner) > 0 {
		if err := m.stages[i].load(s.Runner); err != nil {
			return nil, fmt.Errorf("restore stage %q: %w", program.Stages[i].Name, err)
		}
	}
	return m, nil
}
