package converter

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// dropoutInput is the line volts at which the output falls below (1 − fall)·V_ref, with the load held.
func dropoutInput(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := droppedOut(rec, req)
	return d.result, err
}

// dropout is dropout-input minus the output there, of a unit that steps down.
func dropout(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := droppedOut(rec, req)
	if err != nil {
		return d.result, err
	}
	if d.result.Value -= d.level; d.result.Value < 0 {
		return d.result, record.Because(record.WrongConditions, "the unit steps up: its output is above its line")
	}
	return d.result, nil
}

type droppingOut struct {
	result figure.Result
	level  float64 // the output there, V
}

func droppedOut(rec *record.Record, req figure.Request) (d droppingOut, err error) {
	s, err := alongLine(rec, req)
	if err != nil {
		return d, err
	}
	ref, err := reference(rec, req, s, lineSet(req), "nominal_line")
	if err != nil {
		return d, err
	}
	top := ref(s.volts)
	d.level = (1 - req.Args["fall"]) * top
	for i := len(s.volts) - 2; i >= 0; i-- { // the line falls
		above, below := s.volts[i+1], s.volts[i]
		if above < d.level || below >= d.level {
			continue
		}
		if below < above/2 {
			return d, record.Because(record.NotFound, "the unit locked out between %s and %s of line, before its output fell",
				lineVolts(s.along[i+1]), lineVolts(s.along[i]))
		}
		share := (above - d.level) / (above - below)
		x := s.along[i+1] - share*(s.along[i+1]-s.along[i])
		d.result = figure.Result{Request: figure.Request{At: s.place}, Value: x, N: len(s.points)}
		upper, stated := rec.Reading(s.points[i+1], req.Input+".volts")
		lower, also := rec.Reading(s.points[i], req.Input+".volts")
		// The output's own uncertainty moves the crossing along the slope between the two points.
		slope := (above - below) / math.Max(s.along[i+1]-s.along[i], 1e-12)
		level := s.readings[i]
		level.Value, level.Group, level.Gain, level.Offset = 0, "output", 0, level.Gain*d.level+level.Offset
		d.result.WithUncertainty(func(x []float64) float64 { return (1-share)*x[0] + share*x[1] + x[2]/slope },
			[]uncertainty.Reading{upper, lower, level}, stated && also && s.stated)
		return d, nil
	}
	if s.volts[len(s.volts)-1] < d.level {
		return d, record.Because(record.AlreadyBeyond, "the output is below %s at every line", lineVolts(d.level))
	}
	why := record.Because(record.NotReached, "the output did not fall below %s", lineVolts(d.level))
	bound := s.along[0]
	why.AtMost, why.Known = &bound, "≤ "+lineVolts(bound)
	return d, why
}

func lineVolts(x float64) string { return quantity.Quantity{Value: x, Dim: quantity.Voltage}.Format(4) }
