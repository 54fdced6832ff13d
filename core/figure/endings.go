package figure

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/uncertainty"
)

// cRate is mean |I| over the rated capacity: I_t of IEC 61434 is 1 C in amperes.
func cRate(rec *Record, req Request) (Result, error) {
	rated, ok := rec.Ratings["rated_capacity"]
	if !ok || rated.Value <= 0 || rated.Dim != quantity.Charge {
		return Result{}, undetermined(NoRating, "the nameplate does not state rated_capacity")
	}
	h, err := rec.half("discharge", req)
	if err != nil && req.Stage == "" {
		h, err = rec.half("charge", req)
	}
	if err != nil {
		return Result{}, err
	}
	b, err := rec.terminals(h.T0, h.T1)
	if err != nil {
		return Result{}, err
	}
	q0, _ := b.count(h.From, true)
	q1, _ := b.count(h.To, false)
	amps := math.Abs(q1-q0) / (h.To - h.From)
	r := Result{Value: amps / (rated.Value / ampSeconds), N: len(b.within(h.From, h.To).T)}
	spec, stated := rec.Specs[b.ampsColumn].Find(amps)
	r.withUncertainty(func(x []float64) float64 { return x[0] / (rated.Value / ampSeconds) },
		[]uncertainty.Reading{{Value: amps, Group: b.ampsColumn, Gain: spec.Reading, Offset: spec.Offset}}, stated)
	return r, nil
}

// termination tells the rule that ended a charge or discharge, and when, counted from its start.
func termination(rec *Record, req Request) (Result, error) {
	all := rec.halves("", req.Stage)
	all = slices.DeleteFunc(all, func(h half) bool {
		return req.Stage == "" && h.Kind != "charge" &&
			h.Kind != "discharge"
	})
	switch {
	case len(all) == 0:
		return Result{}, undetermined(NoMark, "no charge or discharge took place")
	case req.Pass > len(all):
		return Result{}, undetermined(NoMark, "it happened %d times, not %d", len(all), req.Pass)
	}
	h := all[len(all)-1]
	if req.Pass > 0 {
		h = all[req.Pass-1]
	}
	if h.Ended != "" {
		return Result{Value: h.To - h.From, Text: h.Ended, N: 1}, nil
	}
	known := "something else"
	for _, e := range rec.eventsIn(h.Span) {
		if e.Kind == "guard" || e.Kind == "end" || e.Kind == "timed-out" || e.Kind == "hand" {
			known = e.Label
		}
	}
	return Result{}, &Undetermined{Code: NoMark, Sentence: h.Name + " was not ended by a rule of its own", Known: known}
}

// stepDownCapacity is all charge up to the last crossing of the cutoff, with a table by step.
func stepDownCapacity(rec *Record, req Request) (Result, error) {
	d, err := rec.discharged(req)
	if err != nil {
		return Result{}, err
	}
	r := Result{N: len(d.b.within(d.From, d.To).T), Remarks: d.remarks,
		Table: &Table{Columns: []TableColumn{{"step", ""}, {"current", "A"}, {"charge", "Ah"}, {"duration", "s"},
			{"remark", ""}}}}
	if d.Ended != "cutoff" {
		return r, &Undetermined{Code: NotReached, Sentence: "the discharge was ended by " +
			orElse(d.Ended, "something else") + " before its last crossing",
			Known: fmt.Sprintf("≥ %.5g Ah", d.charge/ampSeconds)}
	}
	begins := []float64{d.From}
	ends := []float64{}
	for _, e := range rec.eventsIn(d.Span) {
		switch {
		case e.Kind == EventCondition && strings.HasPrefix(e.Label, "cutoff, step"):
			ends = append(ends, e.T)
		case e.Kind == EventCommand && strings.HasPrefix(e.Label, "stepped down"):
			begins = append(begins, e.T)
		}
	}
	ends = append(ends, d.To)
	for k := range ends {
		if k >= len(begins) {
			break
		}
		q0, _ := d.b.count(begins[k], k == 0)
		q1, remark := 0.0, ""
		x, err := rec.cross(d.b, d.cutoff, begins[k], ends[k], false, 0, 0)
		if err != nil {
			q1, _ = d.b.count(ends[k], true)
			remark = "no recovery"
		} else {
			q1 = x.Charge
		}
		w := d.b.within(begins[k], ends[k])
		amps := 0.0
		if n := len(w.Amps); n > 0 {
			amps = -w.Amps[n/2]
		}
		r.Value += (q0 - q1) / ampSeconds
		r.Table.Rows = append(r.Table.Rows, []any{float64(k + 1), amps, (q0 - q1) / ampSeconds, ends[k] - begins[k], remark})
	}
	d.crossing.T = d.To
	d.amps = r.Value * ampSeconds / math.Max(d.To-d.From, 1e-9)
	d.uncertainty(rec, &r, 1, ampSeconds)
	return r, nil
}

func crossingTime(rec *Record, req Request) (Result, error)   { return rec.crossed(req, false) }
func crossingCharge(rec *Record, req Request) (Result, error) { return rec.crossed(req, true) }

// crossed is when the volts of a stage went through a level, falling in a discharge and rising otherwise,
// counted from its start.
func (rec *Record) crossed(req Request, charge bool) (Result, error) {
	level, ok := req.Args["level"]
	if !ok {
		return Result{}, undetermined(NoRating, "the figure needs a level")
	}
	h, err := rec.half("discharge", req)
	if err != nil {
		return Result{}, err
	}
	b, err := rec.terminals(h.T0, h.T1)
	if err != nil {
		return Result{}, err
	}
	q0, _ := b.count(h.From, true)
	q1, _ := b.count(h.To, false)
	x, err := rec.cross(b, level, h.From, h.To, q1 > q0, req.Args["for"], int(req.Args["fit"]))
	if err != nil {
		return Result{}, err
	}
	if _, _, err := rec.upTo(b, h.From, x); err != nil {
		return Result{}, err
	}
	spec, stated := rec.Specs[b.voltsColumn].Find(level)
	r := Result{Value: x.T - h.From, N: len(b.within(h.From, x.T).T)}
	per := 0.0
	if x.Slope != 0 {
		per = 1 / math.Abs(x.Slope)
	}
	if charge {
		r.Value, per = (x.Charge-q0)/ampSeconds, per*math.Abs(x.Amps)/ampSeconds
	}
	r.withUncertainty(func(v []float64) float64 { return v[0] * per },
		[]uncertainty.Reading{{Value: level, Group: b.voltsColumn, Gain: spec.Reading, Offset: spec.Offset,
			Noise: uncertainty.Resolution(spec.Resolution)}}, stated)
	return r, nil
}
