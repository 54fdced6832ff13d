// Package plant holds the physics of the units that the simulated bench tests: pure, seeded, and able to state
// its own truth.
package plant

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
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
	Dead         bool
}

// Fault is something wrong with a unit on purpose.
type Fault string

// The faults of a converter.
const (
	Healthy        Fault = ""
	WeakRegulation Fault = "weak-regulation"
	LowEfficiency  Fault = "low-efficiency"
	DeadUnit       Fault = "dead"
)

var converterFaults = map[Fault]func(*Converter){
	Healthy:        func(*Converter) {},
	WeakRegulation: func(c *Converter) { c.Resistance *= 3 },
	LowEfficiency:  func(c *Converter) { c.Conduction += 0.055 },
	DeadUnit:       func(c *Converter) { c.Dead = true },
}

// Faults lists the names of the faults of a converter, without the healthy unit.
func Faults() []string { return namesOf(converterFaults) }

// Tern is the 48 V to 15 V module of the demo scenario, as the unit with the given serial number was made: its
// tolerances are drawn from the serial, so that the same serial is always the same unit.
func Tern(serial string, fault Fault) (Converter, error) {
	apply, ok := converterFaults[fault]
	if !ok {
		return Converter{}, fmt.Errorf("%q is not a fault of a converter; known: %v", fault, Faults())
	}
	h := fnv.New64a()
	h.Write([]byte(serial))
	rng := rand.New(rand.NewPCG(h.Sum64(), 0x7e2))
	spread := func(nominal, share float64) float64 {
		if serial == "" {
			return nominal
		}
		return nominal * (1 + share*max(min(rng.NormFloat64(), 2.5), -2.5))
	}
	c := Converter{
		Rated: spread(15.010, 0.0003), Nominal: 48, LineSlope: spread(-0.35e-3, 0.2), Resistance: spread(5.0e-3, 0.08),
		Quiescent: spread(0.78, 0.04), QuiescentAt: 0.006, Diode: spread(0.10, 0.04), Conduction: spread(0.062, 0.03),
		Switching: spread(1.5e-3, 0.05),
		LockoutOn: spread(34.4, 0.003), LockoutOff: spread(32.9, 0.003), CurrentLimit: spread(10.5, 0.02),
		SoftStart: 20e-3, Ring: 4000, Damping: 0.35, Overshoot: 0.04,
	}
	apply(&c)
	return c, nil
}

// Operating is the steady state of a converter between a source and a load.
type Operating struct {
	LineVolts, LineAmps   float64
	OutputVolts, LoadAmps float64
	SourceLimited         bool // the source is in its current limit
	Celsius               float64
	Heat                  float64 // W that stay in the unit
	// Branches are the amps into each of the cells side by side in a [Bank]; nil for other units.
	Branches []float64 `json:",omitempty"`
}

// Efficiency is the exact share of the input power that reaches the load, in %.
func (o Operating) Efficiency() float64 {
	return 100 * o.OutputVolts * o.LoadAmps / (o.LineVolts * o.LineAmps)
}

// Loss is the exact loss in W.
func (o Operating) Loss() float64 { return o.LineVolts*o.LineAmps - o.OutputVolts*o.LoadAmps }

// Source is what feeds a unit.
type Source struct {
	On          bool
	Volts, Amps float64 // setpoint and current limit
}

// Mode is what an electronic load keeps constant.
type Mode string

// The modes of a load.
const (
	ConstantVoltage    Mode = "voltage"
	ConstantCurrent    Mode = "current"
	ConstantPower      Mode = "power"
	ConstantResistance Mode = "resistance"
)

// Load is what drains a unit.
type Load struct {
	On    bool
	Mode  Mode
	Level float64 // V, A, W or Ω
	// Lockout is the voltage below which it takes nothing.
	Lockout float64
}

// amps is the current the load takes at a voltage.
func (l Load) amps(volts float64) float64 {
	if !l.On || volts <= 0.05 || volts < l.Lockout {
		return 0
	}
	switch l.Mode {
	case ConstantCurrent:
		return l.Level
	case ConstantPower:
		return l.Level / volts
	case ConstantResistance:
		if l.Level <= 0 {
			return math.Inf(1)
		}
		return volts / l.Level
	}
	// Constant voltage: it takes whatever pulls the output down to its level.
	if volts > l.Level {
		return math.Inf(1)
	}
	return 0
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
func (c Converter) Solve(s Source, l Load, running bool) Operating {
	threshold := c.LockoutOn
	if running {
		threshold = c.LockoutOff
	}
	if !s.On {
		return Operating{}
	}
	if c.Dead || s.Volts < threshold {
		return Operating{LineVolts: s.Volts, LineAmps: min(0.002, s.Amps)}
	}
	out, amps := c.solveOutput(s.Volts, l)
	lineAmps := (out*amps + c.lossAt(s.Volts, amps)) / s.Volts
	if lineAmps <= s.Amps {
		return Operating{LineVolts: s.Volts, LineAmps: lineAmps, OutputVolts: out, LoadAmps: amps}
	}
	// A source in its limit cannot hold a constant-power input up: the line sags to the lockout and the unit stops.
	return Operating{LineVolts: c.LockoutOff * 0.9, LineAmps: s.Amps, SourceLimited: true}
}

// solveOutput finds output volts and load current together; beyond the unit's limit the output collapses to
// what the limit current makes of the load.
func (c Converter) solveOutput(line float64, l Load) (volts, amps float64) {
	amps = 0
	for range 60 {
		volts = c.outputAt(line, amps)
		next := l.amps(volts)
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
	case ConstantVoltage:
		return min(l.Level, volts), c.CurrentLimit
	case ConstantResistance:
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
}

// At is the operating point at time t (seconds of the plant's own clock). It must be called with increasing t;
// each change of source or load is seen at the first call after it.
func (c Converter) At(s *State, t float64, source Source, load Load) Operating {
	s.warmth += (s.loss*thermalOhms - s.warmth) * (1 - math.Exp(-max(t-s.t, 0)/thermalTau))
	o := c.move(s, t, source, load)
	s.t, s.loss = t, o.Loss()
	o.Celsius, o.Heat = Ambient+s.warmth, s.loss
	return o
}

// The thermal mass of a module without a heat sink.
const (
	thermalOhms = 3.5 // K/W
	thermalTau  = 180 // s
)

func (c Converter) move(s *State, t float64, source Source, load Load) Operating {
	o := c.Solve(source, load, s.running)
	running := o.OutputVolts > 0
	if running && !s.running {
		s.startedAt = t
		s.step, s.loadAmps = 0, o.LoadAmps
	}
	s.running = running
	if !running {
		return o
	}
	if change := o.LoadAmps - s.loadAmps; math.Abs(change) > 1e-3 {
		s.steppedAt, s.step, s.loadAmps = t, -c.Overshoot*change, o.LoadAmps
	}
	if rise := t - s.startedAt; rise < c.SoftStart {
		share := rise / c.SoftStart
		o.OutputVolts *= share
		o.LoadAmps = load.amps(o.OutputVolts)
		o.LineAmps *= share
		return o
	}
	if s.step != 0 {
		past := t - s.steppedAt
		decay := math.Exp(-c.Damping * c.Ring * past)
		if decay < 1e-9 {
			s.step = 0
		} else {
			o.OutputVolts += s.step * decay * math.Cos(c.Ring*math.Sqrt(1-c.Damping*c.Damping)*past)
		}
	}
	return o
}
