package foreignlog

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/waveform"
)

// unequal is by how much of a step a sample of a capture may stand beside its place.
const unequal = 0.5

// mostCode is the code of the largest value of a waveform that is made of numbers: far from the ends of the range,
// since nobody knows where the instrument's were.
const mostCode = 30_000

// Waveforms makes a capture of a log of equal steps: a waveform of the volts, and one of the amps if it has them. Times
// of the file that are below zero lie before the trigger. Mistakes are *Error with the line counted from the first row.
func (l *Log) Waveforms(volts, amps string) ([]*waveform.Waveform, error) {
	n := len(l.T)
	step := (l.T[n-1] - l.T[0]) / float64(n-1)
	for k, t := range l.T {
		if math.Abs(t-l.T[0]-float64(k)*step) > unequal*step {
			return nil, &Error{k + 1, fmt.Sprintf("counted from the first row, the time is %.6g s; a capture has equal "+
				"steps, here of %.6g s", t, step)}
		}
	}
	var all []*waveform.Waveform
	for _, c := range []struct {
		name, unit string
		x          []float64
	}{{volts, "V", l.Volts}, {amps, "A", l.Amps}} {
		if c.x == nil {
			continue
		}
		if k := slices.IndexFunc(c.x, math.IsNaN); k >= 0 {
			return nil, &Error{k + 1, fmt.Sprintf("counted from the first row, there is no value of %s; a capture has all",
				c.name)}
		}
		low, high := slices.Min(c.x), slices.Max(c.x)
		w := &waveform.Waveform{Channel: c.name, Unit: c.unit, T0: l.First, Step: step, Zero: (low + high) / 2,
			Scale: math.Max((high-low)/2/mostCode, math.SmallestNonzeroFloat32), Lowest: math.MinInt16, Highest: math.MaxInt16,
			Codes: make([]int16, n)}
		for i, x := range c.x {
			w.Codes[i] = int16(math.Round((x - w.Zero) / w.Scale))
		}
		all = append(all, w)
	}
	return all, nil
}
