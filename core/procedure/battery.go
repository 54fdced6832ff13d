package procedure

import (
	"math"
	"slices"

	"usherbench/core/quantity"
)

// watchBattery adds the guards that follow from what a battery bears: its safe volts, its temperature windows
// in charge and discharge, and a fall of the voltage that no whole cell shows. They stand beside those of the
// procedure and need not be written.
func (r *reader) watchBattery() {
	if !r.plate.Battery() {
		return
	}
	least, most, collapse := r.rating("safe_least_volts", "V"), r.rating("safe_most_volts", "V"),
		r.rating("collapse", "V/s")
	of := ", by nameplate " + r.plate.Name
	guard := func(note, when string, from, to int) {
		r.p.Guards = append(r.p.Guards, Guard{When: when, Note: note + of, From: from, To: to})
	}
	if column, ok := r.terminals(); ok {
		guard("above the safe volts", column+" > "+most+" for 500 ms", 0, math.MaxInt)
		guard("below the safe volts", column+" < "+least+" for 500 ms", 0, math.MaxInt)
	}
	celsius, warm := r.sensor()
	hottest := r.rating("discharge_hottest", "°C")
	if warm {
		guard("too hot", celsius+" > "+hottest+" for 2 s", 0, math.MaxInt)
	}
	for i, s := range r.p.Stages {
		d, ok := s.Action.(*Drive)
		switch {
		case !ok:
		case d.Discharge:
			cutoff := slices.IndexFunc(d.Ends, func(e Termination) bool { return e.Word == "cutoff" })
			if cutoff >= 0 && d.Down == nil {
				volts := d.Seat + ".volts"
				guard("a cell collapses",
					"rate("+volts+", 5 s) < 0 V/s - "+collapse+" and stage.elapsed > 20 s and not "+d.Ends[cutoff].When, i, i+1)
			}
			if warm {
				guard("too cold to discharge", celsius+" < "+r.rating("discharge_coldest", "°C")+" for 2 s", i, i+1)
			}
		case warm:
			guard("too hot to charge", celsius+" > "+r.rating("charge_hottest", "°C")+" for 2 s", i, i+1)
			guard("too cold to charge", celsius+" < "+r.rating("charge_coldest", "°C")+" for 2 s", i, i+1)
		}
	}
}

// sensor is the column of the battery's temperature, if the procedure asks for one: a thermo seat, or a cycler
// whose needs name celsius.
func (r *reader) sensor() (string, bool) {
	for _, s := range r.p.Seats {
		if _, named := s.Ratings["celsius"]; s.Kind.Name == "thermo" || s.Kind.Name == "cycler" && named {
			return s.Name + ".celsius", true
		}
	}
	return "", false
}

// terminals is the column of the battery's volts: the seat that charges or discharges it, best one that does both.
func (r *reader) terminals() (string, bool) {
	for _, kind := range []string{"cycler", "load", "source"} {
		for _, s := range r.p.Seats {
			if s.Kind.Name == kind {
				return s.Name + ".volts", true
			}
		}
	}
	return "", false
}

// rating writes a rating of the nameplate for a condition.
func (r *reader) rating(name, symbol string) string {
	unitOf, _ := quantity.ParseUnit(symbol)
	return unit(r.plate.Ratings[name].Value/unitOf.Factor, symbol)
}
