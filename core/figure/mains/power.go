package mains

import (
	"errors"
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// standbyPower is P = (1/T)·∫p dt of what is left of a stage after its first part, where the power is stable there
// (IEC 62301, sampling). A limit on it may be judged only if it is known as well as [permittedUncertainty] says.
func standbyPower(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, p, err := steadyPower(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if err := isStable(rec, req, w, p); err != nil {
		return figure.Result{}, err
	}
	f := figure.Of(p, p.Mean.Value)
	f.KnownFrom(func(x []float64) float64 { return x[0] }, p)
	if rec.Exact {
		return f, nil
	}
	if f.Permitted, err = permittedFor(rec, req); err != nil {
		f.Remarks = append(f.Remarks, "whether it is known well enough could not be said: "+record.ReasonOf(err).Sentence)
	}
	return f, nil
}

// steadyPower reads the watts of the settled part of a stage that is long enough.
func steadyPower(rec *record.Record, req figure.Request) (window, record.Measured, error) {
	w, found, err := all(rec, req, "watts")
	if err != nil {
		return w, record.Measured{}, err
	}
	if total := req.Args["total"]; w.whole < total*(1-rounding) {
		return w, record.Measured{}, record.Because(record.TooFew, "the stage lasted %.4g s; %.4g s are needed", w.whole,
			total)
	}
	return w, found[0], nil
}

// slopePerHour is by what a slope in W/s is multiplied to be one in W/h.
const slopePerHour = 3600

// permittedDrift is how much power may drift to be stable, W/h: 10 mW/h up to 1 W, beyond it 1 % in an hour.
func permittedDrift(watts float64) float64 {
	if math.Abs(watts) <= 1 {
		return 0.010
	}
	return 0.01 * math.Abs(watts)
}

// isStable fails for a power that drifts by more than is permitted: by the straight line through a steady one, and by
// the step between the two halves of a cyclic one.
func isStable(rec *record.Record, req figure.Request, w window, p record.Measured) error {
	drift, what := 0.0, "the slope of its straight line"
	if _, cyclic := req.Args["cycle"]; cyclic {
		middle := w.t0 + math.Floor(w.length()/req.Args["cycle"]/2+rounding)*req.Args["cycle"]
		first, err := rec.Measured(meterOf(req)+".watts", w.t0, middle)
		if err != nil {
			return err
		}
		second, err := rec.Measured(meterOf(req)+".watts", middle, w.t1)
		if err != nil {
			return err
		}
		drift, what = (second.Mean.Value-first.Mean.Value)/((w.t1-w.t0)/2)*slopePerHour, "the step between its halves"
	} else {
		line, err := straight(p)
		if err != nil {
			return record.CodeOf(err, meterOf(req)+".watts")
		}
		drift = line.Slope * slopePerHour
	}
	if permitted := permittedDrift(p.Mean.Value); math.Abs(drift) > permitted {
		return record.Because(record.NotSettled,
			"the power drifts by %.4g mW/h, by %s; %.4g mW/h are permitted, so hold longer", 1e3*drift, what, 1e3*permitted)
	}
	return nil
}

// fewestReadings is how many a straight line needs that is held against what is permitted; [trace.Series.Slope] asks
// for more.
const fewestReadings = 3

// straight is the straight line through a power.
func straight(p record.Measured) (trace.Line, error) {
	line, err := p.Slope()
	if errors.Is(err, trace.ErrTooFew) && p.Len() >= fewestReadings {
		return trace.Fit(p.T, p.X)
	}
	return line, err
}

// powerStability is the slope of the straight line through the power, W/h. It is stable where its amount is within what
// is permitted, which the remark says.
func powerStability(rec *record.Record, req figure.Request) (figure.Result, error) {
	_, found, err := all(rec, req, "watts")
	if err != nil {
		return figure.Result{}, err
	}
	p := found[0]
	line, err := straight(p)
	if err != nil {
		return figure.Result{}, record.CodeOf(err, meterOf(req)+".watts")
	}
	f := figure.Of(p, beside(p.Mean.Value, line.Slope*slopePerHour))
	permitted := permittedDrift(p.Mean.Value)
	f.Remarks = append(f.Remarks, ofPermitted(f.Value, permitted))
	if 2*line.SlopeSD*slopePerHour > permitted {
		f.Remarks = append(f.Remarks, "noisy")
	}
	if !p.Stated {
		f.Remarks = append(f.Remarks, figure.NotStated)
		return f, nil
	}
	e := uncertainty.Expand([]float64{p.Mean.Gain * math.Abs(f.Value)},
		[]uncertainty.Normal{{Standard: line.SlopeSD * slopePerHour, Freedom: p.Len() - 2}})
	f.U, f.K = e.U, e.K
	return f, nil
}

// beside is a difference, or 0 where it is no more than what digits lose beside what it is a difference of.
func beside(large, difference float64) float64 {
	if math.Abs(difference) < 1e-12*math.Abs(large) {
		return 0
	}
	return difference
}

func ofPermitted(drift, permitted float64) string {
	word := "stable"
	if math.Abs(drift) > permitted {
		word = "not stable"
	}
	return fmt.Sprintf("%s: %.3g of the permitted %.4g W/h", word, math.Abs(drift)/permitted, permitted)
}

// powerStep is |P₂ − P₁|/(m₂ − m₁) of the first and the last period of the settled part, W/h, with m their
// middles.
func powerStep(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := settled(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	length := req.Args["period"]
	if every, cyclic := req.Args["cycle"]; cyclic {
		length = math.Ceil(length/every-rounding) * every
	}
	switch {
	case w.length() < length*(1-rounding):
		return figure.Result{}, record.Because(record.TooFew, "%.4g s are left of the stage; a period is %.4g s",
			w.length(), length)
	case w.length() < 2*length*(1-rounding):
		return figure.Result{}, record.Because(record.TimeOrder, "two periods of %.4g s overlap in %.4g s", length,
			w.length())
	}
	column := meterOf(req) + ".watts"
	first, err := rec.Measured(column, w.t0, w.t0+length)
	if err != nil {
		return figure.Result{}, err
	}
	second, err := rec.Measured(column, w.t1-length, w.t1)
	if err != nil {
		return figure.Result{}, err
	}
	apart := (w.length() - length) / slopePerHour
	f := figure.Of(second, math.Abs(second.Mean.Value-first.Mean.Value)/apart)
	f.KnownFrom(func(x []float64) float64 { return (x[1] - x[0]) / apart }, first, second)
	f.Remarks = append(f.Remarks, ofPermitted(f.Value, permittedDrift((first.Mean.Value+second.Mean.Value)/2)))
	return f, nil
}

// accumulated is what the meter's own energy counter says of a window.
type accumulated struct {
	watts, seconds, step float64
	n                    int
	known                bool // the step is
}

// byCounter takes the first and the last reading of the counter in the settled part of a stage. A reading between two
// steps is up to a step too low at either end.
func byCounter(rec *record.Record, req figure.Request) (a accumulated, err error) {
	w, err := settled(rec, req)
	if err != nil {
		return a, err
	}
	column := meterOf(req) + ".energy"
	e, _, err := rec.Whole(column, w.t0, w.t1)
	if err != nil {
		return a, err
	}
	last := e.Len() - 1
	a.seconds, a.n = e.T[last]-e.T[0], e.Len()
	if shortest := req.Args["shortest"]; a.seconds < shortest*(1-rounding) {
		return a, record.Because(record.TooFew, "it was accumulated for %.4g s; %.4g s are needed", a.seconds, shortest)
	}
	a.step, a.known = req.Args["step"], req.Args["step"] > 0
	if spec, stated := rec.Specs[column].Find(e.X[last]); !a.known && stated {
		a.step, a.known = spec.Resolution, true
	}
	if at, falls := falling(e, a.step); falls {
		return a, record.Because(record.Implausible, "the counter of energy falls at %.6g s", at)
	}
	a.watts = (e.X[last] - e.X[0]) / a.seconds
	return a, nil
}

// falling finds where a counter falls by more than a step.
func falling(s trace.Series, step float64) (at float64, falls bool) {
	for k := 1; k < s.Len(); k++ {
		if s.X[k] < s.X[k-1]-step {
			return s.T[k], true
		}
	}
	return 0, false
}

// rounded are the two roundings of a counter, as half-widths of the power, W: q/(√6·T) together.
func (a accumulated) rounded() []float64 {
	half := a.step / 2 / a.seconds
	return []float64{half, half}
}

// accumulatedPower is (E₂ − E₁)/(t₂ − t₁) of the meter's counter of energy (IEC 62301, accumulation).
func accumulatedPower(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, err := byCounter(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := figure.Result{Value: a.watts, N: a.n}
	watts, stated := rec.Input(meterOf(req)+".watts", a.watts, 0)
	if !stated || !a.known {
		f.Remarks = append(f.Remarks, figure.NotStated)
		return f, nil
	}
	e := uncertainty.Expand(append(a.rounded(), watts.Gain*math.Abs(a.watts), watts.Offset), nil)
	f.U, f.K = e.U, e.K
	return f, nil
}

// methodDifference is 100·(P_acc − P_samp)/P_samp over one window. The gain of the one meter cancels. Beyond what
// both are known to, the load has bursts between the readings.
func methodDifference(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, err := byCounter(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	_, p, err := steadyPower(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if math.Abs(p.Mean.Value) <= p.Floor() || p.Mean.Value == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the power is not told from 0")
	}
	scale := 100 / p.Mean.Value
	f := figure.Of(p, beside(100, scale*(a.watts-p.Mean.Value)))
	if !p.Stated || !a.known {
		f.Remarks = append(f.Remarks, figure.NotStated)
		return f, nil
	}
	halves := a.rounded()
	for i := range halves {
		halves[i] *= math.Abs(scale)
	}
	noise := uncertainty.Normal{Standard: p.Mean.Noise * math.Abs(scale), Freedom: p.Mean.N - 1}
	e := uncertainty.Expand(halves, []uncertainty.Normal{noise})
	if f.U, f.K = e.U, e.K; math.Abs(f.Value) > f.U {
		f.Remarks = append(f.Remarks, "bursts: report the accumulated power")
	}
	return f, nil
}

// maxCurrentRatio is MCR = CF/λ, with the crest factor of the current and λ = P/(V·I) (IEC 62301).
func maxCurrentRatio(rec *record.Record, req figure.Request) (figure.Result, error) {
	_, found, err := all(rec, req, "watts", "volts", "amps", "amps.peak")
	if err != nil {
		return figure.Result{}, err
	}
	p, v, i, peak := found[0], found[1], found[2], found[3]
	switch {
	case math.Abs(p.Mean.Value) <= p.Floor() || p.Mean.Value == 0:
		return figure.Result{}, record.Because(record.ZeroDivisor, "the power is not told from 0")
	case i.Mean.Value <= i.Floor():
		return figure.Result{}, record.Because(record.ZeroDivisor, "the current is not told from 0")
	}
	if err := unclipped(rec, meterOf(req)+".amps.peak", peak); err != nil {
		return figure.Result{}, err
	}
	factor := figure.Result{Value: p.Mean.Value / (v.Mean.Value * i.Mean.Value)}
	factor.KnownFrom(func(x []float64) float64 { return x[0] / (x[1] * x[2]) }, p, v, i)
	if math.Abs(factor.Value) > 1+factor.U+1e-9 {
		return figure.Result{}, record.Because(record.Implausible, "the power factor would be %.4g", factor.Value)
	}
	ratio := func(x []float64) float64 { return x[3] * x[1] / x[0] } // (Î/I)·(V·I)/P
	f := figure.Of(p, ratio([]float64{p.Mean.Value, v.Mean.Value, i.Mean.Value, peak.Mean.Value}))
	f.KnownFrom(ratio, p, v, i, peak)
	return f, nil
}

// permittedFor is how large U may be for the power of a request, W.
func permittedFor(rec *record.Record, req figure.Request) (float64, error) {
	_, found, err := all(rec, req, "watts")
	if err != nil {
		return 0, err
	}
	ratio, err := maxCurrentRatio(rec, req)
	if err != nil {
		return 0, err
	}
	return permitted(found[0].Mean.Value, ratio.Value), nil
}

// permitted is what IEC 62301 permits for 95 %, W: 2 % of a power from 1 W on, 20 mW below it; where the maximum
// current ratio is above 10, U_pc = 0.02·[1 + 0.08·(MCR − 10)] takes the place of the 2 %.
func permitted(watts, ratio float64) float64 {
	share := 0.02
	if ratio > 10 {
		share *= 1 + 0.08*(ratio-10)
	}
	switch {
	case watts >= 1:
		return share * watts
	case ratio > 10:
		return math.Max(0.02, share*watts)
	}
	return 0.02
}

// permittedUncertainty is how large the expanded uncertainty of a low power may be.
func permittedUncertainty(rec *record.Record, req figure.Request) (figure.Result, error) {
	_, found, err := all(rec, req, "watts")
	if err != nil {
		return figure.Result{}, err
	}
	ratio, err := maxCurrentRatio(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := found[0]
	f := figure.Of(p, permitted(p.Mean.Value, ratio.Value))
	f.Remarks = append(f.Remarks, fmt.Sprintf("maximum current ratio %.4g", ratio.Value))
	f.KnownFrom(func(x []float64) float64 { return permitted(x[0], ratio.Value) }, p)
	return f, nil
}
