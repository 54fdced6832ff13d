// Package trace holds what a run has measured: frames as they come in, and series cut from them, with the
// arithmetic that figures are built on: windows, means, integrals, crossings, slopes and decimation.
package trace

import (
	"math"
	"slices"

	"usherbench/core/quantity"
)

// Frame is all quantities of a bay at one instant. Values are in SI units, one per column of the run's
// [Columns]; a missing reading is NaN. T is bench time in seconds since the start of the run.
type Frame struct {
	T      float64
	Values []float64
}

// Columns names the values of a frame in order: "source.volts", "load.amps" …
type Columns []string

// Index is the position of a column, or −1.
func (c Columns) Index(name string) int { return slices.Index(c, name) }

// Missing is the value of a reading that did not come.
var Missing = math.NaN()

// Counters computes the columns that are derived from readings (watts, charge, energy of each seat) at the full
// rate of the frames, so that thinning the record afterwards harms no figure. The zero value is not useful; see
// [NewCounters].
type Counters struct {
	columns Columns
	seats   []seatCounter
	split   float64 // when something was last set; −1: not since the last frame
}

type seatCounter struct {
	volts, amps, watts, charge, energy int
	lastT, lastAmps, lastWatts         float64
	q, e                               float64
	measured                           bool   // watts are read, not computed
	chargeTotal, energyTotal           *total // what its instrument counts by itself; nil: nothing
}

// Derived lists the columns that [Counters] computes for a seat that reads volts and amps.
func Derived(seat string) []string {
	return []string{seat + ".watts", seat + ".charge", seat + ".energy"}
}

// NewCounters prepares counters for the seats whose volts and amps are among the columns.
func NewCounters(columns Columns, seats []string) *Counters {
	c := &Counters{columns: columns, split: -1}
	for _, seat := range seats {
		s := seatCounter{
			volts: columns.Index(seat + ".volts"), amps: columns.Index(seat + ".amps"), watts: columns.Index(seat + ".watts"),
			charge: columns.Index(seat + ".charge"), energy: columns.Index(seat + ".energy"), lastAmps: Missing,
			lastWatts: Missing,
		}
		if s.volts >= 0 && s.amps >= 0 && s.watts >= 0 && s.charge >= 0 && s.energy >= 0 {
			c.seats = append(c.seats, s)
		}
	}
	return c
}

// Measured says that the watts of a seat are readings of its instrument, as of alternating current, and not
// volts times amps.
func (c *Counters) Measured(seat string) {
	column := c.columns.Index(seat + ".watts")
	for i := range c.seats {
		c.seats[i].measured = c.seats[i].measured || c.seats[i].watts == column
	}
}

// Totalled says that an instrument counts a column of charge or energy by itself: its total stands there, and what that
// grows by is what is counted. Where it is missing, or began anew, the readings bridge it.
func (c *Counters) Totalled(column string) {
	at := c.columns.Index(column)
	for i := range c.seats {
		switch s := &c.seats[i]; at {
		case s.charge:
			s.chargeTotal = &total{}
		case s.energy:
			s.energyTotal = &total{}
		}
	}
}

// ByReadings says that the totals of a seat are not to be used.
func (c *Counters) ByReadings(seat string) {
	for i := range c.seats {
		if c.columns[c.seats[i].charge] == seat+".charge" {
			c.seats[i].chargeTotal, c.seats[i].energyTotal = nil, nil
		}
	}
}

// Split says that something was set at time t: readings are no straight line across it, each side keeps its
// nearest value up to it.
func (c *Counters) Split(t float64) { c.split = t }

// Counted is what a seat has counted by its last reading: charge in A·s, energy in W·s, and that reading.
type Counted struct {
	Charge float64 `json:"charge"`
	Energy float64 `json:"energy"`
	Amps   float64 `json:"amps"`
	Watts  float64 `json:"watts"`
}

// Counted gives the counters of every seat, by its column of charge; a seat that was not read yet is left out.
func (c *Counters) Counted() map[string]Counted {
	all := map[string]Counted{}
	for _, s := range c.seats {
		if !math.IsNaN(s.lastWatts) {
			all[c.columns[s.charge]] = Counted{s.q, s.e, s.lastAmps, s.lastWatts}
		}
	}
	return all
}

// Continue goes on counting from what was counted before a time in which nobody did, by column of charge.
func (c *Counters) Continue(all map[string]Counted) {
	for i := range c.seats {
		if x, ok := all[c.columns[c.seats[i].charge]]; ok {
			c.seats[i].q, c.seats[i].e, c.seats[i].lastAmps, c.seats[i].lastWatts = x.Charge, x.Energy, Missing, Missing
			c.seats[i].chargeTotal.forget()
			c.seats[i].energyTotal.forget()
		}
	}
}

// counterScale gives the recorded steps of the counters, 1 µA·s and 1 µJ: far below any instrument's
// resolution over an interval, and exact as decimals. What has counted less than smallCount keeps every digit.
const (
	counterScale = 1e6
	smallCount   = 1e-2
)

// counted is a counter as it is recorded.
func counted(x float64) float64 {
	if math.Abs(x) < smallCount {
		return x
	}
	return math.Round(x*counterScale) / counterScale
}

// Fill computes the derived values of the frame in place. Between frames volts and amps are straight lines, but
// not across a [Counters.Split]; a frame whose readings are missing is bridged by the straight line between its
// neighbours.
func (c *Counters) Fill(f Frame) {
	whole := true
	for i := range c.seats {
		s := &c.seats[i]
		amps := f.Values[s.amps]
		watts := f.Values[s.volts] * amps
		if s.measured {
			watts = f.Values[s.watts]
		}
		f.Values[s.watts] = watts
		if math.IsNaN(watts) || math.IsNaN(amps) {
			// What the counters did meanwhile is not known before the next reading bridges the gap.
			f.Values[s.charge], f.Values[s.energy] = Missing, Missing
			whole = false
			continue
		}
		if !math.IsNaN(s.lastWatts) {
			before, after := 0.5*(f.T-s.lastT), 0.5*(f.T-s.lastT)
			if c.split > s.lastT && c.split < f.T {
				before, after = c.split-s.lastT, f.T-c.split
			}
			dq, de := s.lastAmps*before+amps*after, s.lastWatts*before+watts*after
			s.q += s.chargeTotal.grown(f.Values[s.charge], dq)
			s.e += s.energyTotal.grown(f.Values[s.energy], de)
		} else {
			s.chargeTotal.begin(f.Values[s.charge])
			s.energyTotal.begin(f.Values[s.energy])
		}
		s.lastT, s.lastAmps, s.lastWatts = f.T, amps, watts
		f.Values[s.charge] = counted(s.q)
		f.Values[s.energy] = counted(s.e)
	}
	if whole {
		c.split = -1
	}
}

// UnitOf is the unit in which a column is shown and exported.
func UnitOf(column string) quantity.Unit {
	if kind, ok := quantity.KindOfColumn(column); ok {
		return kind.Unit
	}
	return quantity.Unit{Factor: 1}
}

// InUnit is a value, in SI, in a column's unit; nil if it is missing.
func InUnit(unit quantity.Unit, x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	x /= unit.Factor
	return &x
}
