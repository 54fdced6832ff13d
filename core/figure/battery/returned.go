package battery

import (
	"slices"

	"usherbench/core/figure"
	"usherbench/core/record"
)

// movedIn is what a half-cycle put into the battery from its start to its end.
func movedIn(rec *record.Record, h record.Half) (record.Moved, error) {
	b, err := rec.Terminals(h.T0, h.T1)
	if err != nil {
		return record.Moved{}, err
	}
	return rec.Over(b, h.From, h.To)
}

// charged is a charge from its start to its termination, drained a discharge. They fail with wrong-sign where
// it went the other way.
func charged(rec *record.Record, h record.Half) (record.Moved, error) {
	m, err := movedIn(rec, h)
	if err == nil && m.Charge < 0 {
		err = record.Because(record.WrongSign, "the battery was discharged, not charged, in %s: %.4g Ah", h.Name,
			m.Charge/record.AmpHour)
	}
	return m, err
}

func drained(rec *record.Record, h record.Half) (record.Moved, error) {
	m, err := movedIn(rec, h)
	if err == nil && m.Charge > 0 {
		err = wasCharged(h, m)
	}
	return m, err
}

// chargeReturned is +Q of a charge from its start to its termination, energyReturned +E of it.
func chargeReturned(rec *record.Record, req figure.Request) (figure.Result, error) {
	return putIn(rec, req, func(charge, _ []float64) float64 { return charge[0] / record.AmpHour })
}

func energyReturned(rec *record.Record, req figure.Request) (figure.Result, error) {
	return putIn(rec, req, func(_, energy []float64) float64 { return energy[0] / record.WattHour })
}

// putIn is a figure of the charge that a request means.
func putIn(rec *record.Record, req figure.Request, of func(charge, energy []float64) float64) (figure.Result, error) {
	h, err := rec.Half("charge", req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	m, err := charged(rec, h)
	r := figure.Result{N: m.N, Remarks: m.Gaps.Remarks}
	if err != nil {
		return r, err
	}
	r.Value = of([]float64{m.Charge}, []float64{m.Energy})
	r.KnownBy(rec.Account(m), of)
	return r, nil
}

// pair is a discharge and the charge beside it, between equal states of the battery.
type pair struct{ charge, discharge record.Half }

// pairOf finds the discharge that a request means and the charge that belongs to it: the last before it, or the
// first after it where the request says so.
func pairOf(rec *record.Record, req figure.Request) (pair, error) {
	var p pair
	var err error
	if p.discharge, err = rec.Half("discharge", req.Stage, req.Pass); err != nil {
		return p, record.Because(record.TooFew, "the discharge is missing: %s", err)
	}
	charges := rec.Halves("charge", "")
	var i int
	if req.Choices["pair"] == "discharge first" {
		i = slices.IndexFunc(charges, func(c record.Half) bool { return c.T0 >= p.discharge.T1 })
	} else {
		i = lastIndex(charges, func(c record.Half) bool { return c.T1 <= p.discharge.T0 })
	}
	if i < 0 {
		return p, record.Because(record.TooFew, "the charge that belongs to the discharge is missing")
	}
	p.charge = charges[i]
	for _, h := range []record.Half{p.charge, p.discharge} {
		if h.Ended == "" {
			return p, record.Because(record.WrongConditions, "%s did not end by its own termination", h.Name)
		}
	}
	return p, nil
}

func lastIndex[T any](all []T, is func(T) bool) int {
	for i := len(all) - 1; i >= 0; i-- {
		if is(all[i]) {
			return i
		}
	}
	return -1
}

// coulombicEfficiency is what comes back of the charge that was put in, in %.
func coulombicEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	return returned(rec, req, func(charge, _ []float64) (in, out float64) { return charge[0], charge[1] })
}

// energyEfficiency is what comes back of the energy that was put in, in %.
func energyEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	return returned(rec, req, func(_, energy []float64) (in, out float64) { return energy[0], energy[1] })
}

// mostReturned is a return, %, beyond which the two halves were not between equal states: a battery that was not
// empty before its charge.
const mostReturned = 105

// returned is −100·out/in of a charge and its discharge. Where one current range measures both its gain cancels, its
// offset does not.
func returned(rec *record.Record, req figure.Request, what func(charge, energy []float64) (in, out float64)) (
	figure.Result, error) {
	p, err := pairOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	in, err := charged(rec, p.charge)
	r := figure.Result{N: in.N, Remarks: in.Gaps.Remarks}
	if err != nil {
		return r, err
	}
	out, err := drained(rec, p.discharge)
	for _, remark := range out.Gaps.Remarks {
		r.Remarks = record.AddRemark(r.Remarks, remark)
	}
	if err != nil {
		return r, err
	}
	r.N += out.N
	share := func(charge, energy []float64) float64 {
		in, out := what(charge, energy)
		return -100 * out / in
	}
	charges, energies := []float64{in.Charge, out.Charge}, []float64{in.Energy, out.Energy}
	if put, _ := what(charges, energies); put <= 0 {
		return r, record.Because(record.ZeroDivisor, "no charge was put in")
	}
	r.Value = share(charges, energies)
	r.KnownBy(rec.Account(in, out), share)
	if r.Value > mostReturned && r.Value-r.U > mostReturned {
		return r, record.Because(record.WrongConditions,
			"%.4g %% came back: the charge and the discharge were not between equal states", r.Value)
	}
	return r, nil
}
