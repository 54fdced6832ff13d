package kinds

import (
	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// ChargeKind charges a battery.
var ChargeKind = procedure.Kind{
	Word: "charge", About: "constant current, then constant voltage", Keys: procedure.Waits,
	Read: func(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
		return readDrive(r, c, n, false)
	},
}

// Times and shares of the terminations are those of the figures: see docs/figures.md, termination.
const (
	confirmed = 10.0  // s for which a slow rule must hold
	watchFrom = 5.0   // min before which −ΔV and dT/dt are not watched
	slopeOver = 120.0 // s, window of dT/dt
	beginOver = 30.0  // s over which the temperature is averaged from which ΔT counts
	nearLimit = 0.998 // share of the charge voltage from which taper counts
	nearAmps  = 0.95  // share of the charge current above which −ΔV counts
)

// tapered ends a charge at constant voltage when its current, A, is small.
func (d *Drive) tapered(volts, taper float64) {
	d.end("taper", condition.Holds(d.volts(), condition.AtLeast, nearLimit*volts, "V").
		And(d.amps(), condition.AtMost, taper, "A").Lasting(confirmed))
}

// voltsDrop ends a charge at constant current when the voltage has fallen from its top by so much, V.
func (d *Drive) voltsDrop(amps, drop float64) {
	d.end("volts drop", condition.Holds(elapsed, condition.AtLeast, watchFrom, "min").
		And(d.amps(), condition.AtLeast, nearAmps*amps, "A").
		And(condition.Drop(condition.Mean(d.volts(), confirmed), watchFrom*60), condition.AtLeast, drop,
			"V").Lasting(confirmed))
}

// celsiusRate ends a charge when the battery warms as fast as one that is full, K/s.
func (d *Drive) celsiusRate(column string, rate float64) {
	d.end("celsius rate", condition.Holds(elapsed, condition.AtLeast, watchFrom, "min").
		And(condition.Rate(condition.Column(column), slopeOver), condition.AtLeast, rate, "K/s"))
}

func chargeSettings(r *procedure.Reader, d *Drive, seat procedure.Seat, n document.Node, f map[string]document.Node) {
	amps := r.Required(n, f["amps"], "amps", quantity.Current, "charge_current")
	volts := r.Required(n, f["volts"], "volts", quantity.Voltage, "charge_volts")
	r.Bounded(n, seat, "amps", amps)
	r.Bounded(n, seat, "volts", volts)
	d.Settings = []procedure.Setting{{Seat: seat.Name, Quantity: "volts", Value: volts},
		{Seat: seat.Name, Quantity: "amps",
			Value: amps}, {Seat: seat.Name, Quantity: seats.Output, Word: seats.On}}
	if f["precharge"].Present() {
		d.Before = readPrecharge(r, f["precharge"], amps)
	}
	if f["taper"].Present() {
		taper := r.Value(f["taper"], quantity.Current)
		if taper <= 0 || taper >= amps {
			f["taper"].Fail("the taper current lies between 0 A and the charge current")
		}
		d.Taper = taper
		d.tapered(volts, taper)
	}
	if f["voltage"].Present() {
		d.end("voltage", condition.Holds(d.volts(), condition.AtLeast, r.Value(f["voltage"], quantity.Voltage), "V").
			Lasting(2))
	}
	if f["volts drop"].Present() {
		d.voltsDrop(amps, r.Value(f["volts drop"], quantity.Voltage))
	}
	for _, word := range []string{"celsius rise", "celsius rate"} {
		if !f[word].Present() {
			continue
		}
		column, ok := r.Temperature()
		if !ok {
			f[word].Fail("%s needs a temperature: a thermo seat, or a cycler", word)
			continue
		}
		if word == "celsius rise" {
			d.end(word, condition.Holds(condition.Gain(condition.Column(column), beginOver), condition.AtLeast,
				r.Value(f[word], quantity.Temperature), "K").Lasting(confirmed))
		} else {
			d.celsiusRate(column, r.Value(f[word], quantity.Temperature.Per(quantity.Time)))
		}
	}
}

// readPrecharge reads {below: 21 V, amps: 0.1 C, time: 1 h}; the nameplate gives what is left out.
func readPrecharge(r *procedure.Reader, n document.Node, amps float64) *Precharge {
	b := &Precharge{Most: 3600}
	var below, current document.Node
	n.Fields(map[string]func(document.Node){
		"below": func(n document.Node) { below = n },
		"amps":  func(n document.Node) { current = n },
		"time":  func(n document.Node) { b.Most = r.Value(n, quantity.Time) },
	})
	b.Below = r.Required(n, below, "below", quantity.Voltage, "cutoff")
	b.Amps = r.Required(n, current, "amps", quantity.Current, "precharge_current")
	switch {
	case b.Amps <= 0 || b.Amps > amps:
		n.Fail("the current before the charge lies between 0 A and the charge current")
	case b.Most <= 0:
		n.Fail("a battery that does not come up must be given up after some time")
	}
	return b
}

// chemistryEnds takes the terminations of a charge that states none from the nameplate: −ΔV and dT/dt where
// they say something for the chemistry, else the taper current; and as many hours as the capacity needs at the
// charge current, and half as many again.
func chemistryEnds(r *procedure.Reader, d *Drive) {
	amps, volts := procedure.ValueOf(d.Settings, "amps"), procedure.ValueOf(d.Settings, "volts")
	if r.Plate().Chemistry.Drop > 0 {
		d.voltsDrop(amps, r.RatingIn("volts_drop", "V"))
		if column, ok := r.Temperature(); ok && r.Plate().Chemistry.Warming > 0 {
			d.celsiusRate(column, r.RatingIn("celsius_rate", "K/s"))
		}
	} else if taper := r.Plate().Ratings["taper_current"].Value; taper < amps {
		d.Taper = taper
		d.tapered(volts, taper)
	}
	if q, err := r.Plate().Rating("rated_capacity", quantity.Charge); err == nil && amps > 0 {
		d.end("time", condition.Holds(elapsed, condition.AtLeast, 1.5*q/amps+7200, "s"))
	}
}
