package battery

import (
	"math"
	"sort"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Figures of what a battery does around a current step.
var resistanceFigures = []figure.Definition{
	{ID: "pulse-resistance", Title: "Pulse resistance", Unit: "mΩ", Least: 0, Most: math.Inf(1),
		Args: []figure.Arg{{Name: "delay", Dim: quantity.Time, Default: 1, Least: 1e-4, Most: 24 * 3600},
			{Name: "before", Dim: quantity.Time, Default: 1, Least: 1e-4, Most: 24 * 3600}},
		Formula: pulseResistance},
	{ID: "rest-recovery", Title: "Recovery at rest", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Rest,
		Args:    []figure.Arg{{Name: "after", Dim: quantity.Time, Default: 600, Least: 1e-3, Most: 30 * 24 * 3600}},
		Formula: restRecovery},
	{ID: "rest-voltage", Title: "Voltage at rest", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Rest,
		Args:    []figure.Arg{{Name: "average", Dim: quantity.Time, Default: 10, Least: 1e-3, Most: 24 * 3600}},
		Formula: restVoltage},
}

// step is the instant of the current step that a request means: the first command of its stage.
func step(rec *record.Record, req figure.Request) (t0 float64, span record.Span, err error) {
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil {
		return 0, record.Span{}, err
	}
	return stepOf(rec, h)
}

// stepOf is the instant of the current step into a half-cycle.
func stepOf(rec *record.Record, h record.Half) (t0 float64, span record.Span, err error) {
	for _, e := range rec.MarksIn(h.Span) {
		if e.Kind == record.MarkCommand {
			return e.T, h.Span, nil
		}
	}
	return 0, h.Span, record.Because(record.NoMark, "nothing was set in %s, so there is no current step", h.Name)
}

// pulseResistance is R(d) = (U(t₀ + d) − U₀)/(I(t₀ + d) − I₀), with U₀ and I₀ means over
// *before*. From one current to another it is the same formula, the two-point resistance of IEC 61960-3.
func pulseResistance(rec *record.Record, req figure.Request) (figure.Result, error) {
	t0, span, err := step(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	return resistanceOf(rec, t0, span, req.Args["delay"], req.Args["before"])
}

// resistanceOf is the resistance at the current step of a stage.
func resistanceOf(rec *record.Record, t0 float64, span record.Span, delay, before float64) (figure.Result, error) {
	b, err := rec.Terminals(t0-before, math.Max(span.T1, t0+1.2*delay))
	if err != nil {
		return figure.Result{}, err
	}
	rest := b.Within(t0-before, math.Nextafter(t0, math.Inf(-1)))
	near, after := b.Within(t0+0.9*delay, t0+1.1*delay), b.Within(t0, t0+1.2*delay)
	switch {
	case len(rest.T) == 0:
		return figure.Result{}, record.Because(record.TooFew, "no frame lies within %.3g s before the step", before)
	case len(near.T) == 0:
		return figure.Result{}, record.Because(record.TooFew,
			"no frame lies within 10 %% of %.3g s after the step; record faster or give a longer delay", delay)
	case len(after.T) < 3:
		return figure.Result{}, record.Because(record.TooFew, "%.3g s are less than two intervals of the record", delay)
	}
	s := stepInputs(rec, b, rest, t0+delay)
	if math.IsNaN(s.du) || math.IsNaN(s.di) {
		return figure.Result{}, record.Because(record.NoData, "the record ends before %.3g s after the step", delay)
	}
	if !rec.Flowing(b, s.di) {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the current did not step: by %.4g A only", s.di)
	}
	r := figure.Result{Value: 1000 * s.du / s.di, N: len(rest.T) + len(near.T),
		Remarks: []string{quantity.Sprintf("after %.3g s", delay)}}
	r.WithUncertainty(s.resistance, s.readings, s.stated)
	switch {
	case math.Abs(s.du) < 5*s.noise*math.Sqrt2:
		return r, record.Because(record.BelowFloor, "the voltage stepped by %.3g V, less than five times what it is known to",
			s.du)
	case r.Value < 0 && math.Abs(r.Value) > r.U:
		return r, record.Because(record.WrongSign, "the voltage went the other way than the current: %.4g mΩ", r.Value)
	}
	if line, err := (trace.Series{T: rest.T, X: rest.Volts}).Slope(); err == nil &&
		math.Abs(line.Slope) > 2*line.SlopeSD && math.Abs(line.Slope*delay) > 0.05*math.Abs(s.du) {
		return r,
			record.Because(record.NotSettled, "the voltage still drifted by %.3g V in %.3g s before the step; rest longer",
				line.Slope*delay, delay)
	}
	return r, nil
}

// steps are volts and amps of every instrument before a current step and after it.
type steps struct {
	du, di   float64
	noise    float64 // of a single reading of the volts, V
	readings []uncertainty.Reading
	stated   bool
}

// stepInputs reads the means of a rest and what came at a time after the step. The readings are the volts before and
// after, then the amps of each ammeter before and after.
func stepInputs(rec *record.Record, b, rest *record.Battery, at float64) steps {
	s := steps{stated: true}
	enter := func(column string, before []float64, after float64, amps [2]float64) (step float64) {
		mean, spread := meanOf(before), deviation(before)
		for k, x := range []float64{mean, after} {
			reading, ok := rec.Input(column, x, amps[k])
			s.stated = s.stated && ok
			reading.Noise = spread
			if len(s.readings)%2 == 0 {
				reading.Noise, reading.N = spread/math.Sqrt(float64(len(before))), len(before)
			}
			s.readings = append(s.readings, reading)
		}
		return after - mean
	}
	s.du = enter(b.VoltsColumn, rest.Volts, trace.Series{T: b.T, X: b.Volts}.At(at),
		[2]float64{meanOf(rest.Amps), trace.Series{T: b.T, X: b.Amps}.At(at)})
	spec, _ := rec.Specs[b.VoltsColumn].Find(rest.Volts[0])
	s.noise = math.Max(deviation(rest.Volts), uncertainty.Resolution(spec.Resolution))
	for k, a := range b.Through {
		s.di += enter(a.Column, rest.Through[k].Amps, trace.Series{T: b.T, X: a.Amps}.At(at), [2]float64{})
	}
	return s
}

// resistance is that of the readings, mΩ.
func (s steps) resistance(x []float64) float64 {
	di := 0.0
	for k := 2; k < len(x); k += 2 {
		di += x[k+1] - x[k]
	}
	return 1000 * (x[1] - x[0]) / di
}

func meanOf(xs []float64) float64 {
	var sum float64
	for _, x := range xs {
		sum += x
	}
	return sum / float64(len(xs))
}

// deviation is the standard deviation with n − 1; 0 for fewer than two values.
func deviation(xs []float64) float64 {
	if len(xs) < 2 {
		return 0
	}
	mean, sum := meanOf(xs), 0.0
	for _, x := range xs {
		sum += (x - mean) * (x - mean)
	}
	return math.Sqrt(sum / float64(len(xs)-1))
}

// rested is the rest that a request means, with the battery's record from just before it.
func rested(rec *record.Record, req figure.Request) (record.Half, *record.Battery, error) {
	h, err := rec.Half("rest", req.Stage, req.Pass)
	if err != nil {
		return h, nil, err
	}
	off := false
	for _, e := range rec.MarksIn(h.Span) {
		off = off || e.Kind == record.MarkCommand
	}
	for _, e := range rec.Marks { // the stage before may have switched it off
		off = off || e.Kind == record.MarkCommand && e.T <= h.T0
	}
	if !off {
		return h, nil, record.Because(record.NoMark, "no output was switched off before %s", h.Name)
	}
	b, err := rec.Terminals(h.T0, h.T1)
	return h, b, err
}

// Volts at an instant are those of a curve through some frames next to it.
const (
	nextFrames = 10
	nextWithin = 10.0 // s
)

// instant is what the volts were at a time, from the frames next to it, and how well it is known there.
func instant(rec *record.Record, b *record.Battery, at float64, degree int) (value float64, r uncertainty.Reading,
	stated bool) {
	value, noise := trace.Series{T: b.T, X: b.Volts}.Instant(at, degree)
	r, stated = rec.Input(b.VoltsColumn, value, trace.Series{T: b.T, X: b.Amps}.At(at))
	r.Noise, r.N = noise, max(len(b.T)-degree, 0)
	if math.IsNaN(r.Noise) { // of few frames it is what neighbours differ by
		r.Noise, r.N = voltsNoise(b.Volts), 0
	}
	return value, r, stated
}

// lastBefore are the last frames up to a time, nearestTo those on both sides of one.
func lastBefore(b *record.Battery, t float64) *record.Battery {
	w := b.Within(t-nextWithin, t)
	return w.Within(w.T[max(len(w.T)-nextFrames, 0)], t)
}

func nearestTo(b *record.Battery, t float64) *record.Battery {
	k := sort.SearchFloat64s(b.T, t)
	first, last := max(k-nextFrames/2, 0), min(k+nextFrames/2, len(b.T))-1
	return b.Within(math.Max(b.T[first], t-nextWithin), math.Min(b.T[last], t+nextWithin))
}

// restRecovery is U(t_off + after) less the last volts under load, each from the frames next to it.
func restRecovery(rec *record.Record, req figure.Request) (figure.Result, error) {
	h, b, err := rested(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	// The load went off with the stage before: the last frame that had its current.
	k := -1
	for i, t := range b.T {
		if t <= h.From && rec.Flowing(b, b.Amps[i]) {
			k = i
		}
	}
	if k < 0 || k+1 >= len(b.T) {
		return figure.Result{}, record.Because(record.NoMark, "no frame under load was recorded before %s", h.Name)
	}
	if rec.GapBetween(b, b.T[k], b.T[k+1]) {
		return figure.Result{}, record.Because(record.Gap, "the record has a gap of %.4g s where the load went off",
			b.T[k+1]-b.T[k])
	}
	off := b.T[k]
	for _, e := range rec.Marks {
		if e.Kind == record.MarkCommand && e.T > b.T[k] && e.T <= b.T[k+1] {
			off = e.T
		}
	}
	at := off + req.Args["after"]
	under, loaded, statedUnder := instant(rec, lastBefore(b, b.T[k]), off, trace.Straight)
	rest := b.Within(b.T[k+1], h.T1)
	n := len(rest.T)
	switch {
	case n == 0:
		return figure.Result{}, record.Because(record.NoData, "nothing was recorded at rest")
	case rest.T[n-1] < at:
		reason := record.Because(record.NoData, "%s is shorter than %.4g s after the load went off", h.Name,
			req.Args["after"])
		reason.Known = quantity.Sprintf("%.4g V after %.4g s", rest.Volts[n-1]-under, rest.T[n-1]-off)
		return figure.Result{}, reason
	}
	j := max(sort.SearchFloat64s(rest.T, at), 1)
	if j < n && rec.GapBetween(b, rest.T[j-1], rest.T[j]) {
		return figure.Result{}, record.Because(record.Gap, "the record has a gap of %.4g s at %.6g s, %.4g s after the load "+
			"went off", rest.T[j]-rest.T[j-1], at, req.Args["after"])
	}
	u, rested, stated := instant(rec, nearestTo(rest, at), at, trace.Bent)
	r := figure.Result{Value: u - under, N: len(rest.Within(off, at).T)}
	r.WithUncertainty(func(x []float64) float64 { return x[1] - x[0] }, []uncertainty.Reading{loaded, rested},
		stated && statedUnder)
	return r, nil
}

// settledPerCell is the slope of the volts at rest below which a cell counts as settled: 5 mV/h.
const settledPerCell = 5e-3 / 3600

// restVoltage is the mean of the last part of a rest, weighted by time, of frames through which nothing flowed.
func restVoltage(rec *record.Record, req figure.Request) (figure.Result, error) {
	h, b, err := rested(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	var rest trace.Series
	for k, t := range b.T {
		if t >= h.From && t <= h.T1 && !rec.Flowing(b, b.Amps[k]) {
			rest.T, rest.X = append(rest.T, t), append(rest.X, b.Volts[k])
		}
	}
	from := h.T1 - req.Args["average"]
	n := rest.Len()
	if n == 0 {
		return figure.Result{}, record.Because(record.NoData, "nothing was recorded at rest in %s", h.Name)
	}
	if rec.GapBetween(b, rest.T[n-1], h.T1) {
		return figure.Result{}, record.Because(record.Gap, "nothing was recorded in the last %.4g s of %s",
			h.T1-rest.T[n-1], h.Name)
	}
	w := rest.Spanning(from, h.T1)
	if w.Len() == 0 { // one frame of a slow record stands for what came after it
		w = trace.Series{T: rest.T[n-1:], X: rest.X[n-1:]}
	}
	for k := 1; k < w.Len(); k++ {
		if rec.GapBetween(b, w.T[k-1], w.T[k]) {
			return figure.Result{}, record.Because(record.Gap, "the record has a gap of %.4g s at %.6g s", w.T[k]-w.T[k-1],
				w.T[k-1])
		}
	}
	r := figure.Result{Value: w.X[0], N: max(rest.Between(from, h.T1).Len(), 1)}
	if mean, err := w.Mean(); err == nil {
		r.Value = mean
	}
	longer := rest.Between(h.T1-math.Max(req.Args["average"], 300), h.T1)
	if line, err := longer.Slope(); err == nil && math.Abs(line.Slope) <= settledPerCell*float64(max(rec.Series, 1)) {
		r.Remarks = append(r.Remarks, "settled")
	}
	reading, stated := rec.Input(b.VoltsColumn, r.Value, 0)
	reading.Noise, reading.N = deviation(w.X)/math.Sqrt(float64(w.Len())), w.Len()
	r.WithUncertainty(func(x []float64) float64 { return x[0] }, []uncertainty.Reading{reading}, stated)
	return r, nil
}
