package stage

import (
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// A point is averaged for its time, and longer while there are fewer than fewestReadings of what the bay reads: up to
// longestAverage times the time asked for, and up to longestWait where volts, amps or watts are among what is missing,
// of which figures are made. A bench that stands still meanwhile is no bench that gives nothing: before the wait is
// given up there are fewestLooks frames.
const (
	fewestReadings = 5
	fewestLooks    = 4 * fewestReadings
	longestAverage = 10
	longestWait    = 10 // s
)

// Enough tells whether frames that were taken for past seconds make a point that is averaged over so many: of the given
// columns, or of all with nil. Nobody waits for a column that no instrument has given since the run began.
func (m *Machine) Enough(frames []trace.Frame, only []string, past, average float64) bool {
	if past < average {
		return false
	}
	few, electrical := false, false
	for _, i := range m.state.Read {
		column := m.program.Columns[i]
		if only != nil && !slices.Contains(only, column) || readings(frames, i) >= fewestReadings {
			continue
		}
		few, electrical = true, electrical || isElectrical(column)
	}
	longest := longestAverage * average
	if electrical {
		longest = max(longest, longestWait)
	}
	return !few || past >= longest && len(frames) >= fewestLooks
}

// noteRead notes which columns the bay gives.
func (m *Machine) noteRead(f trace.Frame) {
	for i, x := range f.Values {
		if !math.IsNaN(x) && !slices.Contains(m.state.Read, i) {
			m.state.Read = append(m.state.Read, i)
		}
	}
}

// readings counts those of a column.
func readings(frames []trace.Frame, column int) (n int) {
	for _, f := range frames {
		if !math.IsNaN(f.Values[column]) {
			n++
		}
	}
	return n
}

// isElectrical tells columns of which figures of points are made.
func isElectrical(column string) bool {
	kind, known := quantity.KindOfColumn(column)
	return known && slices.Contains([]string{"V", "A", "W"}, kind.Unit.Symbol)
}
