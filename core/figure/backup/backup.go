// Package backup computes the figures of back-up supplies and of power that is sent round in a circle: a load that
// gives its power back leaves only the losses to be drawn from the mains.
package backup

import (
	"cmp"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
)

// Figures of this family. A load's power is that of the seat that output names, the power of the mains that of the one
// that input names.
var Figures = []figure.Definition{
	ofGear(of("ramp-slope", "Slope of a ramp", "W/s", rampSlope, from, to)),
	ofGear(of("ramp-deviation", "Deviation from a ramp", "W", rampDeviation, from, to, over)),
	ofGear(of("hold-deviation", "Power off the request", "%", holdDeviation, request)),
	ofGear(of("hold-time", "Time within the band", "s", holdTime, request, band)),
	ofGear(reads("watts", of("mains-loss", "Loss drawn from the mains", "W", mainsLoss, stored))),
	withGear(reads("watts", of("unit-loss", "Loss of the unit", "W", unitLoss, stored))),
	ofGear(reads("watts", of("recirculated-share", "Share that goes round", "%", recirculatedShare))),
	reads("watts", of("input-output-loss", "Loss from input to output", "W", inputOutputLoss, stored)),
	reads("watts", of("input-output-efficiency", "Efficiency from input to output", "%", inputOutputEfficiency, stored)),
	reads("volts", of("backup-time", "Time on battery", "s", backupTime, nominal, lost, low, high, lasting)),
}

// Arguments of the family.
var (
	from    = power("from", 0)
	to      = power("to", math.NaN())
	request = power("request", math.NaN())
	band    = figure.Arg{Name: "band", Dim: quantity.Power, Default: math.NaN(), Least: 0, Most: 1e9}
	over    = figure.Arg{Name: "over", Dim: quantity.Time, Default: math.NaN(), Least: 1e-3, Most: 1e6}
	stored  = figure.Arg{Name: "stored", Dim: quantity.Energy, Default: 0, Least: -1e12, Most: 1e12}

	nominal = figure.Arg{Name: "nominal", Dim: quantity.Voltage, Default: math.NaN(), Least: 1, Most: 1e5}
	lost    = figure.Arg{Name: "lost", Dim: quantity.Number, Default: 0.1, Least: 0.001, Most: 0.99}
	low     = figure.Arg{Name: "low", Dim: quantity.Voltage, Default: math.NaN(), Least: 0, Most: 1e5}
	high    = figure.Arg{Name: "high", Dim: quantity.Voltage, Default: 1e5, Least: 0, Most: 1e5}
	lasting = figure.Arg{Name: "for", Dim: quantity.Time, Default: 0.1, Least: 0, Most: 1e4}
)

func power(name string, unset float64) figure.Arg {
	return figure.Arg{Name: name, Dim: quantity.Power, Default: unset, Least: -1e9, Most: 1e9}
}

func of(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Window, AllSides: true, Formula: formula, Args: args}
}

func reads(reading string, d figure.Definition) figure.Definition {
	d.Reads = []string{reading}
	return d
}

func ofGear(d figure.Definition) figure.Definition {
	d.OfGear = true
	return d
}

func withGear(d figure.Definition) figure.Definition {
	d.WithGear = true
	return d
}

// Seats whose power is meant where a request names none: the load, and the meter in the mains.
func outputOf(req figure.Request) string { return cmp.Or(req.Output, seats.DefaultOutput) }
func inputOf(req figure.Request) string  { return cmp.Or(req.Input, seats.DefaultMeter) }

// given is an argument that has no default.
func given(req figure.Request, a figure.Arg) (float64, error) {
	if x, ok := req.Args[a.Name]; ok {
		return x, nil
	}
	return 0, record.Because(record.NoRating, "give %s", a.Name)
}

// read reads a column of a seat over the stage that a request names.
func read(rec *record.Record, req figure.Request, seat, q string) (record.Span, record.Measured, error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return span, record.Measured{}, err
	}
	m, err := rec.Measured(seat+"."+q, span.T0, span.T1)
	return span, m, err
}

// both reads the power of the mains and that of the load over the stage that a request names.
func both(rec *record.Record, req figure.Request) (span record.Span, in, out record.Measured, err error) {
	if span, in, err = read(rec, req, inputOf(req), "watts"); err != nil {
		return span, in, out, err
	}
	_, out, err = read(rec, req, outputOf(req), "watts")
	return span, in, out, err
}
