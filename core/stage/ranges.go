package stage

import (
	"fmt"
	"math"

	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// changedRanges marks where an instrument goes over to another range: what it reads on both sides has errors of its
// own.
func (m *Machine) changedRanges(f trace.Frame) (effects []Effect) {
	for _, i := range m.ranged {
		if i >= len(f.Values) || math.IsNaN(f.Values[i]) {
			continue
		}
		before, known := m.state.Ranges[i]
		if m.state.Ranges == nil {
			m.state.Ranges = map[int]float64{}
		}
		m.state.Ranges[i] = f.Values[i]
		if !known || before == f.Values[i] {
			continue
		}
		kind, _ := quantity.KindOfColumn(m.program.Columns[i])
		show := func(x float64) string { return quantity.Quantity{Value: x, Dim: kind.Unit.Dim}.Format(4) }
		effects = append(effects, NewMark(f.T, record.MarkBench, fmt.Sprintf("%s: %s after %s", m.program.Columns[i],
			show(f.Values[i]), show(before))))
	}
	return effects
}
