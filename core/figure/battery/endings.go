package battery

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// cRate is mean |I| over the rated capacity: I_t of IEC 61434 is 1 C in amperes.
func cRate(rec *record.Record, req figure.Request) (figure.Result, error) {
	rated, ok := rec.Ratings["rated_capacity"]
	if !ok || rated.Value <= 0 || rated.Dim != quantity.Charge {
		return figure.Result{}, record.Because(record.NoRating, "the nameplate does not state rated_capacity")
	}
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil && req.Stage == "" {
		h, err = rec.Half("charge", req.Stage, req.Pass)
	}
	if err != nil {
		return figure.Result{}, err
	}
	b, err := rec.Terminals(h.T0, h.T1)
	if err != nil {
		return figure.Result{}, err
	}
	q0, _ := b.Count(h.From, true)
	q1, _ := b.Count(h.To, false)
	amps := math.Abs(q1-q0) / (h.To - h.From)
	r := figure.Result{Value: amps / (rated.Value / record.AmpHour), N: len(b.Within(h.From, h.To).T)}
	spec, stated := rec.Specs[b.AmpsColumn].Find(amps)
	r.WithUncertainty(func(x []float64) float64 { return x[0] / (rated.Value / record.AmpHour) },
		[]uncertainty.Reading{{Value: amps, Group: b.AmpsColumn, Gain: spec.Reading, Offset: spec.Offset}}, stated)
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
		return figure.Result{Value: h.To - h.From, Text: h.Ended, N: 1}, nil
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

var stepColumns = []figure.TableColumn{{Name: "step"}, {Name: "current", Unit: "A"}, {Name: "charge", Unit: "Ah"},
	{Name: "duration", Unit: "s"}, {Name: "remark"}}

// stepDownCapacity is all charge up to the last crossing of the cutoff, with a table by step.
func stepDownCapacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{N: len(d.b.Within(d.From, d.To).T), Remarks: d.remarks, Table: &figure.Table{Columns: stepColumns}}
	if d.Ended != "cutoff" {
		reason := record.Because(record.NotReached, "the discharge was ended by %s before its last crossing",
			cmp.Or(d.Ended, "something else"))
		reason.Known = fmt.Sprintf("≥ %.5g Ah", d.charge/record.AmpHour)
		return r, reason
	}
	for k, s := range d.steps(rec) {
		taken, remark := d.takenIn(rec, s, k == 0)
		amps := 0.0
		if w := d.b.Within(s.from, s.to); len(w.Amps) > 0 {
			amps = -w.Amps[len(w.Amps)/2]
		}
		r.Value += taken / record.AmpHour
		r.Table.Rows = append(r.Table.Rows, []any{float64(k + 1), amps, taken / record.AmpHour, s.to - s.from, remark})
	}
	d.Crossing.T = d.To
	d.amps = r.Value * record.AmpHour / math.Max(d.To-d.From, 1e-9)
	d.uncertainty(rec, &r, 1, record.AmpHour)
	return r, nil
}

// downStep is the time at one current of a discharge that steps down.
type downStep struct{ from, to float64 }

// steps lists the steps of a discharge that came to its end: each from when its current was in force to when the
// volts came to the cutoff.
func (d discharge) steps(rec *record.Record) []downStep {
	begins, ends := []float64{d.From}, []float64{}
	for _, m := range rec.MarksIn(d.Span) {
		switch m.About.(type) {
		case record.CutoffReached:
			ends = append(ends, m.T)
		case record.SteppedDown:
			begins = append(begins, m.T)
		}
	}
	ends = append(ends, d.To)
	steps := make([]downStep, min(len(begins), len(ends)))
	for k := range steps {
		steps[k] = downStep{begins[k], ends[k]}
	}
	return steps
}

// takenIn is the charge that a step took up to its crossing of the cutoff, A·s. Volts that began a step beyond the
// cutoff did not recover.
func (d discharge) takenIn(rec *record.Record, s downStep, first bool) (charge float64, remark string) {
	begin, _ := d.b.Count(s.from, first)
	x, err := rec.Cross(d.b, record.Level{Volts: d.cutoff, From: s.from, To: s.to})
	if err != nil {
		end, _ := d.b.Count(s.to, true)
		return begin - end, "no recovery"
	}
	return begin - x.Charge, ""
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
	q0, _ := b.Count(h.From, true)
	q1, _ := b.Count(h.To, false)
	x, err := rec.Cross(b, record.Level{Volts: level, From: h.From, To: h.To, Rising: q1 > q0, For: req.Args["for"],
		Fit: int(req.Args["fit"])})
	if err != nil {
		return figure.Result{}, err
	}
	if _, err := rec.UpTo(b, h.From, x); err != nil {
		return figure.Result{}, err
	}
	spec, stated := rec.Specs[b.VoltsColumn].Find(level)
	r := figure.Result{Value: x.T - h.From, N: len(b.Within(h.From, x.T).T)}
	per := 0.0
	if x.Slope != 0 {
		per = 1 / math.Abs(x.Slope)
	}
	if charge {
		r.Value, per = (x.Charge-q0)/record.AmpHour, per*math.Abs(x.Amps)/record.AmpHour
	}
	r.WithUncertainty(func(v []float64) float64 { return v[0] * per },
		[]uncertainty.Reading{{Value: level, Group: b.VoltsColumn, Gain: spec.Reading, Offset: spec.Offset,
			Noise: uncertainty.Resolution(spec.Resolution)}}, stated)
	return r, nil
}
