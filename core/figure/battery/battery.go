// Package battery computes the figures of batteries and cells: charge and energy of half-cycles, resistance and
// recovery, curves, cycles and their fading, shares of cells side by side. A battery's current is positive when it
// charges; a figure named after a direction is positive in that direction.
package battery

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
)

// Figures of this family.
var Figures = slices.Concat(halfFigures, resistanceFigures, curveFigures, shareFigures)

// halfFigures are those of half-cycles.
var halfFigures = []figure.Definition{
	{ID: "capacity", Title: "Capacity", Unit: "Ah", Least: 0, Most: math.Inf(1), Needs: figure.Discharge,
		Args: []figure.Arg{cutoffArg, holdArg, fitArg}, Formula: capacity},
	{ID: "discharge-energy", Title: "Discharge energy", Unit: "Wh", Least: 0, Most: math.Inf(1), Needs: figure.Discharge,
		Args: []figure.Arg{cutoffArg, holdArg, fitArg}, Formula: dischargeEnergy},
	{ID: "capacity-gain", Title: "Gain of capacity", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Discharge,
		Args:  []figure.Arg{cutoffArg, holdArg}, Formula: capacityGain},
	{ID: "state-of-health", Title: "State of health", Unit: "%", Least: 0, Most: math.Inf(1), Needs: figure.Discharge,
		Args:    []figure.Arg{cutoffArg, holdArg},
		Choices: map[string][]string{"conditions": {"rated", "any"}}, Formula: stateOfHealth},
	{ID: "charge-returned", Title: "Charge returned", Unit: "Ah", Least: 0, Most: math.Inf(1), Needs: figure.Charge,
		Formula: chargeReturned},
	{ID: "energy-returned", Title: "Energy returned", Unit: "Wh", Least: 0, Most: math.Inf(1), Needs: figure.Charge,
		Formula: energyReturned},
	{ID: "coulombic-efficiency", Title: "Coulombic efficiency", Unit: "%", Least: 0, Most: 200, Needs: figure.Discharge,
		Choices: pairChoice, Formula: coulombicEfficiency},
	{ID: "energy-efficiency", Title: "Energy efficiency", Unit: "%", Least: 0, Most: 200, Needs: figure.Discharge,
		Choices: pairChoice, Formula: energyEfficiency},
	{ID: "mean-discharge-voltage", Title: "Mean discharge voltage", Unit: "V", Least: 0, Most: math.Inf(1),
		Needs: figure.Discharge, Args: []figure.Arg{cutoffArg, holdArg}, Formula: meanDischargeVoltage},
	{ID: "c-rate", Title: "C-rate", Unit: "C", Least: 0, Most: math.Inf(1), Formula: cRate},
	{ID: "termination", Title: "Termination", Unit: "s", Least: 0, Most: math.Inf(1),
		Exact: "the time of a frame", Formula: termination},
	{ID: "step-down-capacity", Title: "Step-down capacity", Unit: "Ah", Least: 0, Most: math.Inf(1),
		Needs: figure.Discharge,
		Args:  []figure.Arg{cutoffArg, blankArg}, Formula: stepDownCapacity},
	{ID: "crossing-time", Title: "Crossing time", Unit: "s", Least: 0, Most: math.Inf(1),
		Args:    []figure.Arg{levelArg, holdArg, fitArg},
		Formula: crossingTime},
	{ID: "crossing-charge", Title: "Crossing charge", Unit: "Ah", Least: math.Inf(-1), Most: math.Inf(1),
		Args:    []figure.Arg{levelArg, holdArg, fitArg},
		Formula: crossingCharge},
}

var (
	// The cutoff is that of the nameplate where none is given.
	cutoffArg = figure.Arg{Name: "cutoff", Dim: quantity.Voltage, Default: math.NaN(), Least: 1e-3, Most: 1e4}
	holdArg   = figure.Arg{Name: "for", Dim: quantity.Time, Default: 0, Least: 0, Most: 24 * 3600}
	fitArg    = figure.Arg{Name: "fit", Dim: quantity.Number, Default: 0, Least: 0, Most: 1000}
	// The blank is the time after a step-down in which the cutoff is not watched.
	blankArg = figure.Arg{Name: "blank", Dim: quantity.Time, Default: 2, Least: 0, Most: 3600}
	levelArg = figure.Arg{Name: "level", Dim: quantity.Voltage, Default: math.NaN(), Least: -1e4, Most: 1e4}

	pairChoice = map[string][]string{"pair": {"charge first", "discharge first"}}
)
