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
	points, err := rec.RowAt(req.Row, req.At)
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

// foundLevel is the midpoint of the last step at which the condition did not hold and the first at which it did.
func foundLevel(rec *record.Record, req figure.Request) (figure.Result, error) {
	b, err := rec.BracketOf(req.Row, req.At, req.Quantity)
	if err != nil {
		return figure.Result{}, err
	}
	return figure.Found(rec, b, req.Quantity), nil
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
	starts, err := rec.BracketOf(req.Row, req.At, column)
	if err != nil {
		return figure.Result{}, err
	}
	stops, err := rec.BracketOf(req.Against, req.At, column)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: starts.Middle() - stops.Middle(), N: 4}
	on, ok := starts.Readings(rec, column)
	off, stated := stops.Readings(rec, column)
	r.WithUncertainty(func(xs []float64) float64 { return xs[0] - xs[1] + xs[2] - xs[3] },
		[]uncertainty.Reading{on[0], off[0], on[1], off[1]}, ok && stated)
	if r.Value < -r.U {
		return r, record.Because(record.Implausible, "it starts at less line than it stops at: %.4g V below; dwell longer",
			-r.Value)
	}
	return r, nil
}
