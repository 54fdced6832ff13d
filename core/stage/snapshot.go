package stage

import (
	"encoding/json"
	"fmt"

	"usherbench/core/condition"
	"usherbench/core/procedure"
)

// snapshot is the whole state of a run as JSON.
type snapshot struct {
	State   state             `json:"state"`
	Guards  []condition.State `json:"guards,omitempty"`
	Derived []condition.State `json:"derived,omitempty"`
	Runner  json.RawMessage   `json:"runner,omitempty"`
}

// Snapshot is the whole state of the machine as JSON, from which [Restore] goes on.
func (m *Machine) Snapshot() ([]byte, error) {
	s := snapshot{State: m.state}
	for _, g := range m.guards {
		s.Guards = append(s.Guards, g.State())
	}
	for _, d := range m.derived {
		s.Derived = append(s.Derived, d.of.State())
	}
	if i := m.state.Stage; i >= 0 && i < len(m.stages) {
		data, err := json.Marshal(m.stages[i].Save())
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
	if s.State.Stage >= len(m.stages)+1 || len(s.Guards) != len(m.guards) || len(s.State.Unknown) != len(m.guards) ||
		len(s.State.Warned) != len(m.guards) || len(s.State.Rare) != len(m.rare) {
		return nil, fmt.Errorf("the snapshot is of another program")
	}
	fresh := m.state
	m.state = s.State
	m.state.fill(fresh)
	m.disarmRare()
	for i, d := range s.Derived {
		if i < len(m.derived) {
			m.derived[i].of.Restore(d)
		}
	}
	for i, g := range s.Guards {
		m.guards[i].Restore(g)
	}
	if i := m.state.Stage; i >= 0 && i < len(m.stages) && len(s.Runner) > 0 {
		if err := m.stages[i].Load(s.Runner); err != nil {
			return nil, fmt.Errorf("restore stage %q: %w", program.Stages[i].Name, err)
		}
	}
	return m, nil
}

// fill makes the maps that an empty snapshot leaves out.
func (s *state) fill(fresh state) {
	if s.Setpoints == nil {
		s.Setpoints = fresh.Setpoints
	}
	if s.SetBy == nil {
		s.SetBy = fresh.SetBy
	}
	if s.InForce == nil {
		s.InForce = fresh.InForce
	}
	if s.Passes == nil {
		s.Passes = fresh.Passes
	}
	if s.Jumps == nil {
		s.Jumps = fresh.Jumps
	}
	if s.Answers == nil {
		s.Answers = fresh.Answers
	}
	if s.Replies == nil {
		s.Replies = fresh.Replies
	}
}
