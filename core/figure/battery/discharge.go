package battery

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// discharge is a half-cycle down to the cutoff.
type discharge struct {
	record.Half
	record.Crossing
	moved   record.Moved // up to the crossing
	cutoff  float64      // V
	remarks []string
	b       *record.Battery
}

// charge and energy are what was taken from the battery up to the crossing, SI.
func (d discharge) charge() float64 { return -d.moved.Charge }
func (d discharge) energy() float64 { return -d.moved.Energy }

// amps is the mean current, without sign.
func (d discharge) amps() float64 { return -d.moved.Amps }

// discharged finds the half-cycle that a request means and where it crossed the cutoff.
func discharged(rec *record.Record, req figure.Request) (discharge, error) {
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil {
		return discharge{}, err
	}
	return dischargeOf(rec, h, req)
}

// dischargeOf reads a discharge up to its cutoff. Where it fails with not-reached or gap, what is known of it is there.
func dischargeOf(rec *record.Record, h record.Half, req figure.Request) (discharge, error) {
	d := discharge{Half: h}
	var err error
	if d.cutoff, err = cutoffOf(rec, req); err != nil {
		return d, err
	}
	if d.b, err = rec.Terminals(h.T0, h.T1); err != nil {
		return d, err
	}
	level := record.Level{Volts: d.cutoff, From: h.From, To: h.To, For: req.Args["for"], Fit: int(req.Args["fit"])}
	d.Crossing, err = rec.Cross(d.b, level)
	if isNotReached(err) && h.Ended == record.EndOfCurrent {
		if x, nearly := rec.NearlyCross(d.b, level); nearly {
			d.Crossing, err = x, nil
			d.remarks = append(d.remarks, quantity.Sprintf("the log ends at %.6g V: of what flows down to %.6g V at most %.2g "+
				"Ah is missing", x.Volts, d.cutoff, x.Left/record.AmpHour))
		}
	}
	if err != nil {
		delivered, gap := rec.Over(d.b, h.From, h.To)
		d.moved = delivered
		switch {
		case gap != nil:
			return d, gap // what was crossed in it nobody saw
		case delivered.Charge > 0:
			return d, wasCharged(h, delivered)
		}
		return d, err
	}
	if d.moved, err = rec.OverTo(d.b, h.From, d.Crossing); err != nil {
		return d, err
	}
	if d.charge() <= 0 {
		return d, wasCharged(h, d.moved)
	}
	d.remarks = slices.Concat(d.remarks, d.moved.Gaps.Remarks, fitted(d.Crossing), conditions(rec, h))
	return d, nil
}

func isNotReached(err error) bool {
	var why *record.Undetermined
	return errors.As(err, &why) && why.Code == record.NotReached
}

// fitted is the remark of a crossing that a line through the last frames gave.
func fitted(x record.Crossing) (remarks []string) {
	if x.Fit > 0 {
		remarks = append(remarks, fmt.Sprintf("crossed by a line through the last %d frames", x.Fit))
	}
	return remarks
}

// wasCharged is why a discharge has no capacity that went the other way.
func wasCharged(h record.Half, m record.Moved) error {
	return record.Because(record.WrongSign, "the battery was charged, not discharged, in %s: %.4g Ah", h.Name,
		m.Charge/record.AmpHour)
}

// cutoffOf is the cutoff that a request gives, else that of the nameplate, V.
func cutoffOf(rec *record.Record, req figure.Request) (float64, error) {
	if cutoff, given := req.Args["cutoff"]; given {
		return cutoff, nil
	}
	q, stated := rec.Ratings["cutoff"]
	if !stated || q.Dim != quantity.Voltage {
		return 0, record.Because(record.NoRating,
			"the nameplate does not state cutoff; state it, or give cutoff to the figure")
	}
	return q.Value, nil
}

// bounded gives an undetermined discharge the bounds that it has all the same: at least what was delivered, or
// where the crossing lies in a gap what had been delivered on both sides of it. of is the figure from charge
// and energy, SI.
func (d discharge) bounded(err error, unit string, of func(charge, energy float64) float64) error {
	var why *record.Undetermined
	if d.b == nil || !errors.As(err, &why) {
		return err
	}
	upTo := func(t float64) float64 {
		begin, beginEnergy := d.b.Count(d.From)
		charge, energy := d.b.Count(t)
		return of(begin-charge, beginEnergy-energy)
	}
	switch {
	case why.Code == record.NotReached && d.moved.Charge < 0:
		return why.Least(of(d.charge(), d.energy()), unit)
	case why.Code == record.Gap && d.InGap:
		return why.Between(upTo(d.Before), upTo(d.After), unit)
	}
	return why
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
	if mean, away := awayFromRated(rec, h); away {
		remarks = append(remarks, fmt.Sprintf("temperature outside the window: %.1f °C", mean))
	}
	return remarks
}

// awayFromRated tells whether a half-cycle had another temperature in the mean than the rated one, where one is stated.
func awayFromRated(rec *record.Record, h record.Half) (mean float64, away bool) {
	rated, stated := rec.Ratings["rated_celsius"]
	if !stated {
		return 0, false
	}
	mean, ok := warmth(rec, h)
	return mean, ok && math.Abs(mean-rated.Value) > celsiusWindow
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

// ofDischarge is a figure of charge and energy down to the cutoff, SI.
func ofDischarge(rec *record.Record, req figure.Request, unit string, of func(charge, energy float64) float64) (
	figure.Result, error) {
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{N: d.moved.N}, d.bounded(err, unit, of)
	}
	r := figure.Result{Value: of(d.charge(), d.energy()), N: d.moved.N, Remarks: d.remarks}
	r.KnownBy(rec.Account(d.moved), func(charge, energy []float64) float64 { return of(-charge[0], -energy[0]) })
	return r, nil
}

// capacity is −Q from the start of the discharge to the falling crossing of the cutoff, whatever the load did
// afterwards.
func capacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	return ofDischarge(rec, req, "Ah", func(charge, _ float64) float64 { return charge / record.AmpHour })
}

// dischargeEnergy is −E of the same.
func dischargeEnergy(rec *record.Record, req figure.Request) (figure.Result, error) {
	return ofDischarge(rec, req, "Wh", func(_, energy float64) float64 { return energy / record.WattHour })
}

// meanDischargeVoltage is weighted by charge, not by time. Its bounds are not those of a part.
func meanDischargeVoltage(rec *record.Record, req figure.Request) (figure.Result, error) {
	r, err := ofDischarge(rec, req, "V", func(charge, energy float64) float64 { return energy / charge })
	return r, withoutBounds(err)
}

// withoutBounds takes the bounds from a figure that may be either way from that of a part.
func withoutBounds(err error) error {
	var why *record.Undetermined
	if errors.As(err, &why) {
		why.AtLeast, why.AtMost, why.Known = nil, nil, ""
	}
	return err
}

// capacityGain is how much more a discharge gave than the one before it, in %: what conditioning goes on for.
func capacityGain(rec *record.Record, req figure.Request) (figure.Result, error) {
	all := rec.Halves("discharge", req.Stage)
	if len(all) < 2 {
		return figure.Result{}, record.Because(record.TooFew, "%d discharges; two are needed", len(all))
	}
	var moved [2]record.Moved
	r := figure.Result{}
	for i := range moved {
		d, err := dischargeOf(rec, all[len(all)-2+i], req)
		if err != nil {
			return r, err
		}
		moved[i] = d.moved
		r.N += d.moved.N
		for _, remark := range d.moved.Gaps.Remarks {
			r.Remarks = record.AddRemark(r.Remarks, remark)
		}
	}
	gain := func(charge, _ []float64) float64 { return 100 * (charge[1]/charge[0] - 1) }
	r.Value = gain([]float64{moved[0].Charge, moved[1].Charge}, nil)
	r.KnownBy(rec.Account(moved[:]...), gain)
	return r, nil
}

// rateTolerance is how far the mean current may be from the rated one for a state of health.
const rateTolerance = 0.1

// stateOfHealth is the capacity as a share of the rated one, at the rated current and temperature.
func stateOfHealth(rec *record.Record, req figure.Request) (figure.Result, error) {
	rated, err := ratedCapacity(rec)
	if err != nil {
		return figure.Result{}, err
	}
	share := func(charge, _ float64) float64 { return 100 * charge / rated }
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{N: d.moved.N}, d.bounded(err, "%", share)
	}
	if req.Choices["conditions"] != "any" {
		if err := d.atRatedConditions(rec, rated); err != nil {
			return figure.Result{N: d.moved.N}, err
		}
	}
	return ofDischarge(rec, req, "%", share)
}

// ratedCapacity is that of the nameplate, A·s.
func ratedCapacity(rec *record.Record) (float64, error) {
	rated, ok := rec.Ratings["rated_capacity"]
	if !ok || rated.Dim != quantity.Charge || rated.Value <= 0 {
		return 0, record.Because(record.NoRating, "the nameplate does not state rated_capacity")
	}
	return rated.Value, nil
}

// atRatedConditions fails with wrong-conditions for a discharge at another current or temperature than the rated ones,
// where they are stated.
func (d discharge) atRatedConditions(rec *record.Record, rated float64) error {
	if rate, ok := rec.Ratings["rated_rate"]; ok && rate.Dim == quantity.ChargeRate {
		want := rate.Value * rated / record.AmpHour
		if math.Abs(d.amps()-want) > rateTolerance*want {
			return record.Because(record.WrongConditions,
				"the mean current was %.4g A, but the capacity is rated at %.4g A; say conditions: any to compare all the same",
				d.amps(), want)
		}
	}
	if mean, away := awayFromRated(rec, d.Half); away {
		return record.Because(record.WrongConditions,
			"it had %.1f °C in the mean, but the capacity is rated at %.1f °C; say conditions: any to compare all the same",
			mean, rec.Ratings["rated_celsius"].Value)
	}
	return nil
}
