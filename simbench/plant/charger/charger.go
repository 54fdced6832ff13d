// Package charger has the physics of chargers that work by themselves beside a battery.
package charger

import (
	"math"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/battery"
)

// Charger is somebody's charger with stages of its own: bulk at constant current, absorption at constant
// voltage until the current has tapered, a test without current, and float.
type Charger struct {
	Bulk, Taper   float64 // A: in bulk, and at the end of absorption
	Absorb, Float float64 // V: in absorption, and in float
	Test          float64 // s without current between them
}

// Gannet is the deck charger of the scenario: gentle, and it floats.
func Gannet() Charger {
	return Charger{Bulk: 3, Taper: 0.4, Absorb: 29.1, Float: 28.4, Test: 600}
}

// State is a charger in time.
type State struct {
	stage   string
	since   float64
	Plugged bool
}

// Stage is what the charger does now: off, bulk, absorption, test, float.
func (s *State) Stage() string { return s.stage }

// At is what the charger puts at a battery that has volts and took amps from it.
func (c Charger) At(s *State, t, volts, amps float64) plant.Source {
	if !s.Plugged {
		s.stage, s.since = "off", t
		return plant.Source{}
	}
	next := func(stage string) { s.stage, s.since = stage, t }
	switch s.stage {
	case "", "off":
		next("bulk")
	case "bulk":
		if volts >= c.Absorb*0.999 && amps < 0.98*c.Bulk {
			next("absorption")
		}
	case "absorption":
		if amps <= c.Taper && t-s.since > 60 {
			next("test")
		}
	case "test":
		if t-s.since >= c.Test {
			next("float")
		}
	}
	switch s.stage {
	case "test":
		return plant.Source{}
	case "float":
		return plant.Source{On: true, Volts: c.Float, Amps: c.Bulk}
	}
	return plant.Source{On: true, Volts: c.Absorb, Amps: c.Bulk}
}

// chargedFull is the state in which a charger of ours leaves a battery of lithium cells.
const chargedFull = 0.962

// Logged is a frame of a charge as a logger beside the charger writes it.
type Logged struct{ T, Volts, Amps, Celsius float64 }

// Log discharges a battery by a charge (A·s) at a current and lets the charger fill it again, with a frame
// each interval for so many seconds after the charger was plugged in. Amps are positive into the battery.
func (c Charger) Log(b battery.Battery, taken, amps, interval, seconds float64) []Logged {
	u := battery.NewUnit(b, chargedFull)
	var frames []Logged
	keep := func(t float64, o plant.Operating) {
		frames = append(frames, Logged{t, o.Line.Volts, o.Line.Amps - o.Output.Amps, o.Celsius})
	}
	t := 0.0
	for ; t < taken/amps; t += interval {
		keep(t, u.At(t, plant.Joined{Output: plant.Load{On: true, Mode: plant.ConstantCurrent, Level: amps}}))
	}
	s := State{Plugged: true}
	o := u.At(t, plant.Joined{})
	for end := t + seconds; t < end; t += interval {
		o = u.At(t, plant.Joined{Line: c.At(&s, t, o.Line.Volts, math.Max(o.Line.Amps, 0))})
		keep(t, o)
	}
	return frames
}
