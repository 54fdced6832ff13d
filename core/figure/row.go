package figure

import (
	"math"

	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Figures of rows: what acquire took, and what seek found.
var rowFigures = []Definition{
	{ID: "reading", Title: "Reading", Least: math.Inf(-1), Most: math.Inf(1), Row: true, compute: reading},
	{ID: "found-level", Title: "Level found", Least: math.Inf(-1), Most: math.Inf(1), Row: true, compute: foundLevel},
	{ID: "lockout-on", Title: "Lockout, starts at", Unit: "V", Least: 0, Most: math.Inf(1), Row: true, compute: lockout},
	{ID: "lockout-off", Title: "Lockout, stops at", Unit: "V", Least: 0, Most: math.Inf(1), Row: true, compute: lockout},
	{ID: "lockout-hysteresis", Title: "Lockout, hysteresis", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1), Row: true,
		compute: lockoutHysteresis},
}

// row gives the points of a row.
func (rec *Record) row(name string) ([]Point, error) {
	var points []Point
	for _, p := range rec.Points {
		if p.Row == name {
			points = append(points, p)
		}
	}
	if len(points) == 0 {
		return nil, undetermined(NoPoint, "the run has no row %q", name)
	}
	return points, nil
}

// reading is the mean of a quantity over the readings of a row.
func reading(rec *Record, req Request) (Result, error) {
	points, err := rec.row(req.Row)
	if err != nil {
		return Result{}, err
	}
	factor := trace.UnitOf(req.Quantity).Factor
	readings := make([]uncertainty.Reading, len(points))
	stated := true
	var r Result
	for i, p := range points {
		x, err := p.mean(req.Quantity)
		if err != nil {
			return r, err
		}
		var ok bool
		readings[i], ok = rec.reading(p, req.Quantity)
		stated = stated && ok
		r.Value += x / factor / float64(len(points))
		r.N += p.Averages[req.Quantity].N
	}
	r.withUncertainty(func(xs []float64) float64 {
		var sum float64
		for _, x := range xs {
			sum += x
		}
		return sum / float64(len(xs)) / factor
	}, readings, stated)
	return r, nil
}

// bracket is the measured quantity on both sides of what a seek found.
func (rec *Record) bracket(name, column string) (before, after float64, p Point, err error) {
	points, err := rec.row(name)
	if err != nil {
		return 0, 0, p, err
	}
	p = points[len(points)-1] // of several tries the last
	after, err = p.mean(column)
	if err != nil {
		return 0, 0, p, err
	}
	if p.Before == nil {
		return 0, 0, p, undetermined(AlreadyBeyond, "the condition of %q held at the first step; begin further away", name)
	}
	earlier := Point{Place: p.Place, Averages: p.Before}
	before, err = earlier.mean(column)
	return before, after, p, err
}

// foundLevel is the midpoint of the last step at which the condition did not hold and the first at which it
// did; half a step is its uncertainty as a rectangle, beside the accuracy of the reading.
func foundLevel(rec *Record, req Request) (Result, error) {
	before, after, p, err := rec.bracket(req.Row, req.Quantity)
	if err != nil {
		return Result{}, err
	}
	factor := trace.UnitOf(req.Quantity).Factor
	r := Result{Value: (before + after) / 2 / factor, N: 2}
	if p.Recovery != "" {
		r.Remarks = append(r.Remarks, p.Recovery)
	}
	spread, ok := rec.reading(p, req.Quantity)
	step := uncertainty.Reading{Group: "half a step", Offset: math.Abs(after-before) / 2}
	spread.Value = (before + after) / 2
	r.withUncertainty(func(xs []float64) float64 { return (xs[0] + xs[1]) / factor }, []uncertainty.Reading{spread, step},
		ok)
	return r, nil
}

// lockout is the line volts at which the output comes or goes: found-level of the input.
func lockout(rec *Record, req Request) (Result, error) {
	req.Quantity = req.Input + ".volts"
	return foundLevel(rec, req)
}

// lockoutHysteresis is on − off of two rows that one supply stepped: its offset cancels, and two equal
// rectangles make a triangle.
func lockoutHysteresis(rec *Record, req Request) (Result, error) {
	column := req.Input + ".volts"
	onBefore, onAfter, p, err := rec.bracket(req.Row, column)
	if err != nil {
		return Result{}, err
	}
	offBefore, offAfter, q, err := rec.bracket(req.Against, column)
	if err != nil {
		return Result{}, err
	}
	r := Result{Value: (onBefore+onAfter)/2 - (offBefore+offAfter)/2, N: 4}
	on, ok := rec.reading(p, column)
	off, stated := rec.reading(q, column)
	on.Value, off.Value = (onBefore+onAfter)/2, (offBefore+offAfter)/2
	steps := []uncertainty.Reading{{Group: "half a step up", Offset: math.Abs(onAfter-onBefore) / 2},
		{Group: "half a step down", Offset: math.Abs(offAfter-offBefore) / 2}}
	r.withUncertainty(func(xs []float64) float64 { return xs[0] - xs[1] + xs[2] - xs[3] },
		append([]uncertainty.Reading{on, off}, steps...), ok && stated)
	if r.Value < -r.U {
		return r, undetermined(Implausible, "it starts at less line than it stops at: %.4g V below; dwell longer", -r.Value)
	}
	return r, nil
}
