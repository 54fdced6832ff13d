package plant

import (
	"math"
	"slices"
)

// Probe is a place at a unit that a scope can see.
type Probe struct {
	Name, Unit string
	Seen       func(Operating) float64
}

// Probes are the places that scopes see, by the names that procedures use.
func Probes() []Probe {
	return []Probe{
		{"output", "V", func(o Operating) float64 { return o.Output.Volts }},
		{"input", "V", func(o Operating) float64 { return o.Line.Volts }},
		{"current", "A", func(o Operating) float64 { return o.Line.Amps }},
		{"load", "A", func(o Operating) float64 { return o.Output.Amps }},
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

// Find finds the first crossing between two times, in steps as fine as given: behind the first of them, and behind
// each time at which something was stirred. NaN: there is none.
func (g Trigger) Find(from, until, step float64, stirred []float64) float64 {
	sign := 1.0
	if g.Falling {
		sign = -1
	}
	step = math.Max(step, 1e-7)
	for _, begin := range append([]float64{from}, stirred...) {
		if begin < from {
			continue
		}
		before := math.NaN()
		for t := begin; t < math.Min(begin+patience, until); t += step {
			d := sign * (g.Seen(t) - g.Level)
			if before < 0 && d >= 0 {
				return t
			}
			before = d
		}
	}
	return math.NaN()
}
