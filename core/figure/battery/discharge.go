package battery

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// discharge is a half-cycle down to the cutoff.
type discharge struct {
	record.Half
	record.Crossing
	charge, energy float64 // taken from the battery up to the crossing, SI
	amps           float64 // mean, without sign
	cutoff         float64 // V
	gaps           record.Gaps
	remarks        []string
	n              int
	b              *record.Battery
}

// discharged finds the half-cycle that a request means and where it crossed the cutoff.
func discharged(rec *record.Record, req figure.Request) (discharge, error) {
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil {
		return discharge{}, err
	}
	return dischargeOf(rec, h, req)
}

func dischargeOf(rec *record.Record, h record.Half, req figure.Request) (discharge, error) {
	d := discharge{Half: h}
	cutoff, ok := req.Args["cutoff"]
	if !ok {
		q, stated := rec.Ratings["cutoff"]
		if !stated || q.Dim != quantity.Voltage {
			return d,
				record.Because(record.NoRating, "the nameplate does not state cutoff; state it, or give cutoff to the figure")
		}
		cutoff = q.Value
	}
	b, err := rec.Terminals(h.T0, h.T1)
	if err != nil {
		return d, err
	}
	d.b, d.cutoff = b, cutoff
	q0, e0 := b.Count(h.From, true)
	if q1, _ := b.Count(h.To, false); q1 > q0+0.01*math.Abs(q0) && q1-q0 > 1 {
		return d, record.Because(record.WrongSign, "the battery was charged, not discharged, in %s", h.Name)
	}
	d.Crossing, err = rec.Cross(b, record.Level{Volts: cutoff, From: h.From, To: h.To, For: req.Args["for"],
		Fit: int(req.Args["fit"])})
	if err != nil {
		return d, err
	}
	if d.gaps, err = rec.UpTo(b, h.From, d.Crossing); err != nil {
		return d, err
	}
	d.charge, d.energy = q0-d.Crossing.Charge, e0-d.Crossing.Energy
	d.amps = d.charge / (d.Crossing.T - h.From)
	d.n = len(b.Within(h.From, d.Crossing.T).T)
	d.remarks = append(d.gaps.Remarks, conditions(rec, h)...)
	return d, nil
}

// whenFull are the rules that end the charge of a battery because it is full, and not because somebody wanted no more.
var whenFull = []string{"taper", "volts drop", "celsius rise", "celsius rate"}

// conditions are remarks about what was before a discharge and how warm it was.
func conditions(rec *record.Record, h record.Half) (remarks []string) {
	full := false
	for _, c := range rec.Halves("charge", "") {
		if c.T1 <= h.T0 {
			full = slices.ContainsFunc(strings.Split(c.Ended, ", "),
				func(rule string) bool { return slices.Contains(whenFull, rule) })
		}
	}
	if !full {
		remarks = append(remarks, "no full charge before")
	}
	if mean, ok := warmth(rec, h); ok {
		if rated, stated := rec.Ratings["rated_celsius"]; stated && math.Abs(mean-rated.Value) > celsiusWindow {
			remarks = append(remarks, fmt.Sprintf("temperature outside the window: %.1f °C", mean))
		}
	}
	return remarks
}

// celsiusWindow is how far the mean temperature may be from the rated one, K: IEC 61960-3 allows 20 °C ± 5 K.
const celsiusWindow = 5

// warmth is the mean temperature of a half-cycle, °C.
func warmth(rec *record.Record, h record.Half) (mean float64, ok bool) {
	s, ok := celsius(rec, h)
	if !ok {
		return 0, false
	}
	mean, err := s.Mean()
	return mean, err == nil
}

// celsius is the temperature of a half-cycle: that of the thermometer, else of the cycler's sensor.
func celsius(rec *record.Record, h record.Half) (trace.Series, bool) {
	for _, column := range []string{"thermo.celsius", "cycler.celsius"} {
		if !rec.Has(column) {
			continue
		}
		if s, err := rec.Trace(column, h.From, h.To); err == nil && s.Present().Len() > 0 {
			return s.Present(), true
		}
	}
	return trace.Series{}, false
}

// uncertainty is that of a charge: gain and offset of the current for as long as it ran, what gaps leave
// open, and the cutoff's volts. The result is in the unit of factor.
func (d discharge) uncertainty(rec *record.Record, r *figure.Result, perAmpSecond, factor float64) {
	seconds := d.Crossing.T - d.From
	spec, ok := rec.Specs[d.b.AmpsColumn].Find(d.amps)
	voltSpec, stated := rec.Specs[d.b.VoltsColumn].Find(d.Crossing.T)
	if vs := rec.Specs[d.b.VoltsColumn]; len(vs) > 0 {
		voltSpec, stated = vs.Find(d.volts())
	}
	readings := []uncertainty.Reading{
		{Value: d.amps, Group: d.b.AmpsColumn, Gain: spec.Reading, Offset: spec.Offset,
			Noise: uncertainty.Resolution(spec.Resolution) / math.Sqrt(math.Max(float64(d.n), 1))},
		{Value: 0, Group: "cutoff", Offset: voltSpec.Bound(d.volts()), Noise: uncertainty.Resolution(voltSpec.Resolution)},
		{Value: 0, Group: "gaps", Offset: d.gaps.Within},
	}
	perVolt := 0.0
	if d.Slope != 0 {
		perVolt = math.Abs(d.Crossing.Amps / d.Slope)
	}
	r.WithUncertainty(func(x []float64) float64 { return (x[0]*seconds + x[1]*perVolt + x[2]) * perAmpSecond / factor },
		readings, ok && stated)
}

// volts is the voltage at the crossing.
func (d discharge) volts() float64 {
	k := sort.SearchFloat64s(d.b.T, d.Crossing.T)
	return d.b.Volts[min(k, len(d.b.T)-1)]
}

// capacity is −Q from the start of the discharge to the falling crossing of the cutoff, whatever the load did
// afterwards.
func capacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: d.charge / record.AmpHour, N: d.n, Remarks: d.remarks}
	d.uncertainty(rec, &r, 1, record.AmpHour)
	return r, nil
}

// capacityGain is how much more a discharge gave than the one before it, in %: what conditioning goes on for.
func capacityGain(rec *record.Record, req figure.Request) (figure.Result, error) {
	all := rec.Halves("discharge", req.Stage)
	if len(all) < 2 {
		return figure.Result{}, record.Because(record.TooFew, "%d discharges; two are needed", len(all))
	}
	var charges [2]float64
	r := figure.Result{}
	for i := range charges {
		d, err := dischargeOf(rec, all[len(all)-2+i], req)
		if err != nil {
			return r, err
		}
		charges[i] = d.charge
		r.N += d.n
	}
	r.Value = 100 * (charges[1]/charges[0] - 1)
	return r, nil
}

func dischargeEnergy(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: d.energy / record.WattHour, N: d.n, Remarks: d.remarks}
	d.uncertainty(rec, &r, d.energy/d.charge, record.WattHour)
	return r, nil
}

// meanDischargeVoltage is weighted by charge, not by time.
func meanDischargeVoltage(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := discharged(rec, req)
	switch {
	case err != nil:
		return figure.Result{}, err
	case d.charge <= 0:
		return figure.Result{}, record.Because(record.ZeroDivisor, "no charge was taken")
	}
	return figure.Result{Value: d.energy / d.charge, N: d.n, Remarks: d.remarks}, nil
}

// rateTolerance is how far the mean current may be from the rated one for a state of health.
const rateTolerance = 0.1

func stateOfHealth(rec *record.Record, req figure.Request) (figure.Result, error) {
	rated, ok := rec.Ratings["rated_capacity"]
	if !ok || rated.Dim != quantity.Charge || rated.Value <= 0 {
		return figure.Result{}, record.Because(record.NoRating, "the nameplate does not state rated_capacity")
	}
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if req.Choices["conditions"] != "any" {
		if rate, ok := rec.Ratings["rated_rate"]; ok && rate.Dim == quantity.ChargeRate {
			want := rate.Value * rated.Value / record.AmpHour
			if math.Abs(d.amps-want) > rateTolerance*want {
				return figure.Result{},
					record.Because(record.WrongConditions,
						"the mean current was %.4g A, but the capacity is rated at %.4g A; say conditions: any to compare all the same",
						d.amps, want)
			}
		}
		if mean, ok := warmth(rec, d.Half); ok {
			if at, stated := rec.Ratings["rated_celsius"]; stated && math.Abs(mean-at.Value) > celsiusWindow {
				return figure.Result{},
					record.Because(record.WrongConditions,
						"it had %.1f °C in the mean, but the capacity is rated at %.1f °C; say conditions: any to compare all the same",
						mean, at.Value)
			}
		}
	}
	r := figure.Result{Value: 100 * d.charge / rated.Value, N: d.n, Remarks: d.remarks}
	d.uncertainty(rec, &r, 100/rated.Value, 1)
	return r, nil
}
