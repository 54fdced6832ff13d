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

// bracket is the measured quantity on both sides of what a seek found.
func bracket(rec *record.Record, name, column string) (before, after float64, p record.Point, err error) {
	points, err := rec.Row(name)
	if err != nil {
		return 0, 0, p, err
	}
	p = points[len(points)-1] // of several tries the last
	after, err = p.Mean(column)
	if err != nil {
		return 0, 0, p, err
	}
	if p.Before == nil {
		return 0, 0, p, record.Because(record.AlreadyBeyond, "the condition of %q held at the first step; begin further away",
			name)
	}
	earlier := record.Point{Place: p.Place, Averages: p.Before}
	before, err = earlier.Mean(column)
	return before, after, p, err
}

// foundLevel is the midpoint of the last step at which the condition did not hold and the first at which it
// did; half a step is its uncertainty as a rectangle, beside the accuracy of the reading.
func foundLevel(rec *record.Record, req figure.Request) (figure.Result, error) {
	before, after, p, err := bracket(rec, req.Row, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	factor := trace.UnitOf(req.Quantity).Factor
	r := figure.Result{Value: (before + after) / 2 / factor, N: 2}
	if p.Recovery != "" {
		r.Remarks = append(r.Remarks, p.Recovery)
	}
	spread, ok := rec.Reading(p, req.Quantity)
	step := uncertainty.Reading{Group: "half a step", Offset: math.Abs(after-before) / 2}
	spread.Value = (before + after) / 2
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
	onBefore, onAfter, p, err := bracket(rec, req.Row, column)
	if err != nil {
		return figure.Result{}, err
	}
	offBefore, offAfter, q, err := bracket(rec, req.Against, column)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: (onBefore+onAfter)/2 - (offBefore+offAfter)/2, N: 4}
	on, ok := rec.Reading(p, column)
	off, stated := rec.Reading(q, column)
	on.Value, off.Value = (onBefore+onAfter)/2, (offBefore+offAfter)/2
	steps := []uncertainty.Reading{{Group: "half a step up", Offset: math.Abs(onAfter-onBefore) / 2},
		{Group: "half a step down", Offset: math.Abs(offAfter-offBefore) / 2}}
	r.WithUncertainty(func(xs []float64) float64 { return xs[0] - xs[1] + xs[2] - xs[3] },
		append([]uncertainty.Reading{on, off}, steps...), ok && stated)
	if r.Value < -r.U {
		return r, record.Because(record.Implausible, "it starts at less line than it stops at: %.4g V below; dwell longer",
			-r.Value)
	}
	return r, nil
}
