package mains

import (
	"fmt"
	"math"
	"strings"

	"usherbench/core/burden"
	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// What IEC 62301 asks of a supply.
const (
	supplyWithin   = 1.0 // % off nominal, of volts and of hertz
	supplyTHD      = 2.0 // %, harmonics to voltOrders
	supplyCrestLow = 1.34
	supplyCrestTop = 1.49
	voltOrders     = 13
	ampOrders      = 40
)

// ratingOf says where the nominal value stands that an argument may give.
var ratingOf = map[string]string{nominalVolts.Name: "nominal_line", nominalHertz.Name: "line_frequency"}

// nominal is what the supply should give: as it is asked for, else as the nameplate has it.
func nominal(rec *record.Record, req figure.Request, a figure.Arg) (float64, error) {
	if x, given := req.Args[a.Name]; given {
		return x, nil
	}
	rating := ratingOf[a.Name]
	if q, stated := rec.Ratings[rating]; stated && q.Value > 0 {
		return q.Value, nil
	}
	return 0, record.Because(record.NoRating, "the nameplate does not state %s; state it, or give %s", rating, a.Name)
}

// over reads a column of the meter over the whole stage that a request names.
func over(rec *record.Record, req figure.Request, q string) (record.Measured, error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return record.Measured{}, err
	}
	return rec.Measured(meterOf(req)+"."+q, span.T0, span.T1)
}

// deviation is 100·(x − x_n)/x_n of the reading that is farthest from nominal, with its sign.
func deviation(q string, a figure.Arg) func(*record.Record, figure.Request) (figure.Result, error) {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		want, err := nominal(rec, req, a)
		if err != nil {
			return figure.Result{}, err
		}
		x, err := over(rec, req, q)
		if err != nil {
			return figure.Result{}, err
		}
		at := 0
		for k := range x.X {
			if math.Abs(x.X[k]-want) > math.Abs(x.X[at]-want) {
				at = k
			}
		}
		off := func(v []float64) float64 { return 100 * (v[0] - want) / want }
		f := figure.Of(x, off(x.X[at:at+1]))
		f.Remarks = append(f.Remarks, quantity.Sprintf("first at %.6g s", x.T[at]))
		x.Mean.Value, x.Mean.Noise, x.Mean.N = x.X[at], x.Noise(), 0 // a single reading has all of it
		f.KnownFrom(off, x)
		return f, nil
	}
}

// distortion is 100·√(Σ_{h≥2} X_h²)/X₁ of the harmonics that the meter reads, up to an order. Noise adds to
// every harmonic, so small values read high.
func distortion(q string, orders int) func(*record.Record, figure.Request) (figure.Result, error) {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		var found []record.Measured
		for h := 1; h <= orders; h++ {
			x, err := over(rec, req, fmt.Sprintf("%s.h%d", q, h))
			if err != nil && h > 1 {
				return figure.Result{}, record.Because(record.TooFew, "harmonics of %s are read up to order %d; %d are needed",
					meterOf(req)+"."+q, h-1, orders)
			}
			if err != nil {
				return figure.Result{}, err
			}
			found = append(found, x)
		}
		first := found[0]
		if first.Mean.Value <= math.Max(first.Floor(), 0) {
			return figure.Result{}, record.Because(record.BelowFloor, "the fundamental is not told from 0")
		}
		values := make([]float64, orders)
		for i, x := range found {
			values[i] = x.Mean.Value
		}
		f := figure.Of(first, distorted(values))
		f.KnownFrom(distorted, found...)
		return f, nil
	}
}

// distorted is the share of harmonics from the second on, %.
func distorted(x []float64) float64 {
	sum := 0.0
	for _, h := range x[1:] {
		sum += h * h
	}
	return 100 * math.Sqrt(sum) / x[0]
}

// crestFactor is max|x|/X_rms, from the peak and the effective value of the same cycles. A peak grows with noise and
// shrinks with bandwidth.
func crestFactor(q string) func(*record.Record, figure.Request) (figure.Result, error) {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		peak, err := over(rec, req, q+".peak")
		if err != nil {
			return figure.Result{}, err
		}
		rms, err := over(rec, req, q)
		if err != nil {
			return figure.Result{}, err
		}
		if err := unclipped(rec, meterOf(req)+"."+q+".peak", peak); err != nil {
			return figure.Result{}, err
		}
		if rms.Mean.Value <= math.Max(rms.Floor(), 0) {
			return figure.Result{}, record.Because(record.BelowFloor, "%s is not told from 0", meterOf(req)+"."+q)
		}
		f := figure.Of(rms, peak.Mean.Value/rms.Mean.Value)
		f.KnownFrom(func(x []float64) float64 { return x[0] / x[1] }, peak, rms)
		return f, nil
	}
}

// breaches counts which of the limits of a supply are broken: volts, frequency, distortion, crest factor. The remark
// names them.
func breaches(rec *record.Record, req figure.Request) (figure.Result, error) {
	var names []string
	f := figure.Result{}
	for _, q := range []struct {
		name      string
		formula   func(*record.Record, figure.Request) (figure.Result, error)
		low, high float64
	}{
		{"volts", deviation("volts", nominalVolts), -supplyWithin, supplyWithin},
		{"frequency", deviation("hertz", nominalHertz), -supplyWithin, supplyWithin},
		{"distortion", distortion("volts", voltOrders), 0, supplyTHD},
		{"crest factor", crestFactor("volts"), supplyCrestLow, supplyCrestTop},
	} {
		found, err := q.formula(rec, req)
		if err != nil {
			why := *record.ReasonOf(err)
			why.Sentence = q.name + ": " + why.Sentence
			return figure.Result{}, &why
		}
		f.N = max(f.N, found.N)
		if found.Value < q.low || found.Value > q.high {
			names = append(names, fmt.Sprintf("%s %.4g", q.name, found.Value))
		}
	}
	f.Value = float64(len(names))
	if len(names) > 0 {
		f.Remarks = append(f.Remarks, strings.Join(names, ", "))
	}
	return f, nil
}

// asWired is the wiring that the bench says; where it says none, the voltmeter is at the supply.
const asWired = "as-wired"

func withWiring(d figure.Definition) figure.Definition {
	d.Choices = map[string][]string{"wiring": {asWired, string(burden.AtSupply), string(burden.AtUnit)}}
	return d
}

// wired is the wiring of a request.
func wired(rec *record.Record, req figure.Request) burden.Wiring {
	if w := req.Choices["wiring"]; w != asWired {
		return burden.Wiring(w)
	}
	if spec := rec.Specs[meterOf(req)+".watts"]; len(spec) > 0 && spec[0].Wiring != "" {
		return burden.Wiring(spec[0].Wiring)
	}
	return burden.AtSupply
}

// resistance is one of the meter's own: that which a request states, else that of the range in use.
func resistance(rec *record.Record, req figure.Request, a figure.Arg) (uncertainty.Reading, error) {
	ohms, given := req.Args[a.Name]
	if !given {
		of := map[string]string{across.Name: "volts", through.Name: "amps"}[a.Name]
		m, err := over(rec, req, of)
		if err != nil {
			return uncertainty.Reading{}, err
		}
		r, _ := rec.Specs[meterOf(req)+"."+of].Find(m.Mean.Value)
		ohms, given = r.Burden, r.Burden > 0
	}
	if !given {
		return uncertainty.Reading{}, record.Because(record.NoRating,
			"give %s, the resistance of the range in use, or state it in the dialect of the meter (burden)", a.Name)
	}
	return uncertainty.Reading{Value: ohms, Group: a.Name, Gain: req.Args[known.Name]}, nil
}

// correctedPower takes off what the meter itself takes:
//
//	voltmeter at the unit    P = P_m − V_m²/R_V
//	voltmeter at the supply  P = P_m − R_A·I_m²
//
// which is exact for any waveform, as only means of products occur.
func correctedPower(rec *record.Record, req figure.Request) (figure.Result, error) {
	wiring := wired(rec, req)
	which, a := "amps", through
	if wiring == burden.AtUnit {
		which, a = "volts", across
	}
	r, err := resistance(rec, req, a)
	if err != nil {
		return figure.Result{}, err
	}
	_, found, err := all(rec, req, "watts", which)
	if err != nil {
		return figure.Result{}, err
	}
	p, x := found[0], found[1]
	taken := wiring.Own(x.Mean.Value, r.Value)
	if math.Abs(taken) > math.Abs(p.Mean.Value)+p.Floor() {
		return figure.Result{}, record.Because(record.Implausible, "the meter would take %.4g W of %.4g W itself", taken,
			p.Mean.Value)
	}
	corrected := func(v []float64) float64 { return v[0] - wiring.Own(v[1], v[2]) }
	f := figure.Of(p, p.Mean.Value-taken)
	f.Remarks = append(f.Remarks, quantity.Sprintf("corrected by %.4g W", -taken))
	f.KnownFrom(corrected, p, x, record.Measured{Mean: r, Stated: true})
	return f, nil
}

// crossover is I* = V/√(R_A·R_V), where both wirings err by the same: below it the voltmeter at the supply errs
// less.
func crossover(rec *record.Record, req figure.Request) (figure.Result, error) {
	rv, err := resistance(rec, req, across)
	if err != nil {
		return figure.Result{}, err
	}
	ra, err := resistance(rec, req, through)
	if err != nil {
		return figure.Result{}, err
	}
	v, err := over(rec, req, "volts")
	if err != nil {
		return figure.Result{}, err
	}
	at := func(x []float64) float64 { return burden.Crossover(x[0], x[1], x[2]) }
	f := figure.Of(v, at([]float64{v.Mean.Value, rv.Value, ra.Value}))
	f.KnownFrom(at, v, record.Measured{Mean: rv, Stated: true}, record.Measured{Mean: ra, Stated: true})
	return f, nil
}
