package converter

import (
	"math"

	"usherbench/simbench/plant"
)

// Several is a supply with several outputs of one transformer: its loop regulates the first, and the load of each
// moves all others. The first output is at the unit's output terminals, the others at its further ones, where what
// they give flows out and is counted below zero.
type Several struct {
	Nominal     float64 // line at which the rated volts hold, V
	Outputs     []Winding
	Quiescent   float64 // loss without load at the nominal line, W
	QuiescentAt float64 // share by which Quiescent grows per volt of line above nominal, 1/V
	LockoutOn   float64 // line at which it starts
	LockoutOff  float64 // line at which it stops
	SoftStart   float64 // time to full output
	Dead        bool
}

// Winding is one output.
type Winding struct {
	Rated      float64   // volts without any load at the nominal line
	LineSlope  float64   // change per volt of line, V/V
	Cross      []float64 // change per ampere of each output, its own among them, V/A
	Diode      float64   // loss proportional to its current, V
	Conduction float64   // loss by the square of its current, Ω
	Limit      float64   // current at which the whole unit gives up, A
	Lost       bool      // it gives nothing
}

// The faults of a supply with several outputs, beside those of every converter.
const (
	WeakCoupling plant.Fault = "weak-coupling"
	LostOutput   plant.Fault = "lost-output"
)

var severalFaults = plant.Faults[*Several]{
	plant.Healthy: func(*Several) {},
	WeakCoupling: func(s *Several) {
		for k := range s.Outputs {
			for j := range s.Outputs[k].Cross {
				if j != k {
					s.Outputs[k].Cross[j] *= 4
				}
			}
		}
	},
	WeakRegulation: func(s *Several) { s.Outputs[0].Cross[0] *= 5 },
	LowEfficiency:  func(s *Several) { s.Outputs[1].Conduction += 0.45 },
	LostOutput:     func(s *Several) { s.Outputs[len(s.Outputs)-1].Lost = true },
	plant.DeadUnit: func(s *Several) { s.Dead = true },
}

// Dunlin is the supply of a buoy's electronics, 24 V to 12 V, 5 V and 3.3 V, as the unit with the given serial number
// was made.
func Dunlin(serial string, fault plant.Fault) (Several, error) {
	spread := plant.TolerancesOf(serial, 0xd07)
	row := func(at ...float64) []float64 {
		for i, x := range at {
			at[i] = spread(x, 0.06)
		}
		return at
	}
	s := Several{Nominal: 24, Quiescent: spread(0.60, 0.04), QuiescentAt: 0.008, LockoutOn: spread(16.5, 0.003),
		LockoutOff: spread(15.2, 0.003), SoftStart: 15e-3,
		Outputs: []Winding{
			{Rated: spread(12.02, 0.0004), LineSlope: spread(-0.6e-3, 0.2), Cross: row(-8e-3, -1.5e-3, -1e-3),
				Diode: spread(0.50, 0.04), Conduction: spread(0.120, 0.03), Limit: spread(2.7, 0.02)},
			// What is taken from the first output pulls the duty cycle up, and with it the others.
			{Rated: spread(5.03, 0.0005), LineSlope: spread(1.1e-3, 0.2), Cross: row(14e-3, -22e-3, -4e-3),
				Diode: spread(0.48, 0.04), Conduction: spread(0.090, 0.03), Limit: spread(4, 0.02)},
			{Rated: spread(3.32, 0.0005), LineSlope: spread(0.8e-3, 0.2), Cross: row(9e-3, -5e-3, -20e-3),
				Diode: spread(0.45, 0.04), Conduction: spread(0.080, 0.03), Limit: spread(2.7, 0.02)},
		}}
	return s, severalFaults.Apply(fault, "a supply with several outputs", &s)
}

// volts are those of all outputs at a line and with the currents that are taken, V.
func (s Several) volts(line float64, amps []float64) []float64 {
	volts := make([]float64, len(s.Outputs))
	for k, w := range s.Outputs {
		if w.Lost {
			continue
		}
		volts[k] = w.Rated + w.LineSlope*(line-s.Nominal)
		for j, perAmpere := range w.Cross {
			volts[k] += perAmpere * amps[j]
		}
	}
	return volts
}

// lossAt is the loss at a line with the currents that are taken, W.
func (s Several) lossAt(line float64, amps []float64) float64 {
	loss := s.Quiescent * (1 + s.QuiescentAt*(line-s.Nominal))
	for k, w := range s.Outputs {
		loss += w.Diode*amps[k] + w.Conduction*amps[k]*amps[k]
	}
	return loss
}

// loadsOf are what drains each output.
func (s Several) loadsOf(joined plant.Joined) []plant.Load {
	loads := make([]plant.Load, len(s.Outputs))
	loads[0] = joined.Output
	for k := 1; k < len(loads) && k <= len(joined.Further); k++ {
		loads[k] = joined.Further[k-1].Load
	}
	return loads
}

// Solve is the truth: the steady state of the unit with what is joined to it. running tells whether the unit was
// running before, which decides between its two lockout levels.
func (s Several) Solve(joined plant.Joined, running bool) plant.Operating {
	line, threshold := joined.Line, s.LockoutOn
	if running {
		threshold = s.LockoutOff
	}
	off := plant.Operating{Further: make([]plant.Seen, len(s.Outputs)-1)}
	switch {
	case !line.On:
		return off
	case s.Dead || line.Volts < threshold:
		off.Line = plant.Seen{Volts: line.Volts, Amps: min(0.002, line.Amps)}
		return off
	}
	volts, amps := s.settle(line.Volts, s.loadsOf(joined))
	o := off
	watts := s.lossAt(line.Volts, amps)
	for k := range s.Outputs {
		if amps[k] > s.Outputs[k].Limit { // what one output cannot give the whole unit does not
			off.Line = plant.Seen{Volts: line.Volts, Amps: min(s.Quiescent/line.Volts, line.Amps)}
			return off
		}
		watts += volts[k] * amps[k]
		if k == 0 {
			o.Output = plant.Seen{Volts: volts[0], Amps: amps[0]}
			continue
		}
		o.Further[k-1] = plant.Seen{Volts: volts[k], Amps: -amps[k]}
	}
	if o.Line = (plant.Seen{Volts: line.Volts, Amps: watts / line.Volts}); o.Line.Amps > line.Amps {
		off.Line = plant.Seen{Volts: s.LockoutOff * 0.9, Amps: line.Amps, Limited: true}
		return off
	}
	return o
}

// settle finds the volts of all outputs and the currents that are taken at them together.
func (s Several) settle(line float64, loads []plant.Load) (volts, amps []float64) {
	amps = make([]float64, len(loads))
	for range 60 {
		volts = s.volts(line, amps)
		change := 0.0
		for k, l := range loads {
			next := math.Min(l.Takes(volts[k]), 10*s.Outputs[k].Limit)
			change = math.Max(change, math.Abs(next-amps[k]))
			amps[k] = next
		}
		if change < 1e-13 {
			break
		}
	}
	return volts, amps
}

// SeveralUnit is such a supply with its state.
type SeveralUnit struct {
	Supply    Several
	running   bool
	startedAt float64
	warmth    float64 // K above the ambient
	loss, t   float64
}

// At is the operating point at time t.
func (u *SeveralUnit) At(t float64, joined plant.Joined) plant.Operating {
	u.warmth += (u.loss*thermalOhms - u.warmth) * (1 - math.Exp(-max(t-u.t, 0)/thermalTau))
	o := u.Supply.Solve(joined, u.running)
	running := o.Line.Volts > 0 && o.Output.Volts > 0
	if running && !u.running {
		u.startedAt = t
	}
	u.running = running
	if rise := t - u.startedAt; running && rise < u.Supply.SoftStart {
		share := rise / u.Supply.SoftStart
		o.Line.Amps *= share
		for k, l := range u.Supply.loadsOf(joined) {
			seen, sign := &o.Output, 1.0
			if k > 0 {
				seen, sign = &o.Further[k-1], -1
			}
			seen.Volts *= share
			seen.Amps = sign * math.Min(l.Takes(seen.Volts), u.Supply.Outputs[k].Limit)
		}
	}
	u.t, u.loss = t, o.Loss()
	o.Celsius, o.Heat = plant.Ambient+u.warmth, u.loss
	return o
}

// Outputs implements plant.Branching.
func (u *SeveralUnit) Outputs() int { return len(u.Supply.Outputs) }

// Steady is the truth of the running unit.
func (u *SeveralUnit) Steady(joined plant.Joined) plant.Operating {
	return u.Supply.Solve(joined, true)
}
