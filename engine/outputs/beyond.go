package outputs

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/uncertainty"
	"usherbench/instrument/dialect"
)

// beyond is how a reading lies to its range.
type beyond int8

const (
	within   beyond = iota
	outside         // beyond the largest range for which an accuracy is stated
	overload        // beyond what the instrument can measure: no reading
)

func beyondOf(ranges uncertainty.Spec, x float64) beyond {
	switch {
	case math.IsInf(x, 0):
		return overload
	case len(ranges) > 0 && math.Abs(x) > 1.01*ranges[len(ranges)-1].To: // readings have their errors
		return outside
	}
	return within
}

// Noted counts how often a reading went beyond its range, or came back.
func (s *Sampler) Noted() uint64 { return s.noted.Load() }

// Beyond says of each column that is beyond its range now what that means.
func (s *Sampler) Beyond() map[string]string {
	words := map[string]string{}
	on := slices.ContainsFunc(s.seats, (*Seat).Energised)
	for _, m := range s.members {
		if on && m.seat.Kind.AtRest {
			continue // it reads only what nothing feeds
		}
		m.reading.mu.Lock()
		for i, b := range m.reading.beyond {
			ranges := m.Dialect.ReadRanges[quantity.WholeOf(m.gives[i])]
			switch column := m.seat.Name + "." + m.gives[i]; b {
			case overload:
				words[column] = fmt.Sprintf("%s is beyond what %s can measure, and has no reading", column, m.Name)
			case outside:
				words[column] = fmt.Sprintf("%s is beyond the %s up to which the accuracy of %s is stated", column,
					dialect.Show(quantity.WholeOf(m.gives[i]), ranges[len(ranges)-1].To), m.Name)
			}
		}
		m.reading.mu.Unlock()
	}
	return words
}
