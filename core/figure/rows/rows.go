// Package rows computes the figures of rows: what acquire took, and what seek found.
package rows

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Figures of this family.
var Figures = []figure.Definition{
	{ID: "reading", Title: "Reading", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Row, Formula: reading},
	{ID: "found-level", Title: "Level found", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Row,
		Formula: foundLevel},
	{ID: "lockout-on", Title: "Lockout, starts at", Unit: "V", Least: 0, Most: math.Inf(1), Needs: figure.Row,
		Formula: lockout},
	{ID: "lockout-off", Title: "Lockout, stops at", Unit: "V", Least: 0, Most: math.Inf(1), Needs: figure.Row,
		Formula: lockout},
	{ID: "lockout-hysteresis", Title: "Lockout, hysteresis", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1),
		Needs:   figure.Row,
		Formula: lockoutHysteresis},
}

// reading is the mean of a quantity over the readings of a row.
func reading(rec *record.Record, req figure.Request) (figure.Result, error) {
	points, err := rec.Row(req.Row)
	if err != nil {
		return figure.Result{}, err
	}
	factor := trace.UnitOf(req.Quantity).Factor
	readings := make([]uncertainty.Reading, len(points))
	stated := true
	var r figure.Result
	for i, p := range points {
		x, err := p.Mean(req.Quantity)
		if err != nil {
			return r, err
		}
		var ok bool
		readings[i], ok = rec.Reading(p, req.Quantity)
		stated = stated && ok
		r.Value += x / factor / float64(len(points))
		r.N += p.Averages[req.Quantity].N
	}
	r.WithUncertainty(func(xs []float64) float64 {
		var sum float64
		for _, x := range xs {
			sum += x
		}
		return sum / float64(len(xs)) / factor
	}, readings, stated)
	return r, nil
}

// bracket is what lies on both sides of what a seek found: the quantity at the last step at which its condition did
// not hold, and at the first at which it did.
type bracket struct {
	before, after float64
	point         record.Point
	// gaveWay says that the quantity could not be measured after the step, since the unit had given it up.
	gaveWay bool
}

func bracketOf(rec *record.Record, name, column string) (b bracket, err error) {
	points, err := rec.Row(name)
	if err != nil {
		return b, err
	}
	b.point = points[len(points)-1] // of several tries the last
	if b.after, err = b.point.Mean(column); err != nil {
		return b, err
	}
	if b.point.Before == nil {
		return b, record.Because(record.AlreadyBeyond, "the condition of %q held at the first step; begin further away", name)
	}
	earlier := record.Point{Place: b.point.Place, Averages: b.point.Before}
	if b.before, err = earlier.Mean(column); err != nil {
		return b, err
	}
	b.correct(column)
	return b, nil
}

// correct puts what was set in place of what was measured where the unit gave up in the step, so that nothing of it was
// left to measure: the level set then, and what was measured over what was set before. Source: figures, trip-level.
func (b *bracket) correct(column string) {
	held, stepped := b.point.Held[column]
	found, set := b.point.Place[column]
	if !stepped || !set {
		return
	}
	expected := found + b.before - held
	if b.gaveWay = math.Abs(b.after-expected) > math.Abs(found-held); b.gaveWay {
		b.after = expected
	}
}

func (b *bracket) middle() float64   { return (b.before + b.after) / 2 }
func (b *bracket) halfStep() float64 { return math.Abs(b.after-b.before) / 2 }

// foundLevel is the midpoint of the last step at which the condition did not hold and the first at which it
// did; half a step is its uncertainty as a rectangle, beside the accuracy of the reading.
func foundLevel(rec *record.Record, req figure.Request) (figure.Result, error) {
	b, err := bracketOf(rec, req.Row, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	factor := trace.UnitOf(req.Quantity).Factor
	r := figure.Result{Value: b.middle() / factor, N: 2}
	if b.gaveWay {
		r.Remarks = append(r.Remarks, "the unit gave way: the set level counts, corrected by what was measured before")
	}
	if b.point.Recovery != "" {
		r.Remarks = append(r.Remarks, b.point.Recovery)
	}
	spread, ok := rec.Reading(b.point, req.Quantity)
	step := uncertainty.Reading{Group: "half a step", Offset: b.halfStep()}
	spread.Value = b.middle()
	r.WithUncertainty(func(xs []float64) float64 { return (xs[0] + xs[1]) / factor }, []uncertainty.Reading{spread, step},
		ok)
	return r, nil
}

// lockout is the line volts at which the output comes or goes: found-level of the input.
func lockout(rec *record.Record, req figure.Request) (figure.Result, error) {
	req.Quantity = req.Input + ".volts"
	return foundLevel(rec, req)
}

// lockoutHysteresis is on − off of two rows that one supply stepped: its offset cancels, and two equal
// rectangles make a triangle.
func lockoutHysteresis(rec *record.Record, req figure.Request) (figure.Result, error) {
	column := req.Input + ".volts"
	starts, err := bracketOf(rec, req.Row, column)
	if err != nil {
		return figure.Result{}, err
	}
	stops, err := bracketOf(rec, req.Against, column)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: starts.middle() - stops.middle(), N: 4}
	on, ok := rec.Reading(starts.point, column)
	off, stated := rec.Reading(stops.point, column)
	on.Value, off.Value = starts.middle(), stops.middle()
	steps := []uncertainty.Reading{{Group: "half a step up", Offset: starts.halfStep()},
		{Group: "half a step down", Offset: stops.halfStep()}}
	r.WithUncertainty(func(xs []float64) float64 { return xs[0] - xs[1] + xs[2] - xs[3] },
		append([]uncertainty.Reading{on, off}, steps...), ok && stated)
	if r.Value < -r.U {
		return r, record.Because(record.Implausible, "it starts at less line than it stops at: %.4g V below; dwell longer",
			-r.Value)
	}
	return r, nil
}
