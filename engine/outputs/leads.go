package outputs

import (
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// Senses says where the seat reads its volts now: "remote" is at the unit, and anything else at its own terminals.
func (x *Seat) Senses(word string) { x.remote.Store(word == "remote") }

// Leads are those for which volts and watts of the seat are corrected: none where it senses remotely.
func (x *Seat) Leads() uncertainty.Leads {
	if x.Config.Leads == nil || x.remote.Load() {
		return uncertainty.Leads{}
	}
	return uncertainty.Leads{Of: x.Name, Ohms: x.Config.Leads.Ohms, Within: x.Config.Leads.Within}
}

// atUnit is what a reading at the terminals of a seat is at the unit, SI: amps that flow into the unit lose volts and
// watts on the way there, amps that flow out of it on the way here.
func (x *Seat) atUnit(q string, reading float64, amps func() float64) float64 {
	ohms := x.Leads().Ohms
	if ohms == 0 || q != "volts" && q != "watts" {
		return reading
	}
	if !x.Kind.Is(seats.Feeds) {
		ohms = -ohms
	}
	flow := amps()
	if q == "watts" {
		return reading - ohms*flow*flow
	}
	return reading - ohms*flow
}
