package plant

import (
	"math"
	"slices"
)

// Probe is a place at a unit that a scope can see.
type Probe struct {
	Name, Unit string
	Seen       func(Operating) float64
	// Noise is the density of the noise there, in the unit over √Hz; nil: there is none to speak of.
	Noise func(Operating) float64
}

// SignalProbes are the places at an amplifier that an analyser of signals sees.
func SignalProbes() []Probe {
	return []Probe{
		{Name: "output", Unit: "V", Seen: func(o Operating) float64 { return o.Output.Volts },
			Noise: func(o Operating) float64 { return o.Density }},
		{Name: "input", Unit: "V", Seen: func(o Operating) float64 { return o.Signal }},
	}
}

// Probes are the places that scopes see, by the names that procedures use.
func Probes() []Probe {
	return []Probe{
		{Name: "output", Unit: "V", Seen: func(o Operating) float64 { return o.Output.Volts }},
		{Name: "input", Unit: "V", Seen: func(o Operating) float64 { return o.Line.Volts }},
		{Name: "current", Unit: "A", Seen: func(o Operating) float64 { return o.Line.Amps }},
		{Name: "load", Unit: "A", Seen: func(o Operating) float64 { return o.Output.Amps }},
	}
}

// ProbeOf finds a place by its name.
func ProbeOf(name string) (Probe, bool) {
	all := Probes()
	i := slices.IndexFunc(all, func(p Probe) bool { return p.Name == name })
	if i < 0 {
		return Probe{}, false
	}
	return all[i], true
}

// Trigger is what a scope waits for: what it sees crosses a level.
type Trigger struct {
	Seen    func(t float64) float64
	Level   float64
	Falling bool
}

// patience bounds how long behind a change a trigger is looked for, s.
const patience = 60e-3

// Find finds the first crossing between two times, in steps as fine as given: behind the time at which it began to
// wait, and behind each at which something was stirred. What comes later is as what came before. NaN: there is none.
func (g Trigger) Find(armed, from, until, step float64, stirred []float64) float64 {
	sign := 1.0
	if g.Falling {
		sign = -1
	}
	step = math.Max(step, 1e-7)
	for _, began := range append([]float64{armed}, stirred...) {
		begin := math.Max(began, from)
		if begin > began { // it goes on from where it was looked at last
			begin = math.Max(began, begin-step)
		}
		before := math.NaN()
		for t := begin; t < math.Min(began+patience, until); t += step {
			d := sign * (g.Seen(t) - g.Level)
			if before < 0 && d >= 0 {
				return t
			}
			before = d
		}
	}
	return math.NaN()
}
