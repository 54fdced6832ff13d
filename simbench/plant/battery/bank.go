package battery

import (
	"fmt"
	"math"

	"usherbench/simbench/plant"
)

// Bank is single cells side by side on one pair of rails, each through a fuse and an ammeter of its own. Cells
// that are not equally full even out through the rails.
type Bank struct {
	Cells []*Unit
	// Reversed says that the leads to the rails are the wrong way round.
	Reversed bool
}

// BlownFuse is the fault of a bank of which one cell is not connected.
const BlownFuse plant.Fault = "blown-fuse"

// bankCells are how many cells a bank of the demo scenario has.
const bankCells = 7

// GannetBank is a bank of gannet cells as they came from the shelf: state is the state of charge in the mean, 0
// … 1; each cell is up to a tenth away from it.
func GannetBank(serial string, fault plant.Fault, state float64) (*Bank, error) {
	away := plant.TolerancesOf(serial, 0xba2c)
	b := &Bank{}
	for k := range bankCells {
		name := ""
		if serial != "" {
			name = fmt.Sprintf("%s/%d", serial, k+1)
		}
		cell, err := GannetCell(name, plant.Healthy)
		if err != nil {
			return nil, err
		}
		cell.Ohmic += 0.03 // fuse, shunt and leads
		if err := bankFaults.Apply(fault, "cells side by side", inBank{b, &cell, k == bankCells-1}); err != nil {
			return nil, err
		}
		full := min(max(away(1, 0.05)-1, -0.1), 0.1)
		b.Cells = append(b.Cells, NewUnit(cell, min(max(state+full, 0.02), 0.98)))
	}
	return b, nil
}

// inBank is a cell of a bank, as a fault of the bank changes it; the odd one is the last.
type inBank struct {
	bank *Bank
	cell *Battery
	odd  bool
}

var bankFaults = plant.Faults[inBank]{
	plant.Healthy: func(inBank) {},
	WeakPack: func(x inBank) {
		if x.odd {
			x.cell.Capacity *= 0.7
			x.cell.Ohmic *= 1.8
		}
	},
	BlownFuse:      func(x inBank) { x.cell.Open = x.odd },
	ReversedLeads:  func(x inBank) { x.bank.Reversed = true },
	plant.DeadUnit: func(x inBank) { x.cell.Open = true },
}

// At is the operating point at time t, whose further terminals are the cells. It must be called with increasing t.
func (b *Bank) At(t float64, joined plant.Joined) plant.Operating {
	source, load := joined.Line, joined.Output
	first := &b.Cells[0].State
	if !first.begun {
		for _, c := range b.Cells {
			c.State.begun, c.State.t = true, t
		}
	}
	for t-first.t > longestStep {
		b.pass(first.t + longestStep)
		b.settle(source, load)
	}
	b.pass(t)
	return b.settle(source, load)
}

func (b *Bank) pass(t float64) {
	for _, c := range b.Cells {
		c.Battery.pass(&c.State, t)
	}
}

// settle shares the current: on rails at V the cell k with inner voltage E and resistance R takes (V − E)/R,
// so that together they are one battery with the conductances added and the inner voltages weighted by them.
func (b *Bank) settle(source plant.Source, load plant.Load) plant.Operating {
	var siemens, short float64
	warmest := 0.0
	for _, c := range b.Cells {
		warmest = max(warmest, c.State.warmth)
		c.State.amps = 0
		if !c.Battery.Open {
			siemens += 1 / c.Battery.Ohmic
			short += c.Battery.inner(&c.State) / c.Battery.Ohmic
		}
	}
	o := plant.Operating{Celsius: plant.Ambient + warmest, Further: make([]plant.Seen, len(b.Cells))}
	if siemens == 0 {
		o.Line.Volts, o.Output.Volts = offVolts(source), offVolts(source)
		return o
	}
	rails := Battery{Ohmic: 1 / siemens}
	inner, sign := short/siemens, 1.0
	if b.Reversed { // the cells even out all the same; what a supply would do to them is left to the fuse
		source, load, sign = plant.Source{}, plant.Load{}, -1
	}
	in, out := rails.solve(inner, source, load)
	volts := inner + (in-out)*rails.Ohmic
	for k, c := range b.Cells {
		if c.Battery.Open {
			continue
		}
		c.State.amps, c.State.volts = (volts-c.Battery.inner(&c.State))/c.Battery.Ohmic, volts
		o.Further[k] = plant.Seen{Volts: sign * volts, Amps: c.State.amps}
		o.Heat += c.Battery.heat(c.State.amps)
	}
	o.Line.Volts, o.Output.Volts, o.Line.Amps, o.Output.Amps = sign*volts, sign*volts, in, out
	o.Line.Limited = source.On && in >= source.Amps*0.999
	return o
}

// StateOfCharge is that of all cells together, 0 … 1.
func (b *Bank) StateOfCharge() float64 {
	var charge, capacity float64
	for _, c := range b.Cells {
		charge += c.State.Charge
		capacity += c.Battery.Now(&c.State)
	}
	return charge / capacity
}

// Spread is how far apart the fullest and the emptiest of the connected cells are in their state of charge, 0 … 1.
func (b *Bank) Spread() float64 {
	low, high := math.Inf(1), math.Inf(-1)
	for _, c := range b.Cells {
		if !c.Battery.Open {
			low, high = min(low, c.StateOfCharge()), max(high, c.StateOfCharge())
		}
	}
	return max(high-low, 0)
}

// Remake gives the cells the properties of those of another bank; they keep their charge.
func (b *Bank) Remake(as plant.Storage) {
	if other, ok := as.(*Bank); ok {
		b.Reversed = other.Reversed
		for k, c := range b.Cells {
			c.Battery = other.Cells[k].Battery
		}
	}
}
