// Package device computes what a sweep of a semiconductor or of an insulation tells: where it breaks down, what leaks
// through it, where the instrument's limit was met, and how its insulation stands a voltage.
//
// One instrument feeds the device and measures it. A device that is fed the other way round counts as if it was not:
// volts and amps are above zero in the direction in which it is tested.
package device

import (
	"cmp"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// Figures of this family.
var Figures = []figure.Definition{
	swept("breakdown-voltage", "Breakdown volts", "V", breakdown, current),
	lessEmpty(swept("leakage-current", "Leakage", "A", leakage, voltage)),
	swept("compliance-voltage", "Volts at the current limit", "V", compliance),
	lessEmpty(held("insulation-resistance", "Insulation resistance", "Ω", insulation, after, empty)),
	lessEmpty(held("polarization-index", "Polarization index", "", polarization, empty)),
	stoodOf("withstand-voltage", "Volts that it stood", "V", withstandVoltage),
	stoodOf("withstand-leakage", "Largest leakage in the withstand test", "A", withstandLeakage),
}

// DefaultSeat is the seat that feeds and measures a device where nobody names another.
const DefaultSeat = "sourcemeter"

// current and voltage say where on a sweep a figure is taken; after is when the volts have stood for long enough, and
// empty the amps of the fixture without a device.
var (
	current = figure.Arg{Name: "current", Dim: quantity.Current, Default: math.NaN(), Least: 1e-15, Most: 1e3}
	voltage = figure.Arg{Name: "voltage", Dim: quantity.Voltage, Default: math.NaN(), Least: 1e-3, Most: 1e5}
	after   = figure.Arg{Name: "after", Dim: quantity.Time, Default: 60, Least: 0.1, Most: 1e5}
	empty   = figure.Arg{Name: "empty", Dim: quantity.Current, Default: 0, Least: -1, Most: 1}
)

func swept(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		AllSides: true, Formula: formula, Args: args,
		Choices: map[string][]string{"way": {string(record.There), string(record.Back)}}}
}

func held(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: cmp.Or(unit, "Ω/Ω"), Least: 0, Most: math.Inf(1),
		Needs: figure.Window, AllSides: true, Formula: formula, Args: args}
}

// lessEmpty is a figure less what flows through the empty fixture, where a stage is named in which that was measured.
func lessEmpty(d figure.Definition) figure.Definition {
	d.MayHaveGear = true
	return d
}

func seatOf(req figure.Request) string { return cmp.Or(req.Input, DefaultSeat) }

func sweepOf(rec *record.Record, req figure.Request, stage string) (record.Sweep, error) {
	s, err := rec.SweepOf(seatOf(req), stage, req.Pass, record.Way(req.Choices["way"]), req.At)
	return s.Blocked(), err
}

// given is an argument that has no default.
func given(req figure.Request, a figure.Arg) (float64, error) {
	x, ok := req.Args[a.Name]
	if !ok {
		return 0, record.Because(record.NoRating, "say with %s where it is taken", a.Name)
	}
	return x, nil
}

// inLimit tells whether the instrument was in its current limit at a place: it says so, or the amps come up to it.
func inLimit(s record.Sweep, p record.Swept) bool {
	limit, set := p.Set[s.Seat+".amps"]
	return p.Limited || set && math.Abs(p.Amps) >= 0.99*math.Abs(limit)
}

// interpolated is the volts at which ln|I| comes to a level between two places, straight in I where one of them has no
// logarithm: V_a + (V_b − V_a)·ln(I_x/I_a)/ln(I_b/I_a).
func interpolated(va, ia, vb, ib, level float64) float64 {
	share := (level - ia) / (ib - ia)
	if ia > 0 && ib > 0 {
		share = math.Log(level/ia) / math.Log(ib/ia)
	}
	return va + (vb-va)*share
}

// breakdown is the volts at the first upward crossing of a current that the place behind it, or the current limit,
// confirms.
func breakdown(rec *record.Record, req figure.Request) (figure.Result, error) {
	level, err := given(req, current)
	if err != nil {
		return figure.Result{}, err
	}
	s, err := sweepOf(rec, req, req.Stage)
	if err != nil {
		return figure.Result{}, err
	}
	p := s.Points
	n := len(p)
	if p[0].Amps >= level {
		return figure.Result{}, record.Because(record.AlreadyBeyond, "%.4g A flow already at %.5g V", p[0].Amps, p[0].Volts).
			Most(p[0].Volts, "V")
	}
	for k := 1; k < n; k++ {
		if p[k].Amps < level || p[k-1].Amps >= level {
			continue
		}
		confirmed := inLimit(s, p[k]) || k+1 < n && (p[k+1].Amps >= level || inLimit(s, p[k+1]))
		if !confirmed {
			continue
		}
		r := between(s, []int{k - 1, k}, func(x []float64) float64 {
			return interpolated(x[0], x[1], x[2], x[3], level)
		})
		r.Remarks = append(r.Remarks, "at "+words(level, quantity.Current))
		r.Spots = []figure.Spot{{By: s.Seat + ".volts", Of: s.Seat + ".amps", X: r.Value, Y: level, Label: "breakdown"}}
		return r, nil
	}
	return figure.Result{}, record.Because(record.NotReached, "%.4g A did not flow up to %.5g V", level, p[n-1].Volts).
		Least(p[n-1].Volts, "V")
}

// between is a function of the volts and amps of some places, with its uncertainty.
func between(s record.Sweep, places []int, of func(x []float64) float64) figure.Result {
	var readings []uncertainty.Reading
	stated := true
	for _, k := range places {
		volts, amps, ok := s.Points[k].Readings()
		readings, stated = append(readings, volts, amps), stated && ok
	}
	x := make([]float64, len(readings))
	for k, r := range readings {
		x[k] = r.Value
	}
	r := figure.Result{Value: of(x), N: len(s.Points)}
	r.WithUncertainty(of, readings, stated)
	return r
}

// leakage is the amps at a voltage, ln|I| straight in V between neighbours, less what flows through the empty fixture
// there.
func leakage(rec *record.Record, req figure.Request) (figure.Result, error) {
	at, err := given(req, voltage)
	if err != nil {
		return figure.Result{}, err
	}
	s, err := sweepOf(rec, req, req.Stage)
	if err != nil {
		return figure.Result{}, err
	}
	a, b, ok := s.Between(at)
	if !ok {
		return figure.Result{}, record.Because(record.NoPoint, "%.5g V lies beyond the sweep, which has %.5g to %.5g V", at,
			s.Points[0].Volts, s.Points[len(s.Points)-1].Volts)
	}
	for _, k := range []int{a, b} {
		if inLimit(s, s.Points[k]) {
			return figure.Result{}, record.Because(record.Limited, "the instrument was in its current limit at %.5g V",
				s.Points[k].Volts)
		}
	}
	if s.Points[a].Amps < 0 && s.Points[b].Amps < 0 {
		return figure.Result{}, record.Because(record.WrongSign, "the amps flow against the volts at %.5g V", at)
	}
	fixture := 0.0
	if req.Gear != "" {
		bare, err := sweepOf(rec, req, req.Gear)
		if err != nil {
			return figure.Result{}, err
		}
		if fixture = bare.At(at); math.IsNaN(fixture) {
			return figure.Result{}, record.Because(record.NoPoint, "the sweep of the empty fixture does not reach %.5g V", at)
		}
	}
	r := between(s, []int{a, b}, func(x []float64) float64 { return logAt(x[0], x[1], x[2], x[3], at) - fixture })
	r.Remarks = append(r.Remarks, "at "+words(at, quantity.Voltage))
	if req.Gear != "" {
		r.Remarks = append(r.Remarks, quantity.Sprintf("corrected by %.3g A of the empty fixture", fixture))
	}
	if r.U > 0 && math.Abs(r.Value) <= r.U {
		return r, record.Because(record.BelowFloor, "%.3g A are not told from 0, to ±%.2g A", r.Value, r.U).
			Between(r.Value-r.U, r.Value+r.U, "A")
	}
	r.Spots = []figure.Spot{{By: s.Seat + ".volts", Of: s.Seat + ".amps", X: at, Y: r.Value + fixture, Label: "leakage"}}
	return r, nil
}

func words(x float64, dim quantity.Dimension) string {
	return quantity.Quantity{Value: x, Dim: dim}.String()
}

// logAt is I at a voltage between two places, with ln I straight in V where both have a logarithm.
func logAt(va, ia, vb, ib, at float64) float64 {
	if va == vb {
		return ia
	}
	share := (at - va) / (vb - va)
	if ia > 0 && ib > 0 {
		return ia * math.Pow(ib/ia, share)
	}
	return ia + (ib-ia)*share
}

// compliance is the volts that were measured at the first place at which the instrument was in its current limit.
func compliance(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := sweepOf(rec, req, req.Stage)
	if err != nil {
		return figure.Result{}, err
	}
	for k, p := range s.Points {
		if inLimit(s, p) {
			return between(s, []int{k}, func(x []float64) float64 { return x[0] }), nil
		}
	}
	last := s.Points[len(s.Points)-1]
	return figure.Result{}, record.Because(record.NotReached, "no place of the sweep came to the current limit").
		Least(last.Volts, "V")
}
