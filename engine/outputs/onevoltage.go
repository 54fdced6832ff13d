package outputs

import (
	"math"

	"usherbench/core/procedure"
)

// A cycler bounds the battery's voltage from above while it charges and from below while it discharges: by its volts,
// the ceiling, and its floor. Some models have one voltage for both. Left at the end of a charge it would keep a
// discharge from drawing any current, so it is moved to the floor before the current is turned to a discharge, and back
// after it is turned to a charge. A model without a floor has nothing to be set to one.

// oneVoltage is what is to be in force on a seat whose instrument has one voltage for both; NaN: not set.
type oneVoltage struct{ ceiling, floor, amps float64 }

// levels lists what is sent to an instrument for one setting, in order.
func (x *Seat) levels(s procedure.Setting) []procedure.Setting {
	d := x.First().Dialect
	_, apart := d.Set["floor"]
	switch {
	case !x.Kind.Signed("amps") || s.Word != "" || apart:
		return []procedure.Setting{s}
	case !d.OneVoltage && s.Quantity == "floor":
		return nil
	case !d.OneVoltage:
		return []procedure.Setting{s}
	}
	return x.one.levels(s)
}

func (o *oneVoltage) levels(s procedure.Setting) []procedure.Setting {
	volts := procedure.Setting{Seat: s.Seat, Quantity: "volts"}
	switch s.Quantity {
	case "volts": // whoever sets it means what is in force from now on
		o.ceiling, o.floor = s.Value, math.NaN()
		return []procedure.Setting{s}
	case "floor":
		o.floor = s.Value
		if !(o.amps < 0) {
			return nil
		}
		volts.Value = o.floor
		return []procedure.Setting{volts}
	case "amps":
		o.amps = s.Value
		volts.Value = o.ceiling
		switch {
		case math.IsNaN(o.floor): // the voltage is where somebody has set it
		case o.amps < 0:
			volts.Value = o.floor
			return []procedure.Setting{volts, s}
		case !math.IsNaN(o.ceiling):
			return []procedure.Setting{s, volts}
		}
	}
	return []procedure.Setting{s}
}
