// Package burden knows what a meter takes itself: in its voltage input, across the line, or in its current input, in
// series with the unit. Which of the two it reads as if it was the unit's depends on how it is wired.
package burden

import (
	"math"

	"usherbench/core/uncertainty"
)

// Wiring says where the voltage input of a meter is.
type Wiring string

// The wirings. At the supply the meter reads what its own current input takes as well, at the unit what its own voltage
// input takes.
const (
	AtSupply Wiring = "voltmeter-at-supply"
	AtUnit   Wiring = "voltmeter-at-unit"
)

// Other is the other wiring.
func (w Wiring) Other() Wiring {
	if w == AtUnit {
		return AtSupply
	}
	return AtUnit
}

// Burden is what a meter has in the way at some volts and amps: the resistance of its voltage input and of its current
// input in the range that holds the amps, Ω; 0: it is not stated.
type Burden struct {
	Volts, Amps     float64
	Across, Through float64
	// Range is the smallest range of the amps that holds them, A; 0: none does.
	Range float64
}

// Of is the burden of a meter with the accuracies, and burdens, of its ranges. The range holds the effective value; a
// peak of so many times that must fit as well.
func Of(volts, amps, crest float64, ofVolts, ofAmps uncertainty.Spec) Burden {
	b := Burden{Volts: volts, Amps: amps}
	if r, ok := ofVolts.Find(volts); ok {
		b.Across = r.Burden
	}
	// A range bears peaks of three times its end: what has higher ones needs a larger range.
	if r, ok := ofAmps.Find(amps * math.Max(crest/bearsPeaks, 1)); ok {
		b.Through, b.Range = r.Burden, r.To
	}
	return b
}

// bearsPeaks is up to how many times the end of a range the peaks may be that it holds.
const bearsPeaks = 3

// Own is what the meter takes itself and reads as the unit's, W: R·I² of its current input at the supply, V²/R of
// its voltage input at the unit. x are the amps, or the volts. It is exact for any waveform, as only means of
// squares occur.
func (w Wiring) Own(x, ohms float64) float64 {
	if w == AtUnit {
		return x * x / ohms
	}
	return ohms * x * x
}

// Error is by how much too much the meter reads in a wiring, W. ok is false where the resistance is not stated.
func (b Burden) Error(w Wiring) (watts float64, ok bool) {
	switch {
	case w == AtSupply && b.Through > 0:
		return w.Own(b.Amps, b.Through), true
	case w == AtUnit && b.Across > 0:
		return w.Own(b.Volts, b.Across), true
	}
	return 0, false
}

// Best is the wiring in which the meter errs less; ok is false where that cannot be told.
func (b Burden) Best() (w Wiring, ok bool) {
	supply, known := b.Error(AtSupply)
	unit, also := b.Error(AtUnit)
	if supply <= unit {
		return AtSupply, known && also
	}
	return AtUnit, known && also
}

// Crossover is the current below which a voltmeter at the supply errs less, A: V/√(R_V·R_A).
func Crossover(volts, across, through float64) float64 { return volts / math.Sqrt(across*through) }
