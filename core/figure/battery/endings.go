package battery

import (
	"cmp"
	"errors"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// cRate is the mean of |I| over the rated capacity: I_t of IEC 61434 is 1 C in amperes.
func cRate(rec *record.Record, req figure.Request) (figure.Result, error) {
	rated, err := ratedCapacity(rec)
	if err != nil {
		return figure.Result{}, err
	}
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil && req.Stage == "" {
		h, err = rec.Half("charge", req.Stage, req.Pass)
	}
	if err != nil {
		return figure.Result{}, err
	}
	m, err := movedIn(rec, h)
	r := figure.Result{N: m.N, Remarks: m.Gaps.Remarks}
	if err != nil {
		return r, err
	}
	perCharge := record.AmpHour / rated / m.Seconds()
	r.Value = m.Flow * m.Seconds() * perCharge
	// What flows without sign is known as well as what flows with it.
	r.KnownBy(rec.Account(m), func(charge, _ []float64) float64 { return charge[0] * perCharge })
	return r, nil
}

// termination tells the rule that ended a charge or discharge, and when, counted from its start.
func termination(rec *record.Record, req figure.Request) (figure.Result, error) {
	all := rec.Halves("", req.Stage)
	if req.Stage == "" {
		all = slices.DeleteFunc(all, func(h record.Half) bool { return h.Kind != "charge" && h.Kind != "discharge" })
	}
	switch {
	case len(all) == 0:
		return figure.Result{}, record.Because(record.NoMark, "no charge or discharge took place")
	case req.Pass > len(all):
		return figure.Result{}, record.Because(record.NoMark, "it happened %d times, not %d", len(all), req.Pass)
	}
	h := all[len(all)-1]
	if req.Pass > 0 {
		h = all[req.Pass-1]
	}
	if h.Ended != "" {
		return figure.Result{Value: rec.Active(h.From, h.To), Text: h.Ended, N: 1, Remarks: resumedIn(rec, h.From, h.To)}, nil
	}
	reason := record.Because(record.NoMark, "%s was not ended by a rule of its own", h.Name)
	reason.Known = "something else"
	for _, m := range rec.MarksIn(h.Span) {
		switch m.Kind {
		case record.MarkGuard, record.MarkEnd, record.MarkTimeout, record.MarkHand:
			reason.Known = m.Label
		}
	}
	return figure.Result{}, reason
}

// resumedIn is the remark of a time in which nobody looked after the run for a while.
func resumedIn(rec *record.Record, from, to float64) (remarks []string) {
	if rec.Resumed(from, to) {
		remarks = append(remarks, record.WasResumed)
	}
	return remarks
}

var stepColumns = []figure.TableColumn{{Name: "step"}, {Name: "current", Unit: "A"}, {Name: "charge", Unit: "Ah"},
	{Name: "duration", Unit: "s"}, {Name: "remark"}}

// stepDownCapacity is all charge up to the last crossing of the cutoff, with a table by step. Between a
// crossing and the command that steps down the current flows on, and counts.
func stepDownCapacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{N: d.moved.N}, d.bounded(err, "Ah", ampHours)
	}
	r := figure.Result{Remarks: d.remarks, Table: &figure.Table{Columns: stepColumns}}
	if d.Ended != "cutoff" {
		reason := record.Because(record.NotReached, "the discharge was ended by %s before its last crossing",
			cmp.Or(d.Ended, "something else"))
		delivered, err := rec.Over(d.b, d.From, d.To)
		if err != nil {
			return r, err
		}
		return r, reason.Least(-delivered.Charge/record.AmpHour, "Ah")
	}
	steps := d.steps(rec)
	last := steps[len(steps)-1]
	whole, err := rec.Over(d.b, d.From, last.to)
	if x, crossErr := rec.Cross(d.b, record.Level{Volts: d.cutoff, From: last.from, To: last.to}); crossErr == nil {
		whole, err = rec.OverTo(d.b, d.From, x)
		steps[len(steps)-1].to = x.T
	}
	r.N = whole.N
	if err != nil {
		return r, err
	}
	r.Value = -whole.Charge / record.AmpHour
	r.KnownBy(rec.Account(whole), func(charge, _ []float64) float64 { return -charge[0] / record.AmpHour })
	for k, s := range steps {
		r.Table.Rows = append(r.Table.Rows, d.row(k, s, req.Args["blank"]))
	}
	return r, nil
}

func ampHours(charge, _ float64) float64 { return charge / record.AmpHour }

// downStep is the time at one current of a discharge that steps down: from when it was in force to when the
// next was, or to the last crossing of the cutoff.
type downStep struct{ from, to float64 }

// steps lists the steps of a discharge that came to its end.
func (d discharge) steps(rec *record.Record) []downStep {
	begins := []float64{d.From}
	for _, m := range rec.MarksIn(d.Span) {
		if _, down := m.About.(record.SteppedDown); down && m.T < d.To {
			begins = append(begins, m.T)
		}
	}
	steps := make([]downStep, len(begins))
	for k, from := range begins {
		steps[k] = downStep{from, d.To}
		if k+1 < len(begins) {
			steps[k].to = begins[k+1]
		}
	}
	return steps
}

// row is a step as a row of the table. Volts that are still beyond the cutoff when it is watched again have not
// recovered.
func (d discharge) row(k int, s downStep, blank float64) []any {
	begin, _ := d.b.Count(s.from)
	end, _ := d.b.Count(s.to)
	amps, remark := 0.0, ""
	if w := d.b.Within(s.from, s.to); len(w.Amps) > 0 {
		amps = -w.Amps[len(w.Amps)/2]
	}
	if watched := d.b.Within(s.from+blank, s.to); k > 0 && (len(watched.T) == 0 || watched.Volts[0] <= d.cutoff) {
		remark = "no recovery"
	}
	return []any{float64(k + 1), amps, (begin - end) / record.AmpHour, s.to - s.from, remark}
}

func crossingTime(rec *record.Record, req figure.Request) (figure.Result, error) {
	return crossed(rec, req, false)
}
func crossingCharge(rec *record.Record, req figure.Request) (figure.Result, error) {
	return crossed(rec, req, true)
}

// crossed is when the volts of a stage went through a level, falling in a discharge and rising otherwise,
// counted from its start.
func crossed(rec *record.Record, req figure.Request, charge bool) (figure.Result, error) {
	level, ok := req.Args["level"]
	if !ok {
		return figure.Result{}, record.Because(record.NoRating, "the figure needs a level")
	}
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	b, err := rec.Terminals(h.T0, h.T1)
	if err != nil {
		return figure.Result{}, err
	}
	unit, at := "s", func(t float64) float64 { return rec.Active(h.From, t) }
	if charge {
		begin, _ := b.Count(h.From)
		unit, at = "Ah", func(t float64) float64 {
			q, _ := b.Count(t)
			return (q - begin) / record.AmpHour
		}
	}
	delivered, gap := rec.Over(b, h.From, h.To)
	r := figure.Result{N: delivered.N}
	x, err := rec.Cross(b, record.Level{Volts: level, From: h.From, To: h.To, Rising: delivered.Charge > 0,
		For: req.Args["for"], Fit: int(req.Args["fit"])})
	if err != nil {
		return r, notCrossed(err, gap, delivered, at(delivered.To), unit)
	}
	moved, err := rec.OverTo(b, h.From, x)
	r.N, r.Remarks = moved.N, slices.Concat(moved.Gaps.Remarks, fitted(x))
	var why *record.Undetermined
	switch {
	case errors.As(err, &why) && x.InGap && why.Code == record.Gap:
		return r, why.Between(at(x.Before), at(x.After), unit)
	case err != nil:
		return r, err
	case charge:
		r.Value = moved.Charge / record.AmpHour
		r.KnownBy(rec.Account(moved), func(charge, _ []float64) float64 { return charge[0] / record.AmpHour })
		return r, nil
	}
	r.Value = at(x.T)
	reading, stated := rec.Input(b.VoltsColumn, level, x.Amps)
	reading.Noise = x.Noise
	r.WithUncertainty(func(v []float64) float64 { return v[0] / x.Slope }, []uncertainty.Reading{reading},
		stated && x.Slope != 0)
	return r, nil
}

// notCrossed is why a level was not crossed: a gap in which nobody looked, or a bound by what there is.
func notCrossed(err, gap error, delivered record.Moved, bound float64, unit string) error {
	var why *record.Undetermined
	if gap != nil {
		return gap
	}
	if errors.As(err, &why) && why.Code == record.NotReached && (unit == "s" || delivered.Charge > 0) {
		return why.Least(bound, unit)
	}
	if errors.As(err, &why) && why.Code == record.NotReached {
		why.AtMost, why.Known = &bound, quantity.Sprintf("≤ %.5g %s", bound, unit) // it is negative, and would be more so
	}
	return err
}
