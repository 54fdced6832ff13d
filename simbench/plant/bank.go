package plant

import (
	"fmt"
	"math"
)

// Bank is single cells side by side on one pair of rails, each through a fuse and an ammeter of its own. Cells
// that are not equally full even out through the rails.
type Bank struct {
	Cells []*BatteryUnit
	// Reversed says that the leads to the rails are the wrong way round.
	Reversed bool
}

// BlownFuse is the fault of a bank of which one cell is not connected.
const BlownFuse Fault = "blown-fuse"

// bankCells are how many cells a bank of the demo scenario has.
const bankCells = 7

// GannetBank is a bank of gannet cells as they came from the shelf: state is the state of charge in the mean, 0
// … 1; each cell is up to a tenth away from it.
func GannetBank(serial string, fault Fault, state float64) (*Bank, error) {
	change, ok := bankFaults[fault]
	if !ok {
		return nil, fmt.Errorf("%q is not a fault of cells side by side; known: %v", fault, namesOf(bankFaults))
	}
	away := spreadOf(serial, 0xba2c)
	b := &Bank{}
	for k := range bankCells {
		name := ""
		if serial != "" {
			name = fmt.Sprintf("%s/%d", serial, k+1)
		}
		cell, err := GannetCell(name, Healthy)
		if err != nil {
			return nil, err
		}
		cell.Ohmic += 0.03 // fuse, shunt and leads
		change(b, &cell, k == bankCells-1)
		full := min(max(away(1, 0.05)-1, -0.1), 0.1)
		b.Cells = append(b.Cells, NewUnit(cell, min(max(state+full, 0.02), 0.98)))
	}
	return b, nil
}

// Faults of a bank, as they change each cell; the odd one is the last.
var bankFaults = map[Fault]func(b *Bank, cell *Battery, odd bool){
	Healthy: func(*Bank, *Battery, bool) {},
	WeakPack: func(_ *Bank, cell *Battery, odd bool) {
		if odd {
			cell.Capacity *= 0.7
			cell.Ohmic *= 1.8
		}
	},
	BlownFuse:     func(_ *Bank, cell *Battery, odd bool) { cell.Open = odd },
	ReversedLeads: func(b *Bank, _ *Battery, _ bool) { b.Reversed = true },
	DeadUnit:      func(_ *Bank, cell *Battery, _ bool) { cell.Open = true },
}

// At is the operating point at time t, with the amps into each cell. It must be called with increasing t.
func (b *Bank) At(t float64, source Source, load Load) Operating {
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
func (b *Bank) settle(source Source, load Load) Operating {
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
	o := Operating{Celsius: Ambient + warmest, Branches: make([]float64, len(b.Cells))}
	if siemens == 0 {
		o.LineVolts, o.OutputVolts = offVolts(source), offVolts(source)
		return o
	}
	rails := Battery{Ohmic: 1 / siemens}
	inner, sign := short/siemens, 1.0
	if b.Reversed { // the cells even out all the same; what a supply would do to them is left to the fuse
		source, load, sign = Source{}, Load{}, -1
	}
	in, out := rails.solve(inner, source, load)
	volts := inner + (in-out)*rails.Ohmic
	for k, c := range b.Cells {
		if c.Battery.Open {
			continue
		}
		c.State.amps, c.State.volts = (volts-c.Battery.inner(&c.State))/c.Battery.Ohmic, volts
		o.Branches[k] = c.State.amps
		o.Heat += c.Battery.heat(c.State.amps)
	}
	o.LineVolts, o.OutputVolts, o.LineAmps, o.LoadAmps = sign*volts, sign*volts, in, out
	o.SourceLimited = source.On && in >= source.Amps*0.999
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
func (b *Bank) Remake(as Storage) {
	if other, ok := as.(*Bank); ok {
		b.Reversed = other.Reversed
		for k, c := range b.Cells {
			c.Battery = other.Cells[k].Battery
		}
	}
}
