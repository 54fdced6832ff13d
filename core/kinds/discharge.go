package kinds

import (
	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// DischargeKind discharges a battery.
var DischargeKind = procedure.Kind{
	Word: "discharge", About: "to the cutoff", Keys: procedure.Waits,
	Read: func(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
		return readDrive(r, c, n, true)
	},
}

// stepBlank is the time after a step-down in which the cutoff is not watched, s.
const stepBlank = 2.0

// floorShare is the floor of a discharge in cutoffs, where the least volts of the battery are not known.
const floorShare = 0.95

func dischargeSettings(r *procedure.Reader, d *Drive, seat procedure.Seat, n document.Node,
	f map[string]document.Node) {
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
	case level == "" && r.Plate().Battery():
		level, mode = "amps", "current"
	case level == "":
		n.Fail("the discharge does not say how much: give amps, watts or ohms")
		return
	case seat.Kind.Signed("amps") && level != "amps":
		f[level].Fail("%s discharges with amps only; use a load for %s", seat.Name, level)
		return
	}
	kind, _ := quantity.KindOf(level)
	x := r.Required(n, f[level], level, kind.Unit.Dim, "discharge_current")
	if x <= 0 {
		n.Fail("the discharge takes something: more than 0")
	}
	if seat.Kind.Signed("amps") {
		r.Bounded(n, seat, "amps", -x)
		d.Settings = []procedure.Setting{{Seat: seat.Name, Quantity: "amps", Value: -x}}
	} else {
		r.Bounded(n, seat, level, x)
		d.Settings = []procedure.Setting{{Seat: seat.Name, Quantity: seats.Mode, Word: mode},
			{Seat: seat.Name, Quantity: level,
				Value: x}}
	}
	on := procedure.Setting{Seat: seat.Name, Quantity: seats.Output, Word: seats.On}
	if cutoff := r.Required(n, f["cutoff"], "cutoff", quantity.Voltage, "cutoff"); cutoff > 0 {
		d.Cutoff = cutoff
		if least, ok := r.SafeLeast(); ok && cutoff < least {
			at := f["cutoff"]
			if !at.Present() {
				at = n
			}
			at.Fail("a cutoff of %s lies below the %s under which the guards of nameplate %s end a run; it is never reached",
				procedure.Literal(cutoff, "V"), procedure.Literal(least, "V"), r.Plate().Name)
		}
		d.end("cutoff", condition.Holds(d.volts(), condition.AtMost, cutoff, "V"))
	}
	if seat.Kind.Signed("amps") {
		least, _ := r.SafeLeast()
		d.Settings = append(d.Settings, procedure.Setting{Seat: seat.Name, Quantity: "floor", Value: d.floor(least)})
	}
	d.Settings = append(d.Settings, on)
	if f["step down"].Present() {
		readStepDown(r, d, f["step down"], level, x)
	}
}

// floor is where the instrument itself would hold a discharge that nobody ends: halfway from the cutoff to the least
// volts that the battery bears, V.
func (d *Drive) floor(least float64) float64 {
	switch {
	case d.Cutoff > 0 && least > 0:
		return (d.Cutoff + least) / 2
	case d.Cutoff > 0:
		return floorShare * d.Cutoff
	}
	return least
}

// readStepDown reads {factor: 2, least: 0.1 C, blank: 2 s} of a discharge that begins at x.
func readStepDown(r *procedure.Reader, d *Drive, n document.Node, level string, x float64) {
	d.Down = &StepDown{Factor: 2, Least: x / 8, Blank: stepBlank}
	n.Fields(map[string]func(document.Node){
		"factor": func(n document.Node) {
			if d.Down.Factor = r.Value(n, quantity.Number); d.Down.Factor <= 1 {
				n.Fail("the current is divided by the factor, so it is more than 1")
				d.Down.Factor = 2
			}
		},
		"least": func(n document.Node) {
			if d.Down.Least = r.Value(n, quantity.Current); d.Down.Least <= 0 || d.Down.Least > x {
				n.Fail("the least current lies between 0 A and the discharge current")
				d.Down.Least = x
			}
		},
		"blank": func(n document.Node) { d.Down.Blank = r.Value(n, quantity.Time) },
	})
	if level != "amps" {
		n.Fail("only a discharge at constant current steps down")
		d.Down = nil
	}
}
