package procedure

import (
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// watchBattery adds the guards that follow from what a battery bears: its safe volts, its temperature windows
// in charge and discharge, and a fall of the voltage that no whole cell shows. They stand beside those of the
// procedure and need not be written.
func (r *Reader) watchBattery() {
	if !r.plate.Battery() {
		return
	}
	least, most, collapse := r.Rating("safe_least_volts", "V"), r.Rating("safe_most_volts", "V"),
		r.Rating("collapse", "V/s")
	of := ", by nameplate " + r.plate.Name
	guard := func(note, when string, from, to int) {
		r.p.Guards = append(r.p.Guards, Guard{When: when, Note: note + of, From: from, To: to})
	}
	if column, ok := r.terminals(); ok {
		guard("above the safe volts", column+" > "+most+" for 500 ms", 0, math.MaxInt)
		guard("below the safe volts", column+" < "+least+" for 500 ms", 0, math.MaxInt)
	}
	celsius, warm := r.sensor()
	hottest := r.Rating("discharge_hottest", "°C")
	if warm {
		guard("too hot", celsius+" > "+hottest+" for 2 s", 0, math.MaxInt)
	}
	for i, s := range r.p.Stages {
		a, ok := s.Action.(Battered)
		if !ok {
			continue
		}
		use := a.OfBattery()
		if use.Cutoff != "" {
			volts := use.Seat + ".volts"
			guard("a cell collapses", "rate("+volts+", 5 s) < 0 V/s - "+collapse+" and stage.elapsed > 20 s and not "+
				use.Cutoff, i, i+1)
		}
		switch {
		case !warm:
		case use.Discharge:
			guard("too cold to discharge", celsius+" < "+r.Rating("discharge_coldest", "°C")+" for 2 s", i, i+1)
		default:
			guard("too hot to charge", celsius+" > "+r.Rating("charge_hottest", "°C")+" for 2 s", i, i+1)
			guard("too cold to charge", celsius+" < "+r.Rating("charge_coldest", "°C")+" for 2 s", i, i+1)
		}
	}
}

// sensor is the column of the battery's temperature, if the procedure asks for one: a thermo seat, or a cycler
// whose needs name celsius.
func (r *Reader) sensor() (string, bool) {
	for _, s := range r.p.Seats {
		_, named := s.Ratings["celsius"]
		if slices.Contains(s.Kind.Reads, "celsius") && (s.Kind.Is(seats.Measures) || named) {
			return s.Name + ".celsius", true
		}
	}
	return "", false
}

// terminals is the column of the battery's volts: the seat that charges or discharges it, best one that does both.
func (r *Reader) terminals() (string, bool) {
	for _, kind := range seats.All() {
		for _, s := range r.p.Seats {
			if s.Kind.Name == kind.Name && kind.Gives() != 0 {
				return s.Name + ".volts", true
			}
		}
	}
	return "", false
}

// Rating writes a rating of the nameplate for a condition.
func (r *Reader) Rating(name, symbol string) string { return Literal(r.RatingIn(name, symbol), symbol) }

// RatingIn is a rating of the nameplate in a unit.
func (r *Reader) RatingIn(name, symbol string) float64 {
	unitOf, _ := quantity.ParseUnit(symbol)
	return r.plate.Ratings[name].Value / unitOf.Factor
}

// SafeLeast is the volts below which the guards of a battery's nameplate end a run.
func (r *Reader) SafeLeast() (float64, bool) {
	if !r.plate.Battery() {
		return 0, false
	}
	least, err := r.plate.Rating("safe_least_volts", quantity.Voltage)
	return least, err == nil
}

// ValueOf finds what settings set a quantity to; 0: nothing.
func ValueOf(settings []Setting, q string) float64 {
	for _, s := range settings {
		if s.Quantity == q {
			return s.Value
		}
	}
	return 0
}

// Temperature is the column of the unit's temperature: that of the thermometer, else of the cycler's sensor.
func (r *Reader) Temperature() (string, bool) {
	sensors := slices.DeleteFunc(slices.Clone(r.p.Seats), func(s Seat) bool {
		return r.p.Columns.Index(s.Name+".celsius") < 0
	})
	own := slices.IndexFunc(sensors, func(s Seat) bool { return s.Kind.Is(seats.Measures) })
	if len(sensors) > 0 {
		return sensors[max(own, 0)].Name + ".celsius", true
	}
	return "", false
}

// Literal writes a value for a condition; digits beyond what an instrument resolves are left out.
func Literal(x float64, symbol string) string {
	return condition.Level{Value: x, Unit: symbol}.String()
}

// Required reads a value that must be there, or be a rating of the nameplate.
func (r *Reader) Required(parent, n document.Node, key string, dim quantity.Dimension, rating string) float64 {
	if n.Present() {
		return r.Value(n, dim)
	}
	if rating == "" {
		parent.Fail("the key %q is missing", key)
		return 0
	}
	x, err := r.plate.Rating(rating, dim)
	if err != nil {
		parent.Fail("the key %q is missing, and it cannot be taken from the nameplate: %s", key, err)
	}
	return x
}
