package converter

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// shortestNoLoad is the least window of no-load-power, s.
const shortestNoLoad = 10

// noLoadPower is ΔE/Δt of the input with every output unloaded, over a hold of at least 10 s. The energy
// counter runs at the full rate of the frames; the uncertainty is that of volts and amps read all the time with
// the same gain and offset.
func noLoadPower(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, err := unloadedSpan(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	length := span.T1 - span.T0
	var w [3]trace.Series
	var remarks []string
	for i, column := range []string{req.Input + ".energy", req.Input + ".volts", req.Input + ".amps"} {
		s, err := rec.Trace(column, span.T0, span.T1)
		if err != nil {
			return figure.Result{}, err
		}
		var gaps bool
		if w[i], gaps, err = record.BridgedTrace(s, column, span.T0, span.T1); err != nil {
			return figure.Result{}, err
		}
		if gaps && i == 0 {
			remarks = append(remarks, "bridged")
		}
	}
	energy := w[0]
	n := energy.Len()
	elapsed := energy.T[n-1] - energy.T[0]
	r := figure.Result{Value: (energy.X[n-1] - energy.X[0]) / elapsed, N: n, Remarks: remarks}
	if length < shortestNoLoad {
		return r, record.Because(record.TooFew, "the stage %q lasts %.3g s; the window must be at least %d s", span.Name,
			length,
			shortestNoLoad)
	}
	half := energy.T[0] + elapsed/2
	first := 2 * (energy.At(half) - energy.X[0]) / elapsed
	if math.Abs(2*(r.Value-first)) > 0.02*math.Abs(r.Value) {
		return r, record.Because(record.NotSettled, "the two halves of the window differ by more than 2 %%; hold longer")
	}
	volts, _ := w[1].Mean()
	amps, _ := w[2].Mean()
	readings := make([]uncertainty.Reading, 2)
	stated := true
	for i, m := range []float64{volts, amps} {
		column := []string{req.Input + ".volts", req.Input + ".amps"}[i]
		spec, ok := rec.Specs[column].Find(m)
		stated = stated && ok
		a, _ := trace.SettledAverage(w[i+1], spec.Resolution)
		readings[i] = uncertainty.Reading{Value: m, Group: column, Gain: spec.Reading, Offset: spec.Offset, Noise: a.SE}
	}
	r.WithUncertainty(func(x []float64) float64 { return x[0] * x[1] }, readings, stated)
	if r.K > 0 && r.U/r.K > 0.1*math.Abs(r.Value) {
		return r,
			record.Because(record.BelowFloor, "the supply's current range is too coarse: %.3g W is known to ± %.2g W only",
				r.Value, r.U)
	}
	return r, nil
}

// unloadedSpan is the stage that the request names, or the longest hold during which no output was loaded.
func unloadedSpan(rec *record.Record, req figure.Request) (record.Span, error) {
	var best record.Span
	for _, s := range rec.Stages {
		if req.Stage != "" && s.Name != req.Stage || req.Stage == "" && s.Kind != "hold" {
			continue
		}
		if err := unloaded(rec, s, req.Output); err != nil {
			if req.Stage != "" {
				return s, err
			}
			continue
		}
		if s.T1-s.T0 > best.T1-best.T0 {
			best = s
		}
	}
	if best.T1 == 0 {
		if req.Stage != "" {
			return best, record.Because(record.NoMark, "the stage %q did not happen", req.Stage)
		}
		return best, record.Because(record.NoMark, "no hold with every output unloaded was found")
	}
	return best, nil
}

// unloaded reports a load that was on: a current above its offset.
func unloaded(rec *record.Record, s record.Span, output string) error {
	amps, err := rec.Trace(output+".amps", s.T0, s.T1)
	if err != nil {
		return err
	}
	w, _, err := record.BridgedTrace(amps, output+".amps", s.T0, s.T1)
	if err != nil {
		return err
	}
	mean, err := w.Mean()
	if err != nil {
		return record.CodeOf(err, output+".amps")
	}
	floor := 1e-3
	if r, ok := rec.Specs[output+".amps"].Find(mean); ok {
		floor = max(floor, 2*r.Offset)
	}
	if math.Abs(mean) > floor {
		return record.Because(record.WrongConditions, "%s is on: it draws %s", output,
			quantity.Quantity{Value: mean, Dim: quantity.Current})
	}
	return nil
}
