package record

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Drawn is the charge that flowed in a visit, as inputs of an uncertainty: Of makes it of their values.
type Drawn struct {
	Inputs          []uncertainty.Reading
	Of              func(x []float64) float64 // A·s
	N               int                       // readings
	Stated, Bridged bool
	Ranges          Ranges
}

// Ranges are those in which a current was measured over some time.
type Ranges struct {
	Changes     int
	Least, Most float64 // A; 0: the instrument does not tell
	// Gap is the longest time between the readings on both sides of a change, s; 0 where the instrument counts through it.
	Gap float64
}

// And joins what is known of two times.
func (r Ranges) And(s Ranges) Ranges {
	switch {
	case r.Most == 0:
		return s
	case s.Most == 0:
		return r
	}
	return Ranges{r.Changes + s.Changes, min(r.Least, s.Least), max(r.Most, s.Most), max(r.Gap, s.Gap)}
}

// Words say in which ranges it was, and what was lost between them; empty where nobody knows.
func (r Ranges) Words() string {
	amps := func(x float64) string { return quantity.Quantity{Value: x, Dim: quantity.Current}.Format(3) }
	switch {
	case r.Most == 0:
		return ""
	case r.Changes == 0:
		return "in the range of " + amps(r.Most)
	}
	words := fmt.Sprintf("through %d changes of range, %s to %s, ", r.Changes, amps(r.Least), amps(r.Most))
	if r.Changes == 1 {
		words = fmt.Sprintf("through a change of range, %s to %s, ", amps(r.Least), amps(r.Most))
	}
	if r.Gap == 0 {
		return words + "counted without a gap"
	}
	return words + quantity.Sprintf("up to %.3g s between the readings around one", r.Gap)
}

// rangesIn are the ranges of a column of amps in a visit, as far as the instrument tells them.
func (rec *Record) rangesIn(amps string, v Visit) (r Ranges) {
	all, err := rec.Trace(seatOf(amps)+".range", v.T0, v.T1)
	if err != nil {
		return r
	}
	all = all.Present()
	for k, x := range all.X {
		if x <= 0 {
			continue
		}
		if r.Most == 0 {
			r.Least, r.Most = x, x
		}
		r.Least, r.Most = min(r.Least, x), max(r.Most, x)
		if k > 0 && x != all.X[k-1] {
			r.Changes, r.Gap = r.Changes+1, max(r.Gap, all.T[k]-all.T[k-1])
		}
	}
	return r
}

// Drawn is the charge by a column of amps in a visit, to its very ends. Where the instrument counts charge by itself
// it is the difference of its counter, which sees what no reading does; else the mean of the readings by the time.
// Between the readings around a mark either is a straight line.
func (rec *Record) Drawn(amps string, v Visit) (Drawn, error) {
	ranges := rec.rangesIn(amps, v)
	if counter := seatOf(amps) + ".charge"; len(rec.Specs[counter]) > 0 {
		d, err := rec.counted(counter, amps, v)
		d.Ranges, d.Ranges.Gap = ranges, 0
		return d, err
	}
	m, err := rec.Measured(amps, v.T0, v.T1)
	if err != nil {
		return Drawn{}, err
	}
	d := Drawn{N: m.Len(), Bridged: m.Bridged, Stated: m.Stated, Ranges: ranges}
	pad := 2 * usualInterval(m.T)
	around, err := rec.Trace(amps, v.T0-pad, v.T1+pad)
	if err != nil {
		return d, CodeOf(err, amps)
	}
	if exact, err := around.Present().Window(v.T0, v.T1); err == nil {
		if m.Mean.Value, err = exact.Mean(); err != nil {
			return d, CodeOf(err, amps)
		}
		d.N = exact.Len()
	}
	d.Inputs, d.Of = []uncertainty.Reading{m.Mean}, func(x []float64) float64 { return x[0] * v.Seconds() }
	return d, nil
}

// counted reads a counter at the ends of a visit. Each lies between two readings, of which the current may have been
// that of either side, or what the counter says of the time between. A gap within the visit loses nothing.
func (rec *Record) counted(counter, amps string, v Visit) (Drawn, error) {
	inside, err := rec.Trace(counter, v.T0, v.T1)
	if err != nil {
		return Drawn{}, CodeOf(err, counter)
	}
	if inside = inside.Present(); inside.Len() < 2 {
		return Drawn{}, Because(TooFew, "%s has %d readings there", counter, inside.Len())
	}
	d := Drawn{N: inside.Len(), Stated: true, Of: func(x []float64) float64 { return x[1] - x[0] }}
	pad := 2*usualInterval(inside.T) + max(inside.T[0]-v.T0, v.T1-inside.T[inside.Len()-1])
	for _, at := range []float64{v.T0, v.T1} {
		end, stated, err := rec.countedAt(at, counter, amps, pad)
		if err != nil {
			return d, err
		}
		d.Inputs, d.Stated = append(d.Inputs, end), d.Stated && stated
	}
	return d, nil
}

// countedAt is a counter at an instant, as an input of an uncertainty.
func (rec *Record) countedAt(at float64, counter, amps string, pad float64) (r uncertainty.Reading, stated bool,
	err error) {
	counts, err := rec.Trace(counter, at-pad, at+pad)
	if err != nil {
		return r, false, CodeOf(err, counter)
	}
	read, err := rec.Trace(amps, at-pad, at+pad)
	if err != nil {
		return r, false, CodeOf(err, amps)
	}
	q, within := countAt(counts.Present(), at)
	r, stated = rec.Input(counter, q, 0)
	if within.seconds() == 0 {
		return r, stated, nil
	}
	low, high := within.mean, within.mean
	for k, t := range read.T {
		if t >= within.from && t <= within.to && !math.IsNaN(read.X[k]) {
			low, high = math.Min(low, read.X[k]), math.Max(high, read.X[k])
		}
	}
	share := (at - within.from) / within.seconds()
	r.Noise = share * (1 - share) * within.seconds() * (high - low) / math.Sqrt(3)
	return r, stated, nil
}

// countedStep is a time between two readings of a counter, and its mean slope.
type countedStep struct{ from, to, mean float64 }

func (c countedStep) seconds() float64 { return c.to - c.from }

// countAt is a counter at an instant, on the straight line between its readings; beyond them it stands still.
func countAt(s trace.Series, at float64) (q float64, within countedStep) {
	k, _ := slices.BinarySearch(s.T, at)
	switch {
	case s.Len() == 0:
		return math.NaN(), countedStep{at, at, 0}
	case k == 0:
		return s.X[0], countedStep{at, at, 0}
	case k == s.Len():
		return s.X[k-1], countedStep{at, at, 0}
	}
	within = countedStep{s.T[k-1], s.T[k], (s.X[k] - s.X[k-1]) / (s.T[k] - s.T[k-1])}
	return s.X[k-1] + within.mean*(at-within.from), within
}
