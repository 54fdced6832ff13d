// Package plant says what a unit under test is to a simulated bench: something that settles between what feeds it
// and what drains it. Each kind of unit has a package of its own below, with its physics, its faults and its truth;
// package units lists them.
package plant

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
)

// Unit is a plant with its state, as something that is tested.
type Unit interface {
	// At is the operating point at time t, s; it must be called with increasing t. Each change of what is joined is seen
	// at the first call after it.
	At(t float64, joined Joined) Operating
}

// Storage is a unit that keeps charge.
type Storage interface {
	Unit
	// StateOfCharge is 0 … 1 of the capacity that it has by now.
	StateOfCharge() float64
	// Remake gives it the properties of another of its kind, as when a fault comes or is mended; it keeps its charge.
	Remake(as Storage)
}

// Wired is a unit of wires between terminals, which count from 0.
type Wired interface {
	Unit
	// Between is the resistance between two terminals, Ω.
	Between(a, b int) float64
}

// Loose is a wired unit of which a contact may open for moments, while somebody bends it.
type Loose interface {
	Wired
	// Opens are the times within two others in which a pair is open, s, each from and to.
	Opens(a, b int, from, to float64) [][2]float64
}

// Steady is a unit that can state its own truth.
type Steady interface {
	// Steady is the exact operating point that a running unit settles to.
	Steady(joined Joined) Operating
}

// Branching is a unit with several outputs: the first is at its output terminals, the others at its further ones,
// where what they give flows out.
type Branching interface {
	Unit
	Outputs() int
}

// Passed is a unit that the line may be joined past, to its output: a switch at any other stands before it.
type Passed interface {
	Unit
	PassedBy()
}

// Waving is a unit of which it is known what its terminals see at every instant, between the operating points:
// ripple, the ring after a step, what rushes in.
type Waving interface {
	Unit
	// Wave is what the terminals see at time t, s, of what was joined when At was last called, or before. It changes
	// nothing.
	Wave(t float64) Operating
	// Stirred are the times at which something last changed, newest last.
	Stirred() []float64
}

// Integrating is a unit that can say exactly what it takes of its line over a time.
type Integrating interface {
	Unit
	// Taken is the energy that it took between two times, W·s, as it was joined when At was last called.
	Taken(from, to float64) float64
}

// Counting is a unit that can say exactly which charge it has taken of its line.
type Counting interface {
	Unit
	// Drawn is all that it has taken by the time t, s, at which At was called last, or later; A·s.
	Drawn(t float64) float64
}

// Type is one type of unit: a known one by its name, or what is made of the ratings of any unit of a kind.
type Type struct {
	// Name of a known unit; empty: the type makes units of Kind from their ratings.
	Name string
	// Kind of the unit: converter, battery.
	Kind string
	// Faults are the names of those that it can have.
	Faults []string
	New    func(Asked) (Unit, error)
}

// Asked says which one of a type is made.
type Asked struct {
	// Serial draws the unit's tolerances; empty: nominal values.
	Serial string
	Fault  Fault
	// State is the state of charge at which a battery begins, 0 … 1.
	State float64
	// Chemistry of a battery; empty: NMC. Series is its number of cells in series; 0: as its rated volts suggest.
	Chemistry string
	Series    int
	// Rating gives a rating in SI; ok is false if it is not stated.
	Rating func(name string) (x float64, ok bool)
}

// HalfFull is the state of charge at which a battery begins when nothing else is said.
const HalfFull = 0.55

// Ambient is the temperature of the room, °C.
const Ambient = 23

// Humidity is that of the room, as a share of 1.
const Humidity = 0.46

// Joined is what is joined to the terminals of a unit. Of a battery line and output are the same two poles.
type Joined struct {
	Line   Source
	Output Load
	// Further is at the terminals that only some units have, in an order of their own: a second output, the cells of a
	// bank, a shaft.
	Further []Joint
	// Sink is at the port of a charger that makes contracts.
	Sink Sink
	// Bypass joins the output to the line past the unit, which is then joined to nothing.
	Bypass bool
	// Back is what a load at the output gives back to the line.
	Back Back
	// Shaft is what brakes a machine, Drive what is commanded of one that moves.
	Shaft Brake
	Drive Command
	// Signal is at the input of an amplifier.
	Signal Signal
}

// Signal is one tone, or two: an effective value of all of it, the frequencies, Hz, and how many times the second the
// first is. A Second of 0 is none.
type Signal struct {
	On                            bool
	Volts, Hertz, Second, Against float64
}

// levels are the effective values of its tones.
func (s Signal) levels() (first, second float64) {
	if s.Second <= 0 {
		return s.Volts, 0
	}
	ratio := s.Against
	if ratio <= 0 {
		ratio = 1
	}
	second = s.Volts / math.Sqrt(1+ratio*ratio)
	return ratio * second, second
}

// At is the signal at a time, V.
func (s Signal) At(t float64) float64 {
	if !s.On || s.Volts == 0 {
		return 0
	}
	first, second := s.levels()
	v := math.Sqrt2 * first * math.Sin(2*math.Pi*math.Mod(s.Hertz*t, 1))
	if second > 0 {
		v += math.Sqrt2 * second * math.Sin(2*math.Pi*math.Mod(s.Second*t, 1))
	}
	return v
}

// Period is after what time it is as good as repeated, s.
func (s Signal) Period() float64 {
	switch {
	case s.Hertz <= 0:
		return 1
	case s.Second > 0:
		return 8 / s.Hertz
	}
	return 1 / s.Hertz
}

// Brake is what brakes a shaft while it is on: with a torque, N·m, or by so much that it turns no faster than a speed,
// revolutions a second.
type Brake struct {
	On     bool
	Torque float64
	Held   bool // to Speed
	Speed  float64
}

// Command is what a drive is told while it is enabled: a share of 1.
type Command struct {
	On      bool
	Command float64
}

// Turning is a shaft that turns: revolutions a second, and the torque at it, N·m.
type Turning struct{ Speed, Torque float64 }

// Back is a load that gives back a Share of what it takes, less what it takes for itself, W. The zero Back gives
// nothing.
type Back struct{ Share, Own float64 }

// Of is what it gives back of a power, W.
func (b Back) Of(power float64) float64 { return b.Share*power - b.Own }

// Sink is what asks a charger for a contract, while it is attached: for a place in what it offers, with the volts and
// amps that are wanted of an adjustable one; amps of 0 are all that is offered.
type Sink struct {
	On          bool
	Position    int
	Volts, Amps float64
}

// Terms are what a charger and its sink agreed on; Position 0: nothing.
type Terms struct {
	Position    int
	Volts, Amps float64
}

// Contract is what a charger says to its sink: what it offers, as it is sent, what is agreed, and whether it refused
// what it was asked for last.
type Contract struct {
	Offer   []uint32
	Terms   Terms
	Refused bool
}

// Joint is what is joined to one terminal.
type Joint struct {
	Source Source
	Load   Load
}

// Operating is what the terminals of a unit see.
type Operating struct {
	// Line is what flows in where the unit is fed, Output what it gives where it is drained.
	Line, Output Seen
	// Further are its other terminals, in the order of those that are joined. Amps flow in.
	Further []Seen `json:",omitempty"`
	Celsius float64
	// Irradiance is what falls on a panel, W/m².
	Irradiance float64 `json:",omitempty"`
	// Shaft is that of a machine, Winding the resistance of it from line to line, Ω; Force what a drive gives, N.
	Shaft   *Turning `json:",omitempty"`
	Winding float64  `json:",omitempty"`
	Force   float64  `json:",omitempty"`
	// Vibration is how a machine shakes, mm/s.
	Vibration float64 `json:",omitempty"`
	// Signal is what is at the input of an amplifier at an instant, V, and Density the noise at its output, V/√Hz.
	Signal  float64 `json:",omitempty"`
	Density float64 `json:",omitempty"`
	// Accessories are the resistances of what belongs to a machine: the coil of its brake, its heater, its sensor, Ω.
	Accessories []float64 `json:",omitempty"`
	Heat        float64   // W that stay in the unit
	// Mains is what the line gives to everything, less what comes back; nil: what flows in.
	Mains *Seen `json:",omitempty"`
	// Contract is what a charger says to its sink; nil: it makes no contracts.
	Contract *Contract `json:",omitempty"`
}

// Seen is what is at one terminal.
type Seen struct {
	Volts, Amps float64
	Limited     bool `json:",omitempty"` // what feeds it is in its current limit
	// Wave is what more is known of alternating volts and amps, which are effective values then; nil: they are direct.
	Wave *Wave `json:",omitempty"`
}

// Wave is a period of alternating volts and amps.
type Wave struct {
	Hertz, Power          float64 // mean power, W
	Phases                int     // that carry the same volts and amps; 0: one
	PeakVolts, PeakAmps   float64
	VoltOrders, AmpOrders []float64 `json:"-"` // effective values of the harmonics, the fundamental first
}

// SineOf is what a unit sees of its mains that takes a power as if it was a resistor.
func SineOf(line Source, power float64) Seen {
	fundamental := line.Volts / math.Sqrt(1+line.Third*line.Third)
	w := &Wave{Hertz: line.Hertz, Power: power, PeakVolts: math.Sqrt2 * line.Volts,
		VoltOrders: []float64{fundamental, 0, fundamental * line.Third}}
	seen := Seen{Volts: line.Volts, Wave: w}
	if line.Volts > 0 {
		seen.Amps = power / line.Volts
		w.PeakAmps = math.Sqrt2 * seen.Amps
		for _, v := range w.VoltOrders {
			w.AmpOrders = append(w.AmpOrders, v*seen.Amps/line.Volts)
		}
	}
	return seen
}

// Watts are what passes.
func (s Seen) Watts() float64 {
	if s.Wave != nil {
		return s.Wave.Power
	}
	return s.Volts * s.Amps
}

// Gives is what all outputs of a converter give, W.
func (o Operating) Gives() float64 {
	watts := o.Output.Watts()
	for _, further := range o.Further {
		watts -= further.Watts()
	}
	return watts
}

// Efficiency is the exact share of a converter's input power that reaches the loads, in %.
func (o Operating) Efficiency() float64 { return 100 * o.Gives() / o.Line.Watts() }

// Loss is the exact loss of a converter, W.
func (o Operating) Loss() float64 { return o.Line.Watts() - o.Gives() }

// Source is what feeds a unit.
type Source struct {
	On          bool
	Volts, Amps float64 // setpoint and current limit
	// Hertz is the frequency of alternating volts, whose setpoint is their effective value; 0: they are direct.
	Hertz float64
	// Third is the third harmonic of the volts, as a share of the fundamental.
	Third float64
	// Slope is how fast the volts rise, V/s; 0: they stand.
	Slope float64
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

// Takes is the current that the load takes at a voltage, A.
func (l Load) Takes(volts float64) float64 {
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

// Fault is something wrong with a unit on purpose.
type Fault string

// What every kind of unit can be.
const (
	Healthy  Fault = ""
	DeadUnit Fault = "dead"
)

// Faults are those of a kind of unit, with what each changes in one.
type Faults[U any] map[Fault]func(U)

// Names lists them in order, without the healthy unit.
func (f Faults[U]) Names() []string {
	var names []string
	for fault := range f {
		if fault != Healthy {
			names = append(names, string(fault))
		}
	}
	slices.Sort(names)
	return names
}

// Apply gives a unit a fault; kind is how its like are called.
func (f Faults[U]) Apply(fault Fault, kind string, unit U) error {
	change, ok := f[fault]
	if !ok {
		return fmt.Errorf("%q is not a fault of %s; known: %v", fault, kind, f.Names())
	}
	change(unit)
	return nil
}

// Tolerances draws values around nominal ones: share is the standard deviation, as a share of the nominal value.
type Tolerances func(nominal, share float64) float64

// TolerancesOf are those of the unit with a serial number, so that the same serial is always the same unit; an empty
// serial has nominal values. Each type of unit has a seed of its own.
func TolerancesOf(serial string, seed uint64) Tolerances {
	h := fnv.New64a()
	h.Write([]byte(serial))
	rng := rand.New(rand.NewPCG(h.Sum64(), seed))
	return func(nominal, share float64) float64 {
		if serial == "" {
			return nominal
		}
		return nominal * (1 + share*max(min(rng.NormFloat64(), 2.5), -2.5))
	}
}
