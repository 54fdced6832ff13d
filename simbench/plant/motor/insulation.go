package motor

import (
	"math"

	"usherbench/simbench/plant"
)

// Insulation is what lies between the winding and the frame.
type Insulation struct {
	Ohms    float64 // once everything is absorbed
	Breaks  float64 // volts at which it breaks down
	Absorbs [2]Absorption
}

// Absorption is a part of the insulation that takes charge as long as it is polarized: through Ohms, for about
// Lasts, s.
type Absorption struct{ Ohms, Lasts float64 }

// arc is the resistance of an insulation that has broken down, Ω, and holds for how long charge stays in a winding
// that nothing feeds, s.
const arc, holds = 30e3, 0.4

// Amps is what flows so long after direct volts came to a winding without charge, exactly.
func (i Insulation) Amps(volts, after float64) float64 {
	if volts >= i.Breaks {
		return volts / arc
	}
	amps := volts / i.Ohms
	for _, a := range i.Absorbs {
		amps += volts / a.Ohms * math.Exp(-after/a.Lasts)
	}
	return amps
}

// charge is the state of an insulation.
type charge struct {
	volts    float64    // at the winding
	absorbed [2]float64 // volts by which each part is polarized
	t        float64
}

// at is what the insulation takes at time t. What feeds it gives way at its limit.
func (c *charge) at(t float64, i Insulation, line plant.Source) (seen plant.Seen) {
	dt := max(t-c.t, 0)
	c.t = t
	for k, a := range i.Absorbs {
		c.absorbed[k] += (c.volts - c.absorbed[k]) * -math.Expm1(-dt/a.Lasts)
	}
	if !line.On {
		c.volts *= math.Exp(-dt / holds)
		return plant.Seen{Volts: c.volts}
	}
	take := func(volts float64) float64 {
		amps := volts / i.Ohms
		for k, a := range i.Absorbs {
			amps += (volts - c.absorbed[k]) / a.Ohms
		}
		if volts >= i.Breaks {
			amps += volts / arc
		}
		return amps
	}
	seen = plant.Seen{Volts: line.Volts, Amps: take(line.Volts)}
	if seen.Amps > line.Amps {
		seen.Limited, seen.Amps = true, line.Amps
		seen.Volts = min(seen.Volts, max(line.Amps*arc, 0))
	}
	c.volts = seen.Volts
	return seen
}

// Accessories belong to a motor: the coil of its brake and a heater, Ω at 25 °C, and a platinum sensor of 100 Ω in
// its frame.
type Accessories struct{ Coil, Heater float64 }

// at are their resistances at a temperature of the frame, in this order; the sensor's after IEC 60751.
func (a Accessories) at(celsius float64) []float64 {
	const linear, square = 3.9083e-3, -5.775e-7
	return []float64{a.Coil * (copper + celsius) / (copper + cold), a.Heater,
		100 * (1 + linear*celsius + square*celsius*celsius)}
}
