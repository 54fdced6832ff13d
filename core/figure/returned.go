package figure

import (
	"math"
	"slices"

	"usherbench/core/uncertainty"
)

// charged is a charge from its start to its termination.
func (rec *Record) charged(h half) (charge, energy, within float64, r Result, err error) {
	b, err := rec.terminals(h.T0, h.T1)
	if err != nil {
		return 0, 0, 0, r, err
	}
	if within, r.Remarks, err = rec.bridged(b, h.From, h.To); err != nil {
		return 0, 0, 0, r, err
	}
	q0, e0 := b.count(h.From, true)
	q1, e1 := b.count(h.To, false)
	charge, energy = q1-q0, e1-e0
	r.N = len(b.within(h.From, h.To).T)
	if charge < 0 {
		return charge, energy, within, r, undetermined(WrongSign, "the battery was discharged, not charged, in %s: %.4g Ah",
			h.Name, charge/ampSeconds)
	}
	spec, ok := rec.Specs[b.ampsColumn].Find(charge / math.Max(h.To-h.From, 1))
	readings := []uncertainty.Reading{
		{Value: charge / math.Max(h.To-h.From, 1e-9), Group: b.ampsColumn, Gain: spec.Reading, Offset: spec.Offset},
		{Group: "gaps", Offset: within},
	}
	r.withUncertainty(func(x []float64) float64 { return (x[0]*(h.To-h.From) + x[1]) / ampSeconds }, readings, ok)
	return charge, energy, within, r, nil
}

func chargeReturned(rec *Record, req Request) (Result, error) {
	h, err := rec.half("charge", req)
	if err != nil {
		return Result{}, err
	}
	charge, _, _, r, err := rec.charged(h)
	r.Value = charge / ampSeconds
	return r, err
}

func energyReturned(rec *Record, req Request) (Result, error) {
	h, err := rec.half("charge", req)
	if err != nil {
		return Result{}, err
	}
	charge, energy, _, r, err := rec.charged(h)
	r.Value = energy / wattSeconds
	if charge > 0 { // the volts are known far better than the current
		r.U *= energy / charge
	}
	return r, err
}

// pair finds the two half-cycles between equal states: the discharge that a request means and the charge beside it.
func (rec *Record) pair(req Request) (charge, discharge half, err error) {
	d, err := rec.half("discharge", req)
	if err != nil {
		return charge, d, undetermined(TooFew, "the discharge is missing: %s", err)
	}
	charges := rec.halves("charge", "")
	found := false
	for _, c := range charges {
		if req.Choices["pair"] == "discharge first" {
			if c.T0 >= d.T1 && !found {
				charge, found = c, true
			}
		} else if c.T1 <= d.T0 {
			charge, found = c, true
		}
	}
	if !found {
		return charge, d, undetermined(TooFew, "the charge that belongs to the discharge is missing")
	}
	for _, h := range []half{charge, d} {
		if h.Ended == "" {
			return charge, d, undetermined(WrongConditions, "%s did not end by its own termination", h.Name)
		}
	}
	return charge, d, nil
}

func coulombicEfficiency(rec *Record, req Request) (Result, error) { return rec.returned(req, false) }
func energyEfficiency(rec *Record, req Request) (Result, error)    { return rec.returned(req, true) }

// returned is what comes back of what was put in. One current range measures both: its gain cancels, its offset
// does not.
func (rec *Record) returned(req Request, energy bool) (Result, error) {
	c, d, err := rec.pair(req)
	if err != nil {
		return Result{}, err
	}
	qc, ec, _, r, err := rec.charged(c)
	if err != nil {
		return r, err
	}
	b, err := rec.terminals(d.T0, d.T1)
	if err != nil {
		return r, err
	}
	if _, _, err := rec.bridged(b, d.From, d.To); err != nil {
		return r, err
	}
	q0, e0 := b.count(d.From, true)
	q1, e1 := b.count(d.To, false)
	out, in := q0-q1, qc
	if energy {
		out, in = e0-e1, ec
	}
	r.N += len(b.within(d.From, d.To).T)
	if in <= 0 {
		return r, undetermined(ZeroDivisor, "no charge was put in")
	}
	tc, td := c.To-c.From, d.To-d.From
	r.Value, r.U, r.K, r.Remarks = 100*out/in, 0, 0,
		slices.DeleteFunc(r.Remarks, func(s string) bool { return s == NotStated })
	spec, ok := rec.Specs[b.ampsColumn].Find(qc / tc)
	readings := []uncertainty.Reading{{Value: qc / tc, Group: b.ampsColumn, Gain: spec.Reading, Offset: spec.Offset},
		{Value: -(q0 - q1) / td, Group: b.ampsColumn, Gain: spec.Reading, Offset: spec.Offset}}
	scale := r.Value * (qc / tc * tc) / ((q0 - q1) / td * td)
	r.withUncertainty(func(x []float64) float64 { return scale * (-x[1] * td) / (x[0] * tc) }, readings, ok)
	if r.Value > mostReturned && r.Value-r.U > mostReturned {
		return r,
			undetermined(WrongConditions, "%.4g %% came back: the charge and the discharge were not between equal states",
				r.Value)
	}
	return r, nil
}

// mostReturned is a return, %, beyond which the two halves were not between equal states: a battery that was
// not empty before its charge.
const mostReturned = 105
