package stage

import (
	"fmt"
	"math"

	"usherbench/core/procedure"
)

// Progress is how far the run is.
type Progress struct {
	Stage  int     `json:"stage"` // index of the current stage
	Name   string  `json:"name"`
	Detail string  `json:"detail,omitempty"` // "37 of 48 points"
	Share  float64 `json:"share"`            // of the current stage, 0 … 1
	// Left is the seconds to go as far as they are known, stages to come included.
	Left float64 `json:"left"`
	// Paused is true while somebody holds the run.
	Paused bool `json:"paused,omitempty"`
	// Can lists what may be done by hand now: "extend", "skip".
	Can []string `json:"can,omitempty"`
}

// Progress tells how far the run is.
func (m *Machine) Progress() Progress {
	i := m.Stage()
	p := Progress{Stage: i, Name: m.program.Stages[i].Name, Share: 1, Paused: m.state.Paused}
	if m.state.Finished {
		return p
	}
	p.Share, p.Left, p.Detail = m.stages[i].Progress(m)
	if math.IsNaN(p.Share) || math.IsInf(p.Share, 0) {
		p.Share = 0
	}
	if m.state.Try > 1 {
		p.Detail = fmt.Sprintf("try %d of %d; %s", m.state.Try, m.program.Stages[i].Tries, p.Detail)
	}
	p.Left += m.leftAfter(i)
	if _, ok := m.stages[i].(Extending); ok {
		p.Can = append(p.Can, "extend")
	}
	if !procedure.Control(m.program.Stages[i].Action) {
		p.Can = append(p.Can, "skip")
	}
	return p
}

// leftAfter is the known time of what follows a stage, the passes of loops around it included.
func (m *Machine) leftAfter(i int) (sum float64) {
	for k := i + 1; k < len(m.program.Stages); k++ {
		switch a := m.program.Stages[k].Action.(type) {
		case *procedure.Again: // the end of a loop around stage i
			loop, _ := m.program.Stages[a.Head].Action.(*procedure.Repeat)
			if left := loop.Times - m.state.Passes[a.Head]; left > 0 {
				sum += float64(left) * m.program.Between(a.Head+1, k)
			}
		case *procedure.Repeat:
			sum += float64(max(a.Times, 1)) * m.program.Between(k+1, a.End-1)
			k = a.End - 1
		case *procedure.Skip:
			k = a.To - 1
		default:
			sum += m.program.Stages[k].Duration()
		}
	}
	return sum
}

// Seconds words a time.
func Seconds(s float64) string { return fmt.Sprintf("%g s", s) }
