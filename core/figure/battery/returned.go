package battery

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// moved is what a half-cycle put into the battery from its start to its end, SI; negative is what it took.
type moved struct {
	charge, energy float64
	seconds        float64
	b              *record.Battery
	gaps           record.Gaps
	n              int
}

func movedIn(rec *record.Record, h record.Half) (moved, error) {
	b, err := rec.Terminals(h.T0, h.T1)
	if err != nil {
		return moved{}, err
	}
	gaps, err := rec.Bridged(b, h.From, h.To)
	if err != nil {
		return moved{gaps: gaps}, err
	}
	begin, beginEnergy := b.Count(h.From, true)
	end, endEnergy := b.Count(h.To, false)
	return moved{charge: end - begin, energy: endEnergy - beginEnergy, seconds: h.To - h.From, b: b, gaps: gaps,
		n: len(b.Within(h.From, h.To).T)}, nil
}

// charged is a charge from its start to its termination. It fails with wrong-sign where it took something.
func charged(rec *record.Record, h record.Half) (moved, error) {
	m, err := movedIn(rec, h)
	if err == nil && m.charge < 0 {
		err = record.Because(record.WrongSign, "the battery was discharged, not charged, in %s: %.4g Ah", h.Name,
			m.charge/record.AmpHour)
	}
	return m, err
}

// result is the charge in Ah with its uncertainty: gain and offset of the current for as long as it ran, and what
// gaps leave open.
func (m moved) result(rec *record.Record) figure.Result {
	r := figure.Result{Value: m.charge / record.AmpHour, N: m.n, Remarks: m.gaps.Remarks}
	spec, stated := rec.Specs[m.b.AmpsColumn].Find(m.charge / math.Max(m.seconds, 1))
	r.WithUncertainty(func(x []float64) float64 { return (x[0]*m.seconds + x[1]) / record.AmpHour },
		[]uncertainty.Reading{
			{Value: m.charge / math.Max(m.seconds, 1e-9), Group: m.b.AmpsColumn, Gain: spec.Reading, Offset: spec.Offset},
			{Group: "gaps", Offset: m.gaps.Within},
		}, stated)
	return r
}

// putIn is the charge that a request means.
func putIn(rec *record.Record, req figure.Request) (moved, error) {
	h, err := rec.Half("charge", req.Stage, req.Pass)
	if err != nil {
		return moved{}, err
	}
	return charged(rec, h)
}

func chargeReturned(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := putIn(rec, req)
	if err != nil {
		return figure.Result{N: m.n, Remarks: m.gaps.Remarks}, err
	}
	return m.result(rec), nil
}

func energyReturned(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := putIn(rec, req)
	if err != nil {
		return figure.Result{N: m.n, Remarks: m.gaps.Remarks}, err
	}
	r := m.result(rec)
	r.Value = m.energy / record.WattHour
	if m.charge > 0 { // the volts are known far better than the current
		r.U *= m.energy / m.charge
	}
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
	return returned(rec, req, func(m moved) float64 { return m.charge })
}

// energyEfficiency is what comes back of the energy that was put in, in %.
func energyEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	return returned(rec, req, func(m moved) float64 { return m.energy })
}

// mostReturned is a return, %, beyond which the two halves were not between equal states: a battery that was not
// empty before its charge.
const mostReturned = 105

// returned is 100·out/in of a charge and its discharge. One current range measures both: its gain cancels, its
// offset does not.
func returned(rec *record.Record, req figure.Request, what func(moved) float64) (figure.Result, error) {
	p, err := pairOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	in, err := charged(rec, p.charge)
	r := figure.Result{N: in.n, Remarks: in.gaps.Remarks}
	if err != nil {
		return r, err
	}
	out, err := movedIn(rec, p.discharge)
	if err != nil {
		return r, err
	}
	r.N += out.n
	if what(in) <= 0 {
		return r, record.Because(record.ZeroDivisor, "no charge was put in")
	}
	r.Value = 100 * -what(out) / what(in)
	column := out.b.AmpsColumn
	spec, stated := rec.Specs[column].Find(in.charge / in.seconds)
	scale := r.Value * in.charge / -out.charge
	r.WithUncertainty(func(x []float64) float64 { return scale * (-x[1] * out.seconds) / (x[0] * in.seconds) },
		[]uncertainty.Reading{
			{Value: in.charge / in.seconds, Group: column, Gain: spec.Reading, Offset: spec.Offset},
			{Value: out.charge / out.seconds, Group: column, Gain: spec.Reading, Offset: spec.Offset},
		}, stated)
	if r.Value > mostReturned && r.Value-r.U > mostReturned {
		return r, record.Because(record.WrongConditions,
			"%.4g %% came back: the charge and the discharge were not between equal states", r.Value)
	}
	return r, nil
}
