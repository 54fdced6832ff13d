package battery

import (
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Figures of what a battery does around a current step.
var resistanceFigures = []figure.Definition{
	{ID: "pulse-resistance", Title: "Pulse resistance", Unit: "mΩ", Least: 0, Most: math.Inf(1),
		Args: []figure.Arg{{Name: "delay", Dim: quantity.Time, Default: 1}, {Name: "before", Dim: quantity.Time,
			Default: 1}},
		Formula: pulseResistance},
	{ID: "rest-recovery", Title: "Recovery at rest", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Rest,
		Args: []figure.Arg{{Name: "after", Dim: quantity.Time, Default: 600}}, Formula: restRecovery},
	{ID: "rest-voltage", Title: "Voltage at rest", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Rest,
		Args: []figure.Arg{{Name: "average", Dim: quantity.Time, Default: 10}}, Formula: restVoltage},
}

// step is the instant of the current step that a request means: the first command of its stage.
func step(rec *record.Record, req figure.Request) (t0 float64, span record.Span, err error) {
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil {
		return 0, record.Span{}, err
	}
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
	delay, before := req.Args["delay"], req.Args["before"]
	b, err := rec.Terminals(t0-before, math.Max(span.T1, t0+1.2*delay))
	if err != nil {
		return figure.Result{}, err
	}
	rest := b.Within(t0-before, math.Nextafter(t0, math.Inf(-1)))
	if len(rest.T) == 0 {
		return figure.Result{}, record.Because(record.TooFew, "no frame lies within %.3g s before the step", before)
	}
	u0, i0 := meanOf(rest.Volts), meanOf(rest.Amps)
	after := b.Within(t0, t0+1.2*delay)
	near := 0
	for _, t := range after.T {
		if math.Abs(t-t0-delay) <= 0.1*delay {
			near++
		}
	}
	switch {
	case near == 0:
		return figure.Result{},
			record.Because(record.TooFew,
				"no frame lies within 10 %% of %.3g s after the step; record faster or give a longer delay",
				delay)
	case len(after.T) < 3:
		return figure.Result{}, record.Because(record.TooFew, "%.3g s are less than two intervals of the record", delay)
	}
	u := trace.Series{T: b.T, X: b.Volts}.At(t0 + delay)
	i := trace.Series{T: b.T, X: b.Amps}.At(t0 + delay)
	if math.IsNaN(u) || math.IsNaN(i) {
		return figure.Result{}, record.Because(record.NoData, "the record ends before %.3g s after the step", delay)
	}
	du, di := u-u0, i-i0
	ampSpec, ampsStated := rec.Specs[b.AmpsColumn].Find(i)
	voltSpec, voltsStated := rec.Specs[b.VoltsColumn].Find(u)
	if math.Abs(di) <= math.Max(2*ampSpec.Offset, 1e-6) {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the current did not step: %.4g A before, %.4g A after",
			i0, i)
	}
	r := figure.Result{Value: 1000 * du / di, N: len(rest.T) + near, Remarks: []string{fmt.Sprintf("after %.3g s", delay)}}
	noiseV := math.Max(deviation(rest.Volts), uncertainty.Resolution(voltSpec.Resolution))
	noiseI := math.Max(deviation(rest.Amps), uncertainty.Resolution(ampSpec.Resolution))
	n := math.Sqrt(float64(len(rest.T)))
	r.WithUncertainty(func(x []float64) float64 { return 1000 * (x[1] - x[0]) / (x[3] - x[2]) }, []uncertainty.Reading{
		{Value: u0, Group: b.VoltsColumn, Gain: voltSpec.Reading, Offset: voltSpec.Offset, Noise: noiseV / n},
		{Value: u, Group: b.VoltsColumn, Gain: voltSpec.Reading, Offset: voltSpec.Offset, Noise: noiseV},
		{Value: i0, Group: b.AmpsColumn, Gain: ampSpec.Reading, Offset: ampSpec.Offset, Noise: noiseI / n},
		{Value: i, Group: b.AmpsColumn, Gain: ampSpec.Reading, Offset: ampSpec.Offset, Noise: noiseI},
	}, ampsStated && voltsStated)
	switch {
	case math.Abs(du) < 5*noiseV*math.Sqrt2:
		return r, record.Because(record.BelowFloor, "the voltage stepped by %.3g V, less than five times what it is known to",
			du)
	case r.Value < 0 && math.Abs(r.Value) > r.U:
		return r, record.Because(record.WrongSign, "the voltage went the other way than the current: %.4g mΩ", r.Value)
	}
	if line, err := (trace.Series{T: rest.T, X: rest.Volts}).Slope(); err == nil &&
		math.Abs(line.Slope) > 2*line.SlopeSD && math.Abs(line.Slope*delay) > 0.05*math.Abs(du) {
		return r,
			record.Because(record.NotSettled, "the voltage still drifted by %.3g V in %.3g s before the step; rest longer",
				line.Slope*delay, delay)
	}
	return r, nil
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

// restRecovery is U(t_off + after) less the last volts under load.
func restRecovery(rec *record.Record, req figure.Request) (figure.Result, error) {
	h, b, err := rested(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	// The load went off with the stage before: the last frame that had its current.
	k := -1
	for i, t := range b.T {
		if t <= h.From && rec.Flowing(b.AmpsColumn, b.Amps[i]) {
			k = i
		}
	}
	if k < 0 || k+1 >= len(b.T) {
		return figure.Result{}, record.Because(record.NoMark, "no frame under load was recorded before %s", h.Name)
	}
	under, off := b.Volts[k], b.T[k]
	for _, e := range rec.Marks {
		if e.Kind == record.MarkCommand && e.T > b.T[k] && e.T <= b.T[k+1] {
			off = e.T
		}
	}
	at := off + req.Args["after"]
	if last := b.Within(0, h.T1); len(last.T) == 0 || last.T[len(last.T)-1] < at {
		n := len(last.T)
		if n == 0 {
			return figure.Result{}, record.Because(record.NoData, "nothing was recorded at rest")
		}
		return figure.Result{},
			&record.Undetermined{Code: record.NoData, Sentence: fmt.Sprintf("%s is shorter than %.4g s after the load went off",
				h.Name,
				req.Args["after"]),
				Known: fmt.Sprintf("%.4g V after %.4g s", last.Volts[n-1]-under, last.T[n-1]-off)}
	}
	u := trace.Series{T: b.T, X: b.Volts}.At(at)
	r := figure.Result{Value: u - under, N: len(b.Within(off, at).T)}
	spec, stated := rec.Specs[b.VoltsColumn].Find(u)
	reading := func(x float64) uncertainty.Reading {
		return uncertainty.Reading{Value: x, Group: b.VoltsColumn, Gain: spec.Reading, Offset: spec.Offset,
			Noise: uncertainty.Resolution(spec.Resolution)}
	}
	r.WithUncertainty(func(x []float64) float64 { return x[1] - x[0] }, []uncertainty.Reading{reading(under), reading(u)},
		stated)
	return r, nil
}

// settledPerCell is the slope of the volts at rest below which a cell counts as settled: 5 mV/h.
const settledPerCell = 5e-3 / 3600

// restVoltage is the mean of the last part of a rest.
func restVoltage(rec *record.Record, req figure.Request) (figure.Result, error) {
	h, b, err := rested(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	w := b.Within(h.T1-req.Args["average"], h.T1)
	if len(w.T) == 0 {
		return figure.Result{}, record.Because(record.NoData, "nothing was recorded in the last %.3g s of %s",
			req.Args["average"], h.Name)
	}
	r := figure.Result{Value: meanOf(w.Volts), N: len(w.T)}
	longer := b.Within(h.T1-math.Max(req.Args["average"], 300), h.T1)
	if line, err := (trace.Series{T: longer.T, X: longer.Volts}).Slope(); err == nil &&
		math.Abs(line.Slope) <= settledPerCell*float64(max(rec.Series, 1)) {
		r.Remarks = append(r.Remarks, "settled")
	}
	spec, stated := rec.Specs[b.VoltsColumn].Find(r.Value)
	r.WithUncertainty(func(x []float64) float64 { return x[0] },
		[]uncertainty.Reading{{Value: r.Value, Group: b.VoltsColumn, Gain: spec.Reading, Offset: spec.Offset,
			Noise: math.Max(deviation(w.Volts)/math.Sqrt(float64(len(w.T))), uncertainty.Resolution(spec.Resolution))}}, stated)
	return r, nil
}
