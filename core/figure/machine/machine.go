// Package machine computes the figures of electrical machines and of long thermal tests: winding resistance cold and
// hot, temperature rise, the losses by kind, the linear range of a response, zero and gain of a sensor, and when a
// temperature has settled.
//
// A machine is tested point by point: the rows of acquire, or the points of a grid, hold what its meter, its shaft
// and its ohmmeter read. Resistances are from line to line; θ is in °C.
package machine

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
)

// Figures of this family.
var Figures = slices.Concat(windings, losses, responses, thermal)

var windings = []figure.Definition{
	rows(ofRow("winding-resistance", "Winding resistance", "Ω", windingResistance, reference, constant)),
	drawn(ofRow("hot-resistance", "Hot resistance", "Ω", hotResistance, floor, firstBy)),
	rows(drawn(ofRow("temperature-rise", "Temperature rise", "K", temperatureRise, constant, floor, firstBy)), "cold"),
}

var losses = []figure.Definition{
	ofPoints("winding-loss", "Winding loss", "W", windingLoss),
	ofPoints("constant-loss", "Constant loss", "W", constantLoss),
	ofPoints("friction-windage-loss", "Friction and windage", "W", frictionLoss),
	ofPoints("iron-loss", "Iron loss", "W", ironLoss),
	ofPoints("slip-loss", "Slip loss", "W", slipLoss),
	ofPoints("additional-load-loss", "Additional load loss", "W", additionalLoss),
	ofPoints("summed-loss", "Losses by kind, together", "W", summedLoss),
	ofPoints("summed-efficiency", "Efficiency by losses", "%", summedEfficiency),
}

var responses = []figure.Definition{
	response("linear-range", "Linear range", true, false, linearRange),
	response("linear-range-low", "Linear from", true, false, linearLow),
	response("linear-range-high", "Linear to", true, false, linearHigh),
	response("linear-range-slope", "Slope in the linear range", false, true, linearSlope),
	response("dead-zone", "Dead zone", true, false, deadZone),
	{ID: "response-hysteresis", Title: "Hysteresis of the response", Unit: "%", Least: 0, Most: 100, Needs: figure.Grid,
		AllSides: true, Over: true, Args: []figure.Arg{points}, Formula: hysteresis},
	{ID: "response-yield", Title: "Yield", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Grid, AllSides: true,
		Over: true, Quotient: true, Choices: map[string][]string{"place": {"largest", "best"}}, Formula: yieldOf},
	{ID: "sensor-zero", Title: "Zero of a sensor", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Window,
		AllSides: true, Args: []figure.Arg{quiet}, Formula: sensorZero},
	sensor("sensor-gain", "Gain of a sensor", true, sensorGain),
	sensor("sensor-offset", "Offset of a sensor", false, sensorOffset),
}

var thermal = []figure.Definition{
	settling("thermal-settle-time", "Settles after", "s", settleTime, change, window),
	settling("final-temperature", "Final temperature", "°C", finalTemperature, step),
	settling("thermal-time-constant", "Thermal time constant", "s", timeConstant, step),
}

// Arguments of the family.
var (
	reference = figure.Arg{Name: "reference", Dim: quantity.Temperature, Default: 25, Least: -100, Most: 300}
	// constant is −1/α at 0 °C: 235 for copper, 225 for aluminium (IEC 60034-1).
	constant = figure.Arg{Name: "constant", Dim: quantity.Number, Default: 235, Least: 100, Most: 500}
	// floor is what a logarithmic line is drawn above: the cold resistance where the machine cools as one body.
	floor   = figure.Arg{Name: "floor", Dim: quantity.Resistance, Default: 0, Least: 0, Most: 1e9}
	firstBy = figure.Arg{Name: "first-by", Dim: quantity.Time, Default: 30, Least: 0.1, Most: 3600}

	torque     = figure.Arg{Name: "torque", Dim: quantity.TorqueMoment, Default: math.NaN(), Least: 0, Most: 1e9}
	volts      = figure.Arg{Name: "volts", Dim: quantity.Voltage, Default: math.NaN(), Least: 0, Most: 1e6}
	resistance = figure.Arg{Name: "resistance", Dim: quantity.Resistance, Default: math.NaN(), Least: 0, Most: 1e9}
	polePairs  = figure.Arg{Name: "pole-pairs", Dim: quantity.Number, Default: math.NaN(), Least: 1, Most: 500}

	within = figure.Arg{Name: "within", Default: math.NaN(), Least: 0, Most: 1e12, Of: figure.OfQuantity}
	points = figure.Arg{Name: "points", Dim: quantity.Number, Default: 5, Least: 3, Most: 1e6}
	quiet  = figure.Arg{Name: "quiet", Default: math.NaN(), Least: 0, Most: 1e12, Of: figure.OfQuantity}
	low    = figure.Arg{Name: "low", Default: 0, Least: -1e12, Most: 1e12, Of: figure.OfOver}
	high   = figure.Arg{Name: "high", Default: math.NaN(), Least: -1e12, Most: 1e12, Of: figure.OfOver}

	change = figure.Arg{Name: "change", Dim: quantity.Temperature, Default: 1, Least: 0, Most: 1000}
	window = figure.Arg{Name: "window", Dim: quantity.Time, Default: 1800, Least: 1, Most: 1e7}
	step   = figure.Arg{Name: "step", Dim: quantity.Time, Default: math.NaN(), Least: 1, Most: 1e7}
)

// methods of leading resistances back to the moment of switch-off.
const exponential, logLinear = "exponential", "log-linear"

func ofRow(id, title, unit string, formula formula, args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: 0, Most: math.Inf(1), Needs: figure.Row,
		AllSides: true, Args: args, Formula: formula}
}

// drawn is a figure that leads resistances back in time.
func drawn(d figure.Definition) figure.Definition {
	d.Choices = map[string][]string{"method": {exponential, logLinear}}
	return d
}

func rows(d figure.Definition, further ...string) figure.Definition {
	d.Rows = further
	return d
}

// ofPoints is a figure of the points of a row: load points, beside rows without load, cold and hot.
func ofPoints(id, title, unit string, formula formula) figure.Definition {
	most := math.Inf(1)
	if unit == "%" {
		most = 100
	}
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: 0, Most: most, Needs: figure.Row, AllSides: true,
		Args: []figure.Arg{torque, volts, resistance, polePairs, constant, floor, firstBy}, Formula: formula,
		Rows: []string{"no load", "cold", "hot"}, Choices: map[string][]string{"phases": {"three", "one"},
			"read": {"line", "phase"}, "method": {exponential, logLinear}, "works": {"motor", "generator"}}}
}

func response(id, title string, inOver, quotient bool, formula formula) figure.Definition {
	return figure.Definition{ID: id, Title: title, Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Grid,
		AllSides: true, Over: true, InOver: inOver, Quotient: quotient, Args: []figure.Arg{within, points},
		Choices: map[string][]string{"way": {"there", "back"}}, Formula: formula}
}

func sensor(id, title string, quotient bool, formula formula) figure.Definition {
	return figure.Definition{ID: id, Title: title, Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Row,
		AllSides: true, Over: true, InOver: true, Quotient: quotient, Args: []figure.Arg{low, high}, Rows: []string{"high"},
		Formula: formula}
}

func settling(id, title, unit string, formula formula, args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Window, AllSides: true, Args: args, Formula: formula}
}
