// Package mains computes what a unit takes from the mains in a low-power mode, how good the supply was meanwhile, and
// how well the power may be said to be known, after IEC 62301.
//
// Everything is read by one meter: volts and amps are true rms over whole cycles, watts the mean power of the reading.
package mains

import (
	"cmp"
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
)

// Figures of this family.
var Figures = []figure.Definition{
	reads(power("standby-power", "Low power", "W", standbyPower, total), "watts", "volts", "amps", "amps.peak"),
	reads(power("accumulated-power", "Power by accumulation", "W", accumulatedPower, shortest, step), "watts"),
	reads(power("power-method-difference", "Accumulation against sampling", "%", methodDifference, total, shortest,
		step), "watts"),
	reads(power("power-stability", "Drift of power", "W/h", powerStability), "watts"),
	reads(power("power-step", "Step between two periods", "W/h", powerStep, period), "watts"),
	reads(supply("supply-voltage-deviation", "Supply volts off nominal", "%", deviation("volts", nominalVolts),
		nominalVolts), "volts"),
	reads(supply("supply-frequency-deviation", "Supply frequency off nominal", "%", deviation("hertz", nominalHertz),
		nominalHertz), "hertz"),
	reads(supply("supply-voltage-thd", "Distortion of the supply", "%", distortion("volts", voltOrders)),
		harmonics("volts", voltOrders)...),
	reads(supply("current-thd", "Distortion of the current", "%", distortion("amps", ampOrders)),
		harmonics("amps", ampOrders)...),
	reads(supply("supply-crest-factor", "Crest factor of the supply", "V/V", crestFactor("volts")),
		"volts", "volts.peak"),
	reads(supply("current-crest-factor", "Crest factor of the current", "A/A", crestFactor("amps")),
		"amps", "amps.peak"),
	reads(power("max-current-ratio", "Maximum current ratio", "A/A", maxCurrentRatio), "watts", "volts", "amps",
		"amps.peak"),
	reads(exact("a fixed value of the standard", power("permitted-uncertainty", "Uncertainty that is permitted", "W",
		permittedUncertainty)), "watts", "volts", "amps", "amps.peak"),
	reads(withWiring(power("burden-corrected-power", "Power without the meter's own", "W", correctedPower, across, through,
		known)), "watts", "volts", "amps"),
	reads(supply("burden-crossover-current", "Current of equal burdens", "A", crossover, across, through, known), "volts"),
	reads(exact("counted", supply("supply-quality-breaches", "Breaches of supply quality", "count", breaches, nominalVolts,
		nominalHertz)), append(harmonics("volts", voltOrders), "volts", "volts.peak", "hertz")...),
}

// Arguments of the family.
var (
	discard  = figure.Arg{Name: "discard", Dim: quantity.Number, Default: 1.0 / 3, Least: 0, Most: 0.9}
	cycle    = figure.Arg{Name: "cycle", Dim: quantity.Time, Default: math.NaN(), Least: 0.02, Most: 1e6}
	total    = figure.Arg{Name: "total", Dim: quantity.Time, Default: 900, Least: 1, Most: 1e6}
	shortest = figure.Arg{Name: "shortest", Dim: quantity.Time, Default: 600, Least: 1, Most: 1e6}
	period   = figure.Arg{Name: "period", Dim: quantity.Time, Default: 600, Least: 1, Most: 1e6}
	step     = figure.Arg{Name: "step", Dim: quantity.Energy, Default: math.NaN(), Least: 0, Most: 1e9}

	nominalVolts = figure.Arg{Name: "nominal-volts", Dim: quantity.Voltage, Default: math.NaN(), Least: 1, Most: 1e4}
	nominalHertz = figure.Arg{Name: "nominal-hertz", Dim: quantity.Frequency, Default: math.NaN(), Least: 1, Most: 1e4}

	across  = figure.Arg{Name: "across", Dim: quantity.Resistance, Default: math.NaN(), Least: 1, Most: 1e12}
	through = figure.Arg{Name: "through", Dim: quantity.Resistance, Default: math.NaN(), Least: 1e-6, Most: 1e6}
	known   = figure.Arg{Name: "known", Dim: quantity.Number, Default: 0, Least: 0, Most: 1}
)

func of(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args []figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Window, AllSides: true, Formula: formula, Args: args}
}

// power is a figure of the part of a stage in which the unit has settled.
func power(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return of(id, title, unit, formula, append(args, discard, cycle))
}

// supply is a figure of a whole stage.
func supply(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return of(id, title, unit, formula, args)
}

// harmonics are those of a quantity up to an order, as readings.
func harmonics(q string, orders int) (all []string) {
	for h := range orders {
		all = append(all, fmt.Sprintf("%s.h%d", q, h+1))
	}
	return all
}

func reads(d figure.Definition, readings ...string) figure.Definition {
	d.Reads = readings
	return d
}

func exact(why string, d figure.Definition) figure.Definition {
	d.Exact = why
	return d
}

// meterOf is the seat whose readings a figure is of.
func meterOf(req figure.Request) string { return cmp.Or(req.Input, seats.DefaultMeter) }

// fewestCycles is how many whole cycles of a cyclic mode are needed.
const fewestCycles = 4

// rounding is by what share a stage may be shorter than asked for: frames do not lie at its ends.
const rounding = 0.005

// window is the part of a stage in which the unit has settled, s.
type window struct {
	t0, t1 float64
	whole  float64 // how long the stage was
}

func (w window) length() float64 { return w.t1 - w.t0 }

// settled leaves out the first part of the stage that a request names; of a cyclic mode whole cycles are left.
func settled(rec *record.Record, req figure.Request) (window, error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return window{}, err
	}
	w := window{t0: span.T0 + req.Args["discard"]*(span.T1-span.T0), t1: span.T1, whole: span.T1 - span.T0}
	every, cyclic := req.Args["cycle"]
	if !cyclic {
		return w, nil
	}
	n := math.Floor(w.length()/every*(1+rounding) + 1e-9)
	if n < fewestCycles {
		return w, record.Because(record.TooFew, "%.0f whole cycles of %.4g s are left of the stage; %d are needed", n, every,
			fewestCycles)
	}
	w.t0 = math.Max(w.t0, w.t1-n*every)
	return w, nil
}

// unclipped fails for a reading at the end of the range of its instrument.
func unclipped(rec *record.Record, column string, m record.Measured) error {
	spec := rec.Specs[column]
	for _, x := range m.X {
		if _, within := spec.Find(x); len(spec) > 0 && !within {
			return record.Because(record.Clipped, "%s was %.4g, beyond the range of its instrument; choose a larger one",
				column, x)
		}
	}
	return nil
}

// all reads several quantities of the meter over the settled part of a stage.
func all(rec *record.Record, req figure.Request, quantities ...string) (w window, found []record.Measured, err error) {
	if w, err = settled(rec, req); err != nil {
		return w, nil, err
	}
	for _, q := range quantities {
		r, err := rec.Measured(meterOf(req)+"."+q, w.t0, w.t1)
		if err != nil {
			return w, nil, err
		}
		found = append(found, r)
	}
	return w, found, nil
}
