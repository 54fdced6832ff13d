package procedure

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"usherbench/core/document"
	"usherbench/core/quantity"
)

// The terminations of a charge, as texts of conditions. Percentages, times of confirmation and watching delays
// are those of the figures: see docs/figures.md, termination.
const (
	confirmed = "10 s"  // a slow rule must hold for so long
	watchFrom = "5 min" // −ΔV and dT/dt are not watched before
	slopeOver = "120 s" // window of dT/dt
	stepBlank = 2.0     // s after a step-down in which the cutoff is not watched
	nearLimit = 0.998   // share of the charge voltage from which taper counts
	nearAmps  = 0.95    // share of the charge current above which −ΔV counts

	tapered     = "(%s >= %s and %s <= %s) for %s"
	voltsDrop   = "(stage.elapsed >= %s and %s >= %s and drop(mean(%s, %s)) >= %s) for %s"
	celsiusRate = "stage.elapsed >= %s and rate(%s, %s) >= %s"
)

func (r *reader) readCharge(c *common, n document.Node) Action    { return r.readDrive(c, n, false) }
func (r *reader) readDischarge(c *common, n document.Node) Action { return r.readDrive(c, n, true) }

// readDrive reads a charge or discharge: what is set, and what ends it.
func (r *reader) readDrive(c *common, n document.Node, discharge bool) Action {
	d := &Drive{Discharge: discharge}
	fields := map[string]document.Node{}
	words := []string{"on", "amps", "time", "charge", "energy"}
	if discharge {
		words = append(words, "watts", "ohms", "cutoff", "step down")
	} else {
		words = append(words, "volts", "taper", "voltage", "volts drop", "celsius rise", "celsius rate", "precharge")
	}
	readers := map[string]func(document.Node){}
	for _, w := range words {
		readers[w] = func(n document.Node) { fields[w] = n }
	}
	n.Fields(readers)
	seat, ok := r.driveSeat(n, fields["on"], discharge)
	if !ok {
		return d
	}
	d.Seat = seat.Name
	if discharge {
		r.dischargeSettings(d, seat, n, fields)
	} else {
		r.chargeSettings(d, seat, n, fields)
	}
	r.bounds(d, fields)
	if len(d.Ends) == 0 && c.Until == "" && !discharge && r.plate.Battery() {
		r.chemistryEnds(d, seat)
	}
	if len(d.Ends) == 0 && c.Until == "" {
		n.Fail("the %s never ends: give it a termination, such as time", d.Kind())
	}
	if q, err := r.plate.Rating("rated_capacity", quantity.Charge); err == nil {
		for _, s := range d.Settings {
			if s.Quantity == "amps" && s.Value != 0 {
				d.Expect = q / math.Abs(s.Value)
			}
		}
	}
	return d
}

func (r *reader) driveSeat(n, on document.Node, discharge bool) (Seat, bool) {
	kinds := []string{"cycler", "source"}
	if discharge {
		kinds = []string{"cycler", "load"}
	}
	if on.Present() {
		seat, ok := r.seat(on.Text())
		if !ok || seat.Kind.Name != kinds[0] && seat.Kind.Name != kinds[1] {
			on.Fail("%q is no seat for this; it needs a %s or a %s of needs", on.Text(), kinds[0], kinds[1])
			return seat, false
		}
		return seat, true
	}
	for _, kind := range kinds {
		for _, s := range r.p.Seats {
			if s.Kind.Name == kind {
				return s, true
			}
		}
	}
	n.Fail("there is no seat for this; needs must have a %s or a %s", kinds[0], kinds[1])
	return Seat{}, false
}

func (r *reader) chargeSettings(d *Drive, seat Seat, n document.Node, f map[string]document.Node) {
	amps := r.required(n, f["amps"], "amps", quantity.Current, "charge_current")
	volts := r.required(n, f["volts"], "volts", quantity.Voltage, "charge_volts")
	r.bounded(n, seat, "amps", amps)
	r.bounded(n, seat, "volts", volts)
	d.Settings = []Setting{{Seat: seat.Name, Quantity: "volts", Value: volts}, {Seat: seat.Name, Quantity: "amps",
		Value: amps}, {Seat: seat.Name, Quantity: "output", Word: "on"}}
	if f["precharge"].Present() {
		d.Before = r.readPrecharge(f["precharge"], amps)
	}
	v, i := seat.Name+".volts", seat.Name+".amps"
	if f["taper"].Present() {
		taper := r.value(f["taper"], quantity.Current)
		if taper <= 0 || taper >= amps {
			f["taper"].Fail("the taper current lies between 0 A and the charge current")
		}
		d.Taper = taper
		d.end("taper", tapered, v, unit(nearLimit*volts, "V"), i, unit(taper, "A"), confirmed)
	}
	if f["voltage"].Present() {
		d.end("voltage", "%s >= %s for 2 s", v, unit(r.value(f["voltage"], quantity.Voltage), "V"))
	}
	if f["volts drop"].Present() {
		d.end("volts drop", voltsDrop, watchFrom, i, unit(nearAmps*amps, "A"), v, confirmed,
			unit(r.value(f["volts drop"], quantity.Voltage), "V"), confirmed)
	}
	for _, word := range []string{"celsius rise", "celsius rate"} {
		if !f[word].Present() {
			continue
		}
		column, ok := r.temperature()
		if !ok {
			f[word].Fail("%s needs a temperature: a thermo seat, or a cycler", word)
			continue
		}
		if word == "celsius rise" {
			d.end(word, "rise(%s) >= %s for %s", column, unit(r.value(f[word], quantity.Temperature), "K"), confirmed)
		} else {
			rate := r.value(f[word], quantity.Temperature.Per(quantity.Time))
			d.end(word, celsiusRate, watchFrom, column, slopeOver, unit(rate, "K/s"))
		}
	}
}

// readPrecharge reads {below: 21 V, amps: 0.1 C, time: 1 h}; the nameplate gives what is left out.
func (r *reader) readPrecharge(n document.Node, amps float64) *Precharge {
	b := &Precharge{Most: 3600}
	var below, current document.Node
	n.Fields(map[string]func(document.Node){
		"below": func(n document.Node) { below = n },
		"amps":  func(n document.Node) { current = n },
		"time":  func(n document.Node) { b.Most = r.value(n, quantity.Time) },
	})
	b.Below = r.required(n, below, "below", quantity.Voltage, "cutoff")
	b.Amps = r.required(n, current, "amps", quantity.Current, "precharge_current")
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
func (r *reader) chemistryEnds(d *Drive, seat Seat) {
	v, i := seat.Name+".volts", seat.Name+".amps"
	amps, volts := setValue(d.Settings, "amps"), setValue(d.Settings, "volts")
	if r.plate.Chemistry.Drop > 0 {
		d.end("volts drop", voltsDrop, watchFrom, i, unit(nearAmps*amps, "A"), v, confirmed, r.rating("volts_drop", "V"),
			confirmed)
		if column, ok := r.temperature(); ok && r.plate.Chemistry.Warming > 0 {
			d.end("celsius rate", celsiusRate, watchFrom, column, slopeOver, r.rating("celsius_rate", "K/s"))
		}
	} else if taper := r.plate.Ratings["taper_current"].Value; taper < amps {
		d.Taper = taper
		d.end("taper", tapered, v, unit(nearLimit*volts, "V"), i, unit(taper, "A"), confirmed)
	}
	if q, err := r.plate.Rating("rated_capacity", quantity.Charge); err == nil && amps > 0 {
		d.end("time", "stage.elapsed >= %s", unit(1.5*q/amps+7200, "s"))
	}
}

// safeLeast is the volts below which the guards of a battery's nameplate end a run.
func (r *reader) safeLeast() (float64, bool) {
	if !r.plate.Battery() {
		return 0, false
	}
	least, err := r.plate.Rating("safe_least_volts", quantity.Voltage)
	return least, err == nil
}

func setValue(settings []Setting, q string) float64 {
	for _, s := range settings {
		if s.Quantity == q {
			return s.Value
		}
	}
	return 0
}

// temperature is the column of the unit's temperature: that of the thermometer, else of the cycler's sensor.
func (r *reader) temperature() (string, bool) {
	for _, kind := range []string{"thermo", "cycler"} {
		for _, s := range r.p.Seats {
			if s.Kind.Name == kind && r.p.Columns.Index(s.Name+".celsius") >= 0 {
				return s.Name + ".celsius", true
			}
		}
	}
	return "", false
}

func (r *reader) dischargeSettings(d *Drive, seat Seat, n document.Node, f map[string]document.Node) {
	var level string
	for _, q := range []string{"amps", "watts", "ohms"} {
		if !f[q].Present() {
			continue
		}
		if level != "" {
			f[q].Fail("the discharge has %s and %s; give one of amps, watts, ohms", level, q)
		}
		level = q
	}
	mode := map[string]string{"amps": "current", "watts": "power", "ohms": "resistance"}[level]
	switch {
	case level == "" && r.plate.Battery():
		level, mode = "amps", "current"
	case level == "":
		n.Fail("the discharge does not say how much: give amps, watts or ohms")
		return
	case seat.Kind.Name == "cycler" && level != "amps":
		f[level].Fail("%s discharges with amps only; use a load for %s", seat.Name, level)
		return
	}
	kind, _ := quantity.KindOf(level)
	x := r.required(n, f[level], level, kind.Unit.Dim, "discharge_current")
	if x <= 0 {
		n.Fail("the discharge takes something: more than 0")
	}
	if seat.Kind.Name == "cycler" {
		r.bounded(n, seat, "amps", -x)
		d.Settings = []Setting{{Seat: seat.Name, Quantity: "amps", Value: -x}}
	} else {
		r.bounded(n, seat, level, x)
		d.Settings = []Setting{{Seat: seat.Name, Quantity: "mode", Word: mode}, {Seat: seat.Name, Quantity: level, Value: x}}
	}
	d.Settings = append(d.Settings, Setting{Seat: seat.Name, Quantity: "output", Word: "on"})
	if cutoff := r.required(n, f["cutoff"], "cutoff", quantity.Voltage, "cutoff"); cutoff > 0 {
		d.Cutoff = cutoff
		if least, ok := r.safeLeast(); ok && cutoff < least {
			at := f["cutoff"]
			if !at.Present() {
				at = n
			}
			at.Fail("a cutoff of %s lies below the %s under which the guards of nameplate %s end a run; it is never reached",
				unit(cutoff, "V"), unit(least, "V"), r.plate.Name)
		}
		d.end("cutoff", "%s <= %s", seat.Name+".volts", unit(cutoff, "V"))
	}
	if !f["step down"].Present() {
		return
	}
	d.Down = &StepDown{Factor: 2, Least: x / 8, Blank: stepBlank}
	f["step down"].Fields(map[string]func(document.Node){
		"factor": func(n document.Node) {
			if d.Down.Factor = r.value(n, quantity.Number); d.Down.Factor <= 1 {
				n.Fail("the current is divided by the factor, so it is more than 1")
				d.Down.Factor = 2
			}
		},
		"least": func(n document.Node) {
			if d.Down.Least = r.value(n, quantity.Current); d.Down.Least <= 0 || d.Down.Least > x {
				n.Fail("the least current lies between 0 A and the discharge current")
				d.Down.Least = x
			}
		},
		"blank": func(n document.Node) { d.Down.Blank = r.value(n, quantity.Time) },
	})
	if level != "amps" {
		f["step down"].Fail("only a discharge at constant current steps down")
		d.Down = nil
	}
}

// bounds are the terminations that charge and discharge share.
func (r *reader) bounds(d *Drive, f map[string]document.Node) {
	sign, compare := "", ">="
	if d.Discharge {
		sign = "-"
	}
	if f["time"].Present() {
		if t := r.value(f["time"], quantity.Time); t > 0 { // no limit if zero
			d.end("time", "stage.elapsed >= %s", unit(t, "s"))
		}
	}
	if f["charge"].Present() {
		d.end("charge", "%sstage.charge %s %s", sign, compare, unit(r.value(f["charge"], quantity.Charge)/3600, "Ah"))
	}
	if f["energy"].Present() {
		d.end("energy", "%sstage.energy %s %s", sign, compare, unit(r.value(f["energy"], quantity.Energy)/3600, "Wh"))
	}
}

func (d *Drive) end(word, format string, args ...any) {
	d.Ends = append(d.Ends, Termination{word, fmt.Sprintf(format, args...)})
}

// unit writes a value for a condition; digits beyond what an instrument resolves are left out.
func unit(x float64, symbol string) string {
	text := strings.TrimRight(strings.TrimRight(strconv.FormatFloat(x, 'f', 9, 64), "0"), ".")
	return text + " " + symbol
}

// required reads a value that must be there, or be a rating of the nameplate.
func (r *reader) required(parent, n document.Node, key string, dim quantity.Dimension, rating string) float64 {
	if n.Present() {
		return r.value(n, dim)
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
