// Package converter has the physics of step-down DC-DC modules: pure, seeded, and able to state its own truth.
package converter

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Converter is a step-down DC-DC module. Volts in V, currents in A, times in s.
type Converter struct {
	Rated        float64 // output volts without load at the nominal line
	Nominal      float64 // line at which Rated holds
	LineSlope    float64 // change of the output per volt of line, V/V
	Resistance   float64 // droop of the output per ampere, Ω
	Quiescent    float64 // loss without load at the nominal line, W
	QuiescentAt  float64 // share by which Quiescent grows per volt of line above nominal, 1/V
	Diode        float64 // loss proportional to load current, V
	Conduction   float64 // loss by the square of load current, Ω
	Switching    float64 // loss by line times load current, V/V
	LockoutOn    float64 // line at which it starts
	LockoutOff   float64 // line at which it stops
	CurrentLimit float64 // output current at which the output collapses
	SoftStart    float64 // time to full output
	Ring         float64 // natural frequency of the regulation loop, rad/s
	Damping      float64 // of the regulation loop, below 1
	Overshoot    float64 // output deviation per ampere of load step, V/A
	Fine         Fine    // what only a scope sees
	Dead         bool
}

// The faults of a converter.
const (
	WeakRegulation plant.Fault = "weak-regulation"
	LowEfficiency  plant.Fault = "low-efficiency"
	HighRipple     plant.Fault = "high-ripple"
	PoorDamping    plant.Fault = "poor-damping"
	HardStart      plant.Fault = "hard-start"
)

var faults = plant.Faults[*Converter]{
	plant.Healthy:  func(*Converter) {},
	WeakRegulation: func(c *Converter) { c.Resistance *= 3 },
	LowEfficiency:  func(c *Converter) { c.Conduction += 0.055 },
	HighRipple:     func(c *Converter) { c.Fine.Ripple *= 4 },
	PoorDamping:    func(c *Converter) { c.Damping /= 4 },
	HardStart:      func(c *Converter) { c.Fine.Rush, c.Fine.StartOver = 2.5*c.Fine.Rush, 5*c.Fine.StartOver },
	plant.DeadUnit: func(c *Converter) { c.Dead = true },
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Converter, error)) plant.Type {
		return plant.Type{Name: name, Kind: "converter", Faults: faults.Names(), New: func(a plant.Asked) (plant.Unit,
			error) {
			c, err := by(a)
			if err != nil {
				return nil, err
			}
			return &Unit{Converter: c}, nil
		}}
	}
	return []plant.Type{
		made("tern", func(a plant.Asked) (Converter, error) { return Tern(a.Serial, a.Fault) }),
		{Name: "dunlin", Kind: "converter", Faults: severalFaults.Names(), New: func(a plant.Asked) (plant.Unit, error) {
			s, err := Dunlin(a.Serial, a.Fault)
			if err != nil {
				return nil, err
			}
			return &SeveralUnit{Supply: s}, nil
		}},
		made("", fromRatings),
	}
}

// Unit is a converter with its state.
type Unit struct {
	Converter Converter
	state     State
}

// At is the operating point at time t.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	return u.Converter.At(&u.state, t, joined.Line, joined.Output)
}

// Steady is the truth of the running unit.
func (u *Unit) Steady(joined plant.Joined) plant.Operating {
	return u.Converter.Solve(joined.Line, joined.Output, true)
}

// Tern is the 48 V to 15 V module of the demo scenario, as the unit with the given serial number was made.
func Tern(serial string, fault plant.Fault) (Converter, error) {
	spread := plant.TolerancesOf(serial, 0x7e2)
	c := Converter{
		Rated: spread(15.010, 0.0003), Nominal: 48, LineSlope: spread(-0.35e-3, 0.2), Resistance: spread(5.0e-3, 0.08),
		Quiescent: spread(0.78, 0.04), QuiescentAt: 0.006, Diode: spread(0.10, 0.04), Conduction: spread(0.062, 0.03),
		Switching: spread(1.5e-3, 0.05),
		LockoutOn: spread(34.4, 0.003), LockoutOff: spread(32.9, 0.003), CurrentLimit: spread(10.5, 0.02),
		SoftStart: 20e-3, Ring: 4000, Damping: 0.35, Overshoot: 0.04,
	}
	c.Fine = Fine{Ripple: spread(24e-3, 0.05), Frequency: spread(220e3, 0.01), Spike: spread(12e-3, 0.08),
		Rush: spread(0.35, 0.05), StartOver: spread(0.012, 0.08)}
	return c, faults.Apply(fault, "a converter", &c)
}

// fromRatings makes a step-down module from its ratings: losses such that it has its rated efficiency (90 % if
// none is stated) at full load.
func fromRatings(a plant.Asked) (Converter, error) {
	volts, haveVolts := a.Rating("rated_volts")
	amps, haveAmps := a.Rating("rated_current")
	if !haveVolts || !haveAmps || volts <= 0 || amps <= 0 {
		return Converter{}, errors.New("a converter is modelled from its ratings rated_volts and rated_current; state both")
	}
	or := func(name string, fallback float64) float64 {
		if x, ok := a.Rating(name); ok && x > 0 {
			return x
		}
		return fallback
	}
	nominal := or("nominal_line", 2*volts)
	lowest := or("lowest_line", 0.75*nominal)
	watts := volts * amps
	loss := watts * (1/math.Min(or("rated_efficiency", 0.9), 0.999) - 1)
	quiescent := math.Min(or("no_load_power", 0.15*loss), 0.6*loss)
	c := Converter{
		Rated: volts, Nominal: nominal, LineSlope: -2e-5 * volts, Resistance: 0.002 * volts / amps, Quiescent: quiescent,
		QuiescentAt: 0.006,
		Diode:       0.2 * (loss - quiescent) / amps, Conduction: 0.8 * (loss - quiescent) / (amps * amps),
		LockoutOn: 0.97 * lowest, LockoutOff: 0.92 * lowest, CurrentLimit: 1.3 * amps, SoftStart: 20e-3, Ring: 4000,
		Damping: 0.35, Overshoot: 0.003 * volts / amps,
		Fine: Fine{Ripple: 0.002 * volts, Frequency: 200e3, Spike: 0.001 * volts, Rush: 8 * amps * volts / nominal / nominal,
			StartOver: 0.01},
	}
	return c, faults.Apply(a.Fault, "a converter", &c)
}

// lossAt is the loss at a line and a load current.
func (c Converter) lossAt(line, amps float64) float64 {
	return c.Quiescent*(1+c.QuiescentAt*(line-c.Nominal)) + c.Diode*amps + c.Conduction*amps*amps + c.Switching*line*amps
}

// outputAt is the regulated output at a line and a load current.
func (c Converter) outputAt(line, amps float64) float64 {
	return c.Rated + c.LineSlope*(line-c.Nominal) - c.Resistance*amps
}

// Solve is the truth: the steady state of the unit between a source and a load. running tells whether the unit
// was running before, which decides between its two lockout levels.
func (c Converter) Solve(s plant.Source, l plant.Load, running bool) plant.Operating {
	threshold := c.LockoutOn
	if running {
		threshold = c.LockoutOff
	}
	if !s.On {
		return plant.Operating{}
	}
	if c.Dead || s.Volts < threshold {
		return plant.Operating{Line: plant.Seen{Volts: s.Volts, Amps: min(0.002, s.Amps)}}
	}
	out, amps := c.solveOutput(s.Volts, l)
	lineAmps := (out*amps + c.lossAt(s.Volts, amps)) / s.Volts
	if lineAmps <= s.Amps {
		return plant.Operating{Line: plant.Seen{Volts: s.Volts, Amps: lineAmps}, Output: plant.Seen{Volts: out, Amps: amps}}
	}
	// A source in its limit cannot hold a constant-power input up: the line sags to the lockout and the unit stops.
	return plant.Operating{Line: plant.Seen{Volts: c.LockoutOff * 0.9, Amps: s.Amps, Limited: true}}
}

// solveOutput finds output volts and load current together; beyond the unit's limit the output collapses to
// what the limit current makes of the load.
func (c Converter) solveOutput(line float64, l plant.Load) (volts, amps float64) {
	amps = 0
	for range 60 {
		volts = c.outputAt(line, amps)
		next := l.Takes(volts)
		if math.Abs(next-amps) < 1e-13*max(1, amps) {
			break
		}
		amps = next
		if math.IsInf(amps, 1) || amps > 10*c.CurrentLimit {
			break
		}
	}
	if amps <= c.CurrentLimit {
		return volts, amps
	}
	switch l.Mode {
	case plant.ConstantVoltage:
		return min(l.Level, volts), c.CurrentLimit
	case plant.ConstantResistance:
		return c.CurrentLimit * l.Level, c.CurrentLimit
	}
	return 0.1, c.CurrentLimit
}

// State is the converter in time: where it was when something last changed, and the ring that decays since then.
type State struct {
	running   bool
	startedAt float64 // when the soft start began
	steppedAt float64 // when the load last changed
	step      float64 // initial deviation of the ring, V
	loadAmps  float64
	warmth    float64 // K above the ambient
	loss      float64 // W since the last call
	t         float64
	past      []stretch
}

// At is the operating point at time t (seconds of the plant's own clock). It must be called with increasing t;
// each change of source or load is seen at the first call after it.
func (c Converter) At(s *State, t float64, source plant.Source, load plant.Load) plant.Operating {
	s.warmth += (s.loss*thermalOhms - s.warmth) * (1 - math.Exp(-max(t-s.t, 0)/thermalTau))
	o := c.move(s, t, source, load)
	s.t, s.loss = t, o.Loss()
	s.remember(c, t, source, load)
	o.Celsius, o.Heat = plant.Ambient+s.warmth, s.loss
	return o
}

// The thermal mass of a module without a heat sink.
const (
	thermalOhms = 3.5 // K/W
	thermalTau  = 180 // s
)

func (c Converter) move(s *State, t float64, source plant.Source, load plant.Load) plant.Operating {
	o := c.Solve(source, load, s.running)
	running := o.Output.Volts > 0
	if running && !s.running {
		s.startedAt = t
		s.step, s.loadAmps = 0, o.Output.Amps
	}
	s.running = running
	if !running {
		return o
	}
	if change := o.Output.Amps - s.loadAmps; math.Abs(change) > 1e-3 {
		s.steppedAt, s.step, s.loadAmps = t, -c.Overshoot*change, o.Output.Amps
	}
	if rise := t - s.startedAt; rise < c.SoftStart {
		share := rise / c.SoftStart
		o.Output.Volts *= share
		o.Output.Amps = load.Takes(o.Output.Volts)
		o.Line.Amps *= share
		return o
	}
	if s.step != 0 {
		past := t - s.steppedAt
		decay := math.Exp(-c.Damping * c.Ring * past)
		if decay < 1e-9 {
			s.step = 0
		} else {
			o.Output.Volts += s.step * decay * math.Cos(c.Ring*math.Sqrt(1-c.Damping*c.Damping)*past)
		}
	}
	return o
}
