package record

import (
	"errors"
	"math"
	"sort"

	"usherbench/core/trace"
)

// Crossing is where the volts went through a level, with what had been counted by then.
type Crossing struct {
	T, Charge, Energy, Amps float64
	Before, After           float64 // on both sides: when the frames there were taken at the earliest and at the latest
	Volts                   float64 // the level
	Slope                   float64 // of the volts there, V/s
	Noise                   float64 // of the volts there, standard deviation, V; 0: not known
	// Fit is the number of frames through which a straight line gave the instant; 0: it lies between two.
	Fit int
	// Left is what would have flowed from the end of a log to the level, at most, A·s; 0: the level was crossed.
	Left float64
	// InGap says that the two frames have a gap between them, in which the level was crossed at some time.
	InGap bool
}

// Level is a level of a battery's volts that is looked for between two times.
type Level struct {
	Volts, From, To float64
	Rising          bool
	// For is how long the volts must stay beyond it, s; 0: the first crossing counts.
	For float64
	// Fit is the number of the last frames through which a straight line gives the instant; 1: none is fitted; 0: one is
	// where the noise of the volts asks for it.
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
	before, _ := rec.takenWithin(w.T[c.K])
	_, after := rec.takenWithin(w.T[c.K+1])
	if rec.isGap(b.usual, before, after) {
		l.Fit = 1 // nobody knows when in it; a line through what was taken at other times says nothing about that
	}
	x := w.crossingAt(c, l)
	x.Before, x.After, x.InGap = before, after, rec.isGap(b.usual, before, after)
	return x, nil
}

// crossingAt says what had been counted at a crossing between the frames K and K + 1.
func (b *Battery) crossingAt(c trace.Crossing, l Level) Crossing {
	k := c.K
	h := b.T[k+1] - b.T[k]
	x := Crossing{T: c.T, Before: b.T[k], After: b.T[k+1], Volts: l.Volts, Slope: (b.Volts[k+1] - b.Volts[k]) / h}
	x.fit(b.T[:k+2], b.Volts[:k+2], l)
	if late := x.T - b.T[k+1]; late > 0 { // the current may have been switched off by then: it counts as it was
		x.Amps = b.Amps[k+1]
		x.Charge = b.Charge[k+1] + x.Amps*late
		x.Energy = b.Energy[k+1] + x.Amps*x.Volts*late
		return x
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

// Noise makes the first crossing early: by as much as one reading lies below the others. Where it is more than a share
// of what the volts fall from frame to frame, a straight line through the last frames gives the instant; through as
// many of them as lie on one.
const (
	noisyShare              = 1.0 / 3
	leastFitted, mostFitted = 6, 60
)

// fit moves the crossing to where a line through the last frames crosses, if it is asked for or the noise asks for it.
// t and volts end with the frame after the crossing.
func (x *Crossing) fit(t, volts []float64, l Level) {
	n, noise := l.Fit, 0.0
	if n == 0 {
		n, noise = fitted(t, volts)
		x.Noise = noise
	}
	first := max(len(t)-n, 0)
	line, err := trace.Fit(t[first:], volts[first:])
	if n <= 2 || err != nil || line.Slope == 0 {
		return
	}
	at := (l.Volts - line.Intercept) / line.Slope
	if falls := line.Slope < 0; falls == l.Rising || at > 2*t[len(t)-1]-t[first] || at < t[first] {
		return // the line says nothing about where it is; the noise does
	}
	x.T, x.Slope, x.Fit = at, line.Slope, len(t)-first
	x.Noise = line.DeviationAt(at)
}

// fitted is the number of last frames through which a line is to be laid, and the noise of their volts; 0: none is.
func fitted(t, volts []float64) (n int, noise float64) {
	first := max(len(t)-mostFitted, 0)
	t, volts = t[first:], volts[first:]
	if len(t) < leastFitted {
		return 0, 0
	}
	noise = trace.Series{T: t, X: volts}.Noise()
	whole, err := trace.Fit(t[len(t)-leastFitted:], volts[len(t)-leastFitted:])
	perFrame := (t[len(t)-1] - t[len(t)-leastFitted]) / (leastFitted - 1)
	if err != nil || noise <= noisyShare*math.Abs(whole.Slope)*perFrame {
		return 0, noise
	}
	for n = len(t); n > leastFitted; n-- {
		if line, err := trace.Fit(t[len(t)-n:], volts[len(t)-n:]); err == nil && line.SD <= 1.5*noise {
			break
		}
	}
	return n, noise
}

// A log of somebody else ends at their cutoff, which is not quite ours: it counts as ended there while what would have
// flowed to the level is at most nearlyShare of what did.
const nearlyShare = 0.01

// endFitted is the number of last frames under current that tell how fast the volts fell at the end.
const endFitted = 10

// NearlyCross is where a log ended just before a level, under current; ok is false if it did not.
func (rec *Record) NearlyCross(b *Battery, l Level) (x Crossing, ok bool) {
	w := b.Within(l.From, l.To)
	n := len(w.T)
	for n > 0 && !rec.Flowing(b, w.Amps[n-1]) {
		n--
	}
	first := max(n-endFitted, 0)
	line, err := trace.Fit(w.T[first:n], w.Volts[first:n])
	if n-first < 3 || err != nil || line.Slope >= 0 {
		return x, false
	}
	begin, _ := b.Count(l.From)
	x = Crossing{T: w.T[n-1], Charge: w.Charge[n-1], Energy: w.Energy[n-1], Amps: w.Amps[n-1], Before: w.T[n-2],
		After: w.T[n-1], Volts: w.Volts[n-1], Slope: line.Slope}
	over := max(line.Intercept+line.Slope*x.T-l.Volts, w.Volts[n-1]-l.Volts, 0)
	x.Left = math.Abs(x.Amps) * over / -line.Slope
	return x, x.Left <= nearlyShare*math.Abs(x.Charge-begin)
}
