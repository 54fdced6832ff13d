package engine

import (
	"slices"

	"usherbench/core/burden"
	"usherbench/core/figure/mains"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/engine/outputs"
)

// What a low power is expected to look like where nobody has measured it: short pulses, whose effective current is
// several times that of the same power at a power factor of 1, and whose peaks are higher still. Only the choice of
// range and wiring depends on it.
const (
	lowPowerFactor = 0.33
	lowPowerCrest  = 6
)

// burden advises range and wiring of a meter that takes something itself, where the procedure measures a low power, and
// refuses a wiring in which it would take more than may be left uncertain.
func (p *preflight) burden(x *outputs.Seat) {
	d := x.First().Dialect
	ofVolts, ofAmps := d.ReadRange("volts"), d.ReadRange("amps")
	if !x.Kind.Is(seats.Measures) || len(ofVolts) == 0 || ofVolts[0].Burden == 0 || !p.wants("standby-power",
		"accumulated-power", "burden-corrected-power") {
		return
	}
	p.method(x.Name, slices.Contains(d.Gives(), "energy"))
	volts, err := p.plate.Rating("nominal_line", quantity.Voltage)
	watts, errWatts := p.plate.Rating("standby_power", quantity.Power)
	if err != nil || errWatts != nil {
		p.warns("burden", "state nominal_line and standby_power in the nameplate",
			"%s takes something itself, and nobody knows how much that is beside what is expected of the unit", x.Name)
		return
	}
	b := burden.Of(volts, watts/volts/lowPowerFactor, lowPowerCrest, ofVolts, ofAmps)
	best, known := b.Best()
	if !known {
		return
	}
	power := func(w burden.Wiring) string {
		e, _ := b.Error(w)
		return show(e, quantity.Power)
	}
	wired := burden.Wiring(x.Config.Wiring)
	advice := "join its voltage input as " + string(best) + ", and say so in the bay (wiring: " + string(best) + ")"
	other, corrects := p.correctsFor(wired)
	tooMuch, _ := b.Error(wired)
	defer func() { p.findings[len(p.findings)-1].Connection = string(best) }()
	switch permitted := mains.Permitted(watts); {
	case wired == "":
		p.warns("burden", advice, "nobody says where the voltage input of %s is: at the supply it reads %s too much, at "+
			"the unit %s, of the %s that are expected", x.Name, power(burden.AtSupply), power(burden.AtUnit),
			show(watts, quantity.Power))
	case other != "":
		p.blocks("burden", "correct as it is wired (wiring: as-wired), or wire it so", "the procedure corrects for a %s, "+
			"but %s is wired as %s", other, x.Name, wired)
	case tooMuch > permitted && !corrects:
		p.blocks("burden", advice+"; or ask for burden-corrected-power", "%s is wired as %s, in which it reads %s too much "+
			"of the %s that are expected; %s may be uncertain, and as %s it were %s", x.Name, wired, power(wired),
			show(watts, quantity.Power), show(permitted, quantity.Power), best, power(best))
	case tooMuch > permitted:
		p.warns("burden", advice, "%s is wired as %s, in which it reads %s too much of the %s that are expected, which is "+
			"corrected; as %s it were %s", x.Name, wired, power(wired), show(watts, quantity.Power), best, power(best))
	default:
		p.fine("burden", "%s is wired as %s, in its range to %s: it reads %s too much of the %s that are expected", x.Name,
			wired, show(b.Range, quantity.Current), power(wired), show(watts, quantity.Power))
	}
}

// method advises how a low power is taken: between two readings only the meter itself sees, and only if it counts.
func (p *preflight) method(meter string, counts bool) {
	switch {
	case counts && p.wants("accumulated-power"):
		p.fine("method", "power is sampled, and %s counts energy beside it: bursts between two readings are seen", meter)
	case counts:
		p.fine("method", "power is sampled; %s counts energy too: ask for accumulated-power to see bursts between two "+
			"readings", meter)
	default:
		p.warns("method", "sample faster than the unit's bursts are long, or take a meter that counts energy",
			"power is only sampled, and %s counts no energy: bursts between two readings are not seen", meter)
	}
}

// wants tells whether the procedure asks for one of some figures.
func (p *preflight) wants(ids ...string) bool {
	return slices.ContainsFunc(p.program.Figures, func(f procedure.FigureRequest) bool {
		return slices.Contains(ids, f.ID)
	})
}

// correctsFor tells whether the procedure takes off what a meter takes itself, or for which other wiring it would.
func (p *preflight) correctsFor(wired burden.Wiring) (other string, corrects bool) {
	for _, f := range p.program.Figures {
		if f.ID != "burden-corrected-power" {
			continue
		}
		corrects = true
		if w := f.Choices["wiring"]; w == string(wired.Other()) {
			other = w
		}
	}
	return other, corrects
}
