// Package basics computes what is asked of any trace over a stage: means, extremes, charge, energy, slopes.
package basics

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

func of(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Window, Formula: formula, Args: append(args, from, lasting)}
}

// What part of its stage a figure is of: from so long after its beginning, for so long; 0: to its end.
var (
	from    = figure.Arg{Name: "from", Dim: quantity.Time, Default: 0, Least: 0, Most: 1e9}
	lasting = figure.Arg{Name: "for", Dim: quantity.Time, Default: 0, Least: 0, Most: 1e9}
	drift   = figure.Arg{Name: "drift", Dim: quantity.Number, Default: 0.001, Least: 0, Most: 1}
)

// Figures of this family.
var Figures = []figure.Definition{
	of("mean", "Mean", "", mean),
	of("rms", "Effective value", "", rms),
	of("minimum", "Least", "", extreme(-1)),
	of("maximum", "Largest", "", extreme(1)),
	of("settled-average", "Settled average", "", settledAverage, drift),
	perSecond(of("slope", "Slope", "", slope)),
	of("charge", "Charge", "Ah", charge),
	of("energy", "Energy", "Wh", energy),
}

func perSecond(d figure.Definition) figure.Definition {
	d.PerSecond = true
	return d
}

// bounds are the ends of the window that a request means.
func bounds(rec *record.Record, req figure.Request) (t0, t1 float64, err error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return 0, 0, err
	}
	t0, t1 = span.T0+req.Args["from"], span.T1
	if length := req.Args["for"]; length > 0 {
		t1 = math.Min(t0+length, span.T1)
	}
	if t1 <= t0 {
		return 0, 0, record.Because(record.NoData, "the stage %q lasts %.4g s, which ends before the window begins",
			span.Name, span.T1-span.T0)
	}
	return t0, t1, nil
}

// taken is a column over the window that a request means, without gaps.
func taken(rec *record.Record, req figure.Request, column string) (record.Measured, error) {
	t0, t1, err := bounds(rec, req)
	if err != nil {
		return record.Measured{}, err
	}
	return rec.Measured(column, t0, t1)
}

// mean is (1/T)·Σ ½·(x_k + x_{k+1})·h_k.
func mean(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := taken(rec, req, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	scale := 1 / trace.UnitOf(req.Quantity).Factor
	r := figure.Of(w, w.Mean.Value*scale)
	r.WithUncertainty(func(x []float64) float64 { return x[0] * scale }, []uncertainty.Reading{w.Mean}, w.Stated)
	return r, nil
}

// rms is √((1/T)·Σ ½·(x_k² + x_{k+1}²)·h_k).
func rms(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := taken(rec, req, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	x, err := w.RMS()
	if err != nil {
		return figure.Result{}, record.CodeOf(err, req.Quantity)
	}
	scale := 1 / trace.UnitOf(req.Quantity).Factor
	r := figure.Of(w, x*scale)
	w.Mean.Value = x
	r.WithUncertainty(func(x []float64) float64 { return x[0] * scale }, []uncertainty.Reading{w.Mean}, w.Stated)
	return r, nil
}

// extreme is the least or the largest sample, with the time of the first. Gaps leave it a remark: what was seen was
// seen.
func extreme(sign float64) func(*record.Record, figure.Request) (figure.Result, error) {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		t0, t1, err := bounds(rec, req)
		if err != nil {
			return figure.Result{}, err
		}
		all, err := rec.Trace(req.Quantity, t0, t1)
		if err != nil {
			return figure.Result{}, record.CodeOf(err, req.Quantity)
		}
		s := all.Present()
		if s.Len() < 2 {
			return figure.Result{}, record.Because(record.TooFew, "%s has %d readings there; two are needed", req.Quantity,
				s.Len())
		}
		at := 0
		for k, x := range s.X {
			if sign*x > sign*s.X[at] {
				at = k
			}
		}
		unit := trace.UnitOf(req.Quantity)
		r := figure.Result{Value: s.X[at] / unit.Factor, N: s.Len(),
			Remarks: []string{quantity.Sprintf("first at %.6g s", s.T[at])}}
		if _, bridged, err := rec.Whole(req.Quantity, t0, t1); err != nil || bridged {
			r.Remarks = append(r.Remarks, "gaps")
		}
		reading, stated := rec.ReadingOf(req.Quantity, s, s.X[at])
		reading.Noise, reading.N = s.Noise(), 0 // a single sample has all of it
		r.WithUncertainty(func(x []float64) float64 { return x[0] / unit.Factor }, []uncertainty.Reading{reading}, stated)
		return r, nil
	}
}

// settledAverage is the mean of a window in which nothing drifts by more than a share of it, or the channel's
// accuracy.
func settledAverage(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := taken(rec, req, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	a, err := trace.SettledAverage(w.Series, w.Mean.Resolution)
	if err != nil {
		return figure.Result{}, record.CodeOf(err, req.Quantity)
	}
	allowed := math.Max(req.Args["drift"]*math.Abs(a.Mean), w.Mean.Gain*math.Abs(a.Mean)+w.Mean.Offset)
	if math.Abs(a.Drift) > allowed {
		return figure.Result{}, record.Because(record.NotSettled, "%s drifts by %.4g over the window", req.Quantity, a.Drift)
	}
	scale := 1 / trace.UnitOf(req.Quantity).Factor
	r := figure.Of(w, a.Mean*scale)
	w.Mean.Value, w.Mean.Noise, w.Mean.N = a.Mean, a.SE, a.N
	r.WithUncertainty(func(x []float64) float64 { return x[0] * scale }, []uncertainty.Reading{w.Mean}, w.Stated)
	return r, nil
}

// slope is b = Σ(t − t̄)(x − x̄)/Σ(t − t̄)². Offsets cancel; a gain is relative.
func slope(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := taken(rec, req, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	line, err := w.Slope()
	if err != nil {
		return figure.Result{}, record.CodeOf(err, req.Quantity)
	}
	scale := 1 / trace.UnitOf(req.Quantity).Factor
	r := figure.Of(w, line.Slope*scale)
	if !w.Stated {
		r.Remarks = append(r.Remarks, figure.NotStated)
		return r, nil
	}
	e := uncertainty.Expand([]float64{w.Mean.Gain * math.Abs(line.Slope)},
		[]uncertainty.Normal{{Standard: line.SlopeSD, Freedom: w.Len() - 2}})
	r.U, r.K = e.U*math.Abs(scale), e.K
	return r, nil
}

// charge is (1/3600)·Σ ½·(I_k + I_{k+1})·h_k of the amps that are asked for, split at commands.
func charge(rec *record.Record, req figure.Request) (figure.Result, error) {
	return integral(rec, req, quantity.Current, record.AmpHour, "amps")
}

// energy is the same of watts.
func energy(rec *record.Record, req figure.Request) (figure.Result, error) {
	return integral(rec, req, quantity.Power, record.WattHour, "watts")
}

func integral(rec *record.Record, req figure.Request, dim quantity.Dimension, per float64,
	word string) (figure.Result, error) {
	if trace.UnitOf(req.Quantity).Dim != dim {
		return figure.Result{}, record.Because(record.WrongConditions, "say with quantity of which %s, such as load.%s", word,
			word)
	}
	w, err := taken(rec, req, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	length := w.T[w.Len()-1] - w.T[0]
	sum := w.IntegralSplit(rec.Commands())
	r := figure.Of(w, sum/per)
	w.Mean.Value = sum / length
	r.WithUncertainty(func(x []float64) float64 { return x[0] * length / per }, []uncertainty.Reading{w.Mean}, w.Stated)
	return r, nil
}
