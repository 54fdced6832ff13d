// Package port models a charger with a port at which a sink asks for contracts, as USB Power Delivery has them: what it
// offers, what it agrees to, how its volts droop, at which current it gives up, and how it comes back.
package port

import (
	"math"

	"usherbench/simbench/plant"
)

// Place is what a charger offers in one place.
type Place struct {
	Object          uint32 // as it is sent, IEC 62680-1-2
	Lowest, Highest float64
	Amps            float64 // that it advertises
	Trip            float64 // above which it gives up, A
}

// Recovery is how a charger comes back after it gave up.
type Recovery string

// The ways to come back: by itself once nobody takes anything, again and again while somebody does, or only after its
// input was off.
const (
	Itself  Recovery = "self"
	Again   Recovery = "hiccup"
	Latched Recovery = "input-cycle"
)

// Charger is a charger as it was made.
type Charger struct {
	Places     []Place
	Resistance float64 // of its output and its cable, Ω
	Recovery   Recovery
	Delay      float64 // s, until it comes back, or between two tries
	Starts     float64 // V of its mains
	// Idle is what it takes for nothing, W, Share what more it takes than it gives, Square that over A².
	Idle, Share, Square float64
	// Mute is true for one that never answers when it is asked for anything but its first place.
	Mute bool
}

// try is for how long a charger that tries again has its volts on, s.
const try = 0.4

// The faults of a charger with a port.
const (
	Latching plant.Fault = "latching"
	Late     plant.Fault = "late"
	Hiccup   plant.Fault = "hiccup"
	Drooping plant.Fault = "drooping"
	Mute     plant.Fault = "mute"
	Meagre   plant.Fault = "meagre"
)

var faults = plant.Faults[*Charger]{
	plant.Healthy: func(*Charger) {},
	Latching:      func(c *Charger) { c.Recovery = Latched },
	Late: func(c *Charger) {
		for i := range c.Places {
			c.Places[i].Trip *= 1.45
		}
	},
	Hiccup:         func(c *Charger) { c.Recovery, c.Delay = Again, 2 },
	Drooping:       func(c *Charger) { c.Resistance *= 3 },
	Mute:           func(c *Charger) { c.Mute = true },
	Meagre:         func(c *Charger) { c.Places = c.Places[:len(c.Places)-2] },
	plant.DeadUnit: func(c *Charger) { c.Starts = math.Inf(1) },
}

// Types are the units of this kind.
func Types() []plant.Type {
	return []plant.Type{{Name: "petrel", Kind: "contract charger", Faults: faults.Names(),
		New: func(asked plant.Asked) (plant.Unit, error) {
			c, err := Petrel(asked.Serial, asked.Fault)
			if err != nil {
				return nil, err
			}
			return &Unit{Charger: c}, nil
		}}}
}

// Petrel is the charger of the service tablet of the demo scenario, 65 W, as the unit with the given serial number was
// made.
func Petrel(serial string, fault plant.Fault) (Charger, error) {
	spread := plant.TolerancesOf(serial, 0x9e7)
	c := Charger{Resistance: spread(38e-3, 0.08), Recovery: Itself, Delay: spread(1.6, 0.05), Starts: 80, Idle: 0.07,
		Share: spread(0.08, 0.04), Square: spread(0.05, 0.04), Places: []Place{
			{Object: 0x0801912C, Lowest: 5, Highest: 5, Amps: 3},
			{Object: 0x0002D12C, Lowest: 9, Highest: 9, Amps: 3},
			{Object: 0x0004B12C, Lowest: 15, Highest: 15, Amps: 3},
			{Object: 0x00064145, Lowest: 20, Highest: 20, Amps: 3.25},
			{Object: 0xC0DC213C, Lowest: 3.3, Highest: 11, Amps: 3},
		}}
	for i := range c.Places {
		c.Places[i].Trip = spread(1.18*c.Places[i].Amps, 0.015)
	}
	return c, faults.Apply(fault, "a charger with a port", &c)
}

// grant is what it agrees to; ok is false where it refuses.
func (c Charger) grant(asked plant.Sink) (terms plant.Terms, ok bool) {
	if asked.Position < 1 || asked.Position > len(c.Places) {
		return terms, false
	}
	p := c.Places[asked.Position-1]
	terms = plant.Terms{Position: asked.Position, Volts: p.Highest, Amps: p.Amps}
	if p.Lowest < p.Highest {
		terms.Volts = asked.Volts
	}
	if asked.Amps > 0 {
		terms.Amps = asked.Amps
	}
	const tiny = 1e-9
	return terms, terms.Volts >= p.Lowest-tiny && terms.Volts <= p.Highest+tiny && terms.Amps <= p.Amps+tiny
}

// Unit is a charger with its state.
type Unit struct {
	Charger Charger
	on      bool // it has its mains, and a sink is at its port
	asked   plant.Sink
	terms   plant.Terms
	refused bool
	tripped bool
	// since is when it gave up, or since when nobody takes anything from it that has, which relieved says.
	since    float64
	relieved bool
}

// At is the operating point at time t.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	c := u.Charger
	powered := joined.Line.On && joined.Line.Volts >= c.Starts && joined.Line.Hertz > 0
	on := powered && joined.Sink.On
	if on != u.on { // it begins anew, in its first place
		u.on, u.tripped, u.refused, u.asked, u.terms = on, false, false, plant.Sink{}, plant.Terms{}
		if on {
			u.terms, _ = c.grant(plant.Sink{Position: 1})
		}
	}
	if on && joined.Sink != u.asked {
		u.asked = joined.Sink
		u.answer()
	}
	o := plant.Operating{Celsius: plant.Ambient, Contract: &plant.Contract{}}
	if on {
		o.Contract.Offer, o.Contract.Terms, o.Contract.Refused = c.offer(), u.terms, u.refused
		o.Output = u.output(t, joined.Output)
	}
	if powered {
		out := o.Output.Volts * o.Output.Amps
		power := c.Idle + out*(1+c.Share) + c.Square*o.Output.Amps*o.Output.Amps
		o.Heat = power - out
		o.Line = plant.SineOf(joined.Line, power)
	}
	o.Celsius += 1.8 * o.Heat
	return o
}

// answer takes what the sink asks for.
func (u *Unit) answer() {
	terms, ok := u.Charger.grant(u.asked)
	switch {
	case u.Charger.Mute && u.asked.Position != 1:
	case ok:
		u.terms, u.refused = terms, false
	default:
		u.refused = true
	}
}

func (c Charger) offer() []uint32 {
	objects := make([]uint32, len(c.Places))
	for i, p := range c.Places {
		objects[i] = p.Object
	}
	return objects
}

// output is what it gives to a load.
func (u *Unit) output(t float64, load plant.Load) plant.Seen {
	seen := u.Charger.Gives(u.terms, load)
	over := seen.Amps > u.Charger.Places[u.terms.Position-1].Trip
	if !u.tripped {
		if !over {
			return seen
		}
		u.tripped, u.relieved, u.since = true, false, t
		return plant.Seen{}
	}
	relieved := load.Takes(seen.Volts) < u.Charger.Places[u.terms.Position-1].Amps/10
	if relieved && !u.relieved {
		u.since = t
	}
	u.relieved = relieved
	switch u.Charger.Recovery {
	case Itself:
		if relieved && t-u.since >= u.Charger.Delay {
			u.tripped = false
			return seen
		}
	case Again:
		if phase := math.Mod(t-u.since, u.Charger.Delay); t-u.since >= u.Charger.Delay && (relieved || phase < try) {
			u.tripped = over
			return plant.Seen{Volts: seen.Volts, Amps: math.Min(seen.Amps, u.Charger.Places[u.terms.Position-1].Trip)}
		}
	}
	return plant.Seen{}
}

// Gives is what it gives to a load under a contract, as long as it does not give up.
func (c Charger) Gives(terms plant.Terms, load plant.Load) plant.Seen {
	amps, volts := 0.0, terms.Volts
	for range 60 { // what a load takes depends on the volts that it leaves
		amps = math.Min(load.Takes(volts), 50)
		volts = math.Max(terms.Volts-c.Resistance*amps, 0)
	}
	return plant.Seen{Volts: volts, Amps: amps}
}
