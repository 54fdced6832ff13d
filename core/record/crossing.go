package record

import (
	"errors"
	"sort"

	"usherbench/core/trace"
)

// Crossing is where the volts went through a level, with what had been counted by then.
type Crossing struct {
	T, Charge, Energy, Amps float64
	Before, After           float64 // times of the frames on both sides
	Volts                   float64 // the level
	Slope                   float64 // of the volts there, V/s
	Noise                   float64 // of the volts there, standard deviation, V; 0: not known
	// InGap says that the two frames have a gap between them, in which the level was crossed at some time.
	InGap bool
}

// Level is a level of a battery's volts that is looked for between two times.
type Level struct {
	Volts, From, To float64
	Rising          bool
	// For is how long the volts must stay beyond it, s; 0: the first crossing counts.
	For float64
	// Fit is the number of the last frames through which a straight line gives the instant; up to 2: none is fitted.
	Fit int
}

// Cross finds the first crossing of a level. It fails with no-data, already-beyond or not-reached.
func (rec *Record) Cross(b *Battery, l Level) (Crossing, error) {
	w := b.Within(l.From, l.To)
	if len(w.T) == 0 {
		return Crossing{}, Because(NoData, "nothing was recorded in this time")
	}
	direction := trace.Falling
	if l.Rising {
		direction = trace.Rising
	}
	c, err := trace.Series{T: w.T, X: w.Volts}.Cross(l.Volts, direction, l.For)
	switch {
	case errors.Is(err, trace.ErrAlreadyBeyond):
		return Crossing{}, Because(AlreadyBeyond, "%s is beyond %.5g V from the start: %.5g V", b.VoltsColumn, l.Volts,
			w.Volts[0])
	case errors.Is(err, trace.ErrNotReached):
		return Crossing{}, Because(NotReached, "%s did not come to %.5g V", b.VoltsColumn, l.Volts)
	case err != nil:
		return Crossing{}, CodeOf(err, b.VoltsColumn)
	}
	x := w.crossingAt(c, l)
	x.InGap = rec.isGap(b.usual, x.Before, x.After)
	return x, nil
}

// crossingAt says what had been counted at a crossing between the frames K and K + 1.
func (b *Battery) crossingAt(c trace.Crossing, l Level) Crossing {
	k := c.K
	h := b.T[k+1] - b.T[k]
	x := Crossing{T: c.T, Before: b.T[k], After: b.T[k+1], Volts: l.Volts, Slope: (b.Volts[k+1] - b.Volts[k]) / h}
	if l.Fit > 2 {
		first := max(k+2-l.Fit, 0)
		line, err := trace.Fit(b.T[first:k+2], b.Volts[first:k+2])
		if err == nil && line.Slope != 0 {
			x.T, x.Slope = (l.Volts-line.Intercept)/line.Slope, line.Slope
		}
	}
	i := sort.SearchFloat64s(b.T, x.T)
	k = min(max(i-1, 0), len(b.T)-2)
	h = b.T[k+1] - b.T[k]
	delta := x.T - b.T[k]
	x.Charge = trace.ChargeAt(b.Charge[k], b.Amps[k], b.Amps[k+1], h, delta)
	x.Energy = trace.ChargeAt(b.Energy[k], b.Amps[k]*b.Volts[k], b.Amps[k+1]*b.Volts[k+1], h, delta)
	x.Amps = b.Amps[k] + (b.Amps[k+1]-b.Amps[k])*delta/h
	return x
}
