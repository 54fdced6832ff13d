package figure

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/uncertainty"
)

// discharge is a half-cycle down to the cutoff.
type discharge struct {
	half
	crossing
	charge, energy float64 // taken from the battery up to the crossing, SI
	amps           float64 // mean, without sign
	cutoff         float64 // V
	within         float64 // A·s that are not known, half-width
	remarks        []string
	n              int
	b              *battery
}

// discharged finds the half-cycle that a request means and where it crossed the cutoff.
func (rec *Record) discharged(req Request) (discharge, error) {
	h, err := rec.half("discharge", req)
	if err != nil {
		return discharge{}, err
	}
	return rec.dischargeOf(h, req)
}

func (rec *Record) dischargeOf(h half, req Request) (discharge, error) {
	d := discharge{half: h}
	cutoff, ok := req.Args["cutoff"]
	if !ok {
		q, stated := rec.Ratings["cutoff"]
		if !stated || q.Dim != quantity.Voltage {
			return d, undetermined(NoRating, "the nameplate does not state cutoff; state it, or give cutoff to the figure")
		}
		cutoff = q.Value
	}
	b, err := rec.terminals(h.T0, h.T1)
	if err != nil {
		return d, err
	}
	d.b, d.cutoff = b, cutoff
	q0, e0 := b.count(h.From, true)
	if q1, _ := b.count(h.To, false); q1 > q0+0.01*math.Abs(q0) && q1-q0 > 1 {
		return d, undetermined(WrongSign, "the battery was charged, not discharged, in %s", h.Name)
	}
	d.crossing, err = rec.cross(b, cutoff, h.From, h.To, false, req.Args["for"], int(req.Args["fit"]))
	if err != nil {
		return d, err
	}
	if d.within, d.remarks, err = rec.upTo(b, h.From, d.crossing); err != nil {
		return d, err
	}
	d.charge, d.energy = q0-d.crossing.Charge, e0-d.crossing.Energy
	d.amps = d.charge / (d.crossing.T - h.From)
	d.n = len(b.within(h.From, d.crossing.T).T)
	d.remarks = append(d.remarks, rec.conditions(h)...)
	return d, nil
}

// whenFull are the rules that end the charge of a battery because it is full, and not because somebody wanted no more.
var whenFull = []string{"taper", "volts drop", "celsius rise", "celsius rate"}

// conditions are remarks about what was before a discharge and how warm it was.
func (rec *Record) conditions(h half) (remarks []string) {
	full := false
	for _, c := range rec.halves("charge", "") {
		if c.T1 <= h.T0 {
			full = slices.ContainsFunc(strings.Split(c.Ended, ", "),
				func(rule string) bool { return slices.Contains(whenFull, rule) })
		}
	}
	if !full {
		remarks = append(remarks, "no full charge before")
	}
	if mean, ok := rec.warmth(h); ok {
		if rated, stated := rec.Ratings["rated_celsius"]; stated && math.Abs(mean-rated.Value) > celsiusWindow {
			remarks = append(remarks, fmt.Sprintf("temperature outside the window: %.1f °C", mean))
		}
	}
	return remarks
}

// celsiusWindow is how far the mean temperature may be from the rated one, K: IEC 61960-3 allows 20 °C ± 5 K.
const celsiusWindow = 5

// warmth is the mean temperature of a half-cycle, °C.
func (rec *Record) warmth(h half) (float64, bool) {
	for _, column := range []string{"thermo.celsius", "cycler.celsius"} {
		if !rec.has(column) {
			continue
		}
		s, err := rec.Trace(column, h.From, h.To)
		if err != nil {
			continue
		}
		if mean, err := s.Present().Mean(); err == nil {
			return mean, true
		}
	}
	return 0, false
}

// chargeUncertainty is that of a charge: gain and offset of the current for as long as it ran, what gaps leave
// open, and the cutoff's volts. The result is in the unit of factor.
func (d discharge) uncertainty(rec *Record, r *Result, perAmpSecond, factor float64) {
	seconds := d.crossing.T - d.From
	spec, ok := rec.Specs[d.b.ampsColumn].Find(d.amps)
	voltSpec, stated := rec.Specs[d.b.voltsColumn].Find(d.crossing.T)
	if vs := rec.Specs[d.b.voltsColumn]; len(vs) > 0 {
		voltSpec, stated = vs.Find(d.volts())
	}
	readings := []uncertainty.Reading{
		{Value: d.amps, Group: d.b.ampsColumn, Gain: spec.Reading, Offset: spec.Offset,
			Noise: uncertainty.Resolution(spec.Resolution) / math.Sqrt(math.Max(float64(d.n), 1))},
		{Value: 0, Group: "cutoff", Offset: voltSpec.Bound(d.volts()), Noise: uncertainty.Resolution(voltSpec.Resolution)},
		{Value: 0, Group: "gaps", Offset: d.within},
	}
	perVolt := 0.0
	if d.Slope != 0 {
		perVolt = math.Abs(d.crossing.Amps / d.Slope)
	}
	r.withUncertainty(func(x []float64) float64 { return (x[0]*seconds + x[1]*perVolt + x[2]) * perAmpSecond / factor },
		readings, ok && stated)
}

// volts is the voltage at the crossing.
func (d discharge) volts() float64 {
	k := sort.SearchFloat64s(d.b.T, d.crossing.T)
	return d.b.Volts[min(k, len(d.b.T)-1)]
}

// capacity is −Q from the start of the discharge to the falling crossing of the cutoff, whatever the load did
// afterwards.
func capacity(rec *Record, req Request) (Result, error) {
	d, err := rec.discharged(req)
	if err != nil {
		return Result{}, err
	}
	r := Result{Value: d.charge / ampSeconds, N: d.n, Remarks: d.remarks}
	d.uncertainty(rec, &r, 1, ampSeconds)
	return r, nil
}

// capacityGain is how much more a discharge gave than the one before it, in %: what conditioning goes on for.
func capacityGain(rec *Record, req Request) (Result, error) {
	all := rec.halves("discharge", req.Stage)
	if len(all) < 2 {
		return Result{}, undetermined(TooFew, "%d discharges; two are needed", len(all))
	}
	var charges [2]float64
	r := Result{}
	for i := range charges {
		d, err := rec.dischargeOf(all[len(all)-2+i], req)
		if err != nil {
			return r, err
		}
		charges[i] = d.charge
		r.N += d.n
	}
	r.Value = 100 * (charges[1]/charges[0] - 1)
	return r, nil
}

func dischargeEnergy(rec *Record, req Request) (Result, error) {
	d, err := rec.discharged(req)
	if err != nil {
		return Result{}, err
	}
	r := Result{Value: d.energy / wattSeconds, N: d.n, Remarks: d.remarks}
	d.uncertainty(rec, &r, d.energy/d.charge, wattSeconds)
	return r, nil
}

// meanDischargeVoltage is weighted by charge, not by time.
func meanDischargeVoltage(rec *Record, req Request) (Result, error) {
	d, err := rec.discharged(req)
	switch {
	case err != nil:
		return Result{}, err
	case d.charge <= 0:
		return Result{}, undetermined(ZeroDivisor, "no charge was taken")
	}
	return Result{Value: d.energy / d.charge, N: d.n, Remarks: d.remarks}, nil
}

// rateTolerance is how far the mean current may be from the rated one for a state of health.
const rateTolerance = 0.1

func stateOfHealth(rec *Record, req Request) (Result, error) {
	rated, ok := rec.Ratings["rated_capacity"]
	if !ok || rated.Dim != quantity.Charge || rated.Value <= 0 {
		return Result{}, undetermined(NoRating, "the nameplate does not state rated_capacity")
	}
	d, err := rec.discharged(req)
	if err != nil {
		return Result{}, err
	}
	if req.Choices["conditions"] != "any" {
		if rate, ok := rec.Ratings["rated_rate"]; ok && rate.Dim == quantity.ChargeRate {
			want := rate.Value * rated.Value / ampSeconds
			if math.Abs(d.amps-want) > rateTolerance*want {
				return Result{},
					undetermined(WrongConditions,
						"the mean current was %.4g A, but the capacity is rated at %.4g A; say conditions: any to compare all the same",
						d.amps, want)
			}
		}
		if mean, ok := rec.warmth(d.half); ok {
			if at, stated := rec.Ratings["rated_celsius"]; stated && math.Abs(mean-at.Value) > celsiusWindow {
				return Result{},
					undetermined(WrongConditions,
						"it had %.1f °C in the mean, but the capacity is rated at %.1f °C; say conditions: any to compare all the same",
						mean, at.Value)
			}
		}
	}
	r := Result{Value: 100 * d.charge / rated.Value, N: d.n, Remarks: d.remarks}
	d.uncertainty(rec, &r, 100/rated.Value, 1)
	return r, nil
}
