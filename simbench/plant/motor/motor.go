// Package motor has the physics of a three-phase induction motor: an equivalent circuit whose leakage lies in the
// rotor, iron, friction and additional losses, and two bodies that warm, winding and frame.
package motor

import (
	"errors"
	"math"
	"math/cmplx"

	"usherbench/simbench/plant"
)

// Motor is a motor as it was made. Ohms are of one phase of a star, at 25 °C; volts are from a phase to neutral.
type Motor struct {
	Stator, Rotor float64 // resistance, Ω
	Leakage       float64 // reactance at 50 Hz, Ω
	Magnetising   float64 // reactance at 50 Hz, Ω
	Iron          float64 // resistance that stands for the iron's loss, Ω
	Pairs         float64 // of poles
	Friction      float64 // W at 25 revolutions a second, with the square of the speed
	Additional    float64 // W/(N·m)²
	Shakes        float64 // mm/s at 25 revolutions a second, in proportion to the speed
	// Warming: heat capacities, J/K, of winding and frame, and what passes between them and to the room, W/K.
	Winding, Frame, Between, Room float64
	Insulation                    Insulation
	Accessories                   Accessories
}

// hot and copper are of the resistance of copper: R ∝ copper + θ.
const cold, copper = 25.0, 235.0

// Usual frequency, Hz, at which reactances are stated.
const usual = 50.0

// The faults of a motor.
const (
	ShortedTurn plant.Fault = "shorted-turn"
	WornBearing plant.Fault = "worn-bearing"
	BrokenBar   plant.Fault = "broken-bar"
	BlockedFan  plant.Fault = "blocked-fan"
	// Damp has an insulation that leaks, Punctured one that breaks down below its withstand voltage.
	Damp        plant.Fault = "damp"
	Punctured   plant.Fault = "punctured"
	BurntHeater plant.Fault = "burnt-heater"
)

var faults = plant.Faults[*Motor]{
	plant.Healthy:  func(*Motor) {},
	ShortedTurn:    func(m *Motor) { m.Stator *= 0.9; m.Iron *= 0.45 },
	WornBearing:    func(m *Motor) { m.Friction *= 2.2; m.Shakes *= 6 },
	BrokenBar:      func(m *Motor) { m.Rotor *= 1.5 },
	BlockedFan:     func(m *Motor) { m.Room *= 0.45 },
	Damp:           func(m *Motor) { m.Insulation.Ohms *= 0.01 },
	Punctured:      func(m *Motor) { m.Insulation.Breaks = 1400 },
	BurntHeater:    func(m *Motor) { m.Accessories.Heater *= 2 }, // of its two elements one is open
	plant.DeadUnit: func(m *Motor) { m.Stator = 1e6 },
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Motor, error)) plant.Type {
		fresh := func(asked plant.Asked) (plant.Unit, error) {
			m, err := by(asked)
			if err != nil {
				return nil, err
			}
			return New(m), nil
		}
		return plant.Type{Name: name, Kind: "motor", Faults: faults.Names(), New: fresh}
	}
	return []plant.Type{made("cormorant", func(a plant.Asked) (Motor, error) { return Cormorant(a.Serial, a.Fault) }),
		made("", fromRatings)}
}

// Cormorant is the winch motor of the demo scenario, 2.2 kW, 400 V, four poles, as the unit with the given serial
// number was made.
func Cormorant(serial string, fault plant.Fault) (Motor, error) { return of(serial, 2200, 4, fault) }

func fromRatings(asked plant.Asked) (Motor, error) {
	power, ok := asked.Rating("rated_power")
	poles, stated := asked.Rating("poles")
	if !ok || !stated || power <= 0 || poles < 2 {
		return Motor{}, errors.New("the nameplate does not say rated_power and poles, from which a motor is made")
	}
	return of(asked.Serial, power, poles, asked.Fault)
}

// of scales a motor of 2.2 kW.
func of(serial string, power, poles float64, fault plant.Fault) (Motor, error) {
	spread := plant.TolerancesOf(serial, 0xc02)
	scale := 2200 / power
	m := Motor{Stator: spread(1.0*scale, 0.02), Rotor: spread(1.15*scale, 0.02), Leakage: spread(4.6*scale, 0.02),
		Magnetising: spread(92*scale, 0.02), Iron: spread(1150*scale, 0.03), Pairs: poles / 2,
		Friction: spread(60/scale, 0.05), Additional: spread(0.1*scale, 0.05), Shakes: 0.8, Winding: 1400 / scale,
		Frame: 9000 / scale, Between: 9 / scale, Room: 6.2 / scale}
	m.Insulation = Insulation{Ohms: spread(12e9, 0.1), Breaks: spread(3400, 0.03),
		Absorbs: [2]Absorption{{Ohms: spread(3e9, 0.1), Lasts: 25}, {Ohms: spread(8e9, 0.1), Lasts: 180}}}
	m.Accessories = Accessories{Coil: spread(96, 0.01), Heater: spread(580, 0.02)}
	return m, faults.Apply(fault, "a motor", &m)
}

// Losses are those of a motor by kind, W, where it has settled electrically.
type Losses struct {
	Input, Output, Winding, Iron, Slip, Friction, Additional float64
	Amps, Speed, Torque                                      float64 // of a phase, r/s, N·m
	Power                                                    float64 // factor
}

// At is a motor that is fed with volts from phase to neutral and braked with a torque, its winding at a temperature.
func (m Motor) At(volts, hertz, torque, celsius float64) Losses {
	if volts <= 0 || hertz <= 0 {
		return Losses{}
	}
	// The torque at the shaft rises with the slip up to the one at which the motor gives way.
	top := m.GivesWay(volts, hertz, celsius)
	if m.shaft(volts, hertz, celsius, top).Torque < torque {
		l := m.shaft(volts, hertz, celsius, 1)
		l.Output, l.Speed = 0, 0
		return l
	}
	low, high := 0.0, top
	for range 60 {
		if s := (low + high) / 2; m.shaft(volts, hertz, celsius, s).Torque < torque {
			low = s
		} else {
			high = s
		}
	}
	return m.shaft(volts, hertz, celsius, (low+high)/2)
}

// HeldAt is a motor whose brake lets it turn no faster than a speed, r/s; at none its rotor is locked.
func (m Motor) HeldAt(volts, hertz, speed, celsius float64) Losses {
	if volts <= 0 || hertz <= 0 {
		return Losses{}
	}
	if free := m.At(volts, hertz, 0, celsius); speed >= free.Speed {
		return free
	}
	return m.shaft(volts, hertz, celsius, 1-max(speed, 0)*m.Pairs/hertz)
}

// GivesWay is the slip of the largest torque.
func (m Motor) GivesWay(volts, hertz, celsius float64) float64 {
	best, at := -1.0, 1.0
	for s := 0.01; s <= 1; s += 0.01 {
		if t := m.shaft(volts, hertz, celsius, s).Torque; t > best {
			best, at = t, s
		}
	}
	return at
}

// worksFrom is the speed from which on a motor works, as a share of that of its field.
const worksFrom = 0.8

// shaft is the motor at a slip.
func (m Motor) shaft(volts, hertz, celsius, slip float64) Losses {
	stator := m.Stator * (copper + celsius) / (copper + cold)
	rotor := complex(m.Rotor*(copper+celsius)/(copper+cold)/max(slip, 1e-9), m.Leakage*hertz/usual)
	y := 1/complex(m.Iron, 0) + 1/complex(0, m.Magnetising*hertz/usual) + 1/rotor
	current := complex(volts, 0) / (complex(stator, 0) + 1/y)
	inner := current / y
	gap := 3 * real(inner/rotor*cmplx.Conj(inner/rotor)) * real(rotor)
	l := Losses{Amps: cmplx.Abs(current), Input: 3 * volts * real(current),
		Iron: 3 * real(inner*cmplx.Conj(inner)) / m.Iron,
		Slip: slip * gap, Speed: hertz / m.Pairs * (1 - slip)}
	l.Winding = 3 * l.Amps * l.Amps * stator
	l.Friction = m.Friction * (l.Speed / 25) * (l.Speed / 25)
	mechanical := gap - l.Slip
	omega := 2 * math.Pi * hertz / m.Pairs
	// What is left at the shaft: T·ω + A·T² = the mechanical power less friction. The additional loss goes with the
	// speed far below the one at which a motor works, so that it is none of a rotor that is locked.
	turn := 2 * math.Pi * max(l.Speed, 1e-6)
	additional := m.Additional * min(1, max(1-slip, 0)/worksFrom)
	left := mechanical - l.Friction
	if slip >= 1 {
		l.Torque, l.Friction = gap/omega, 0
	} else {
		l.Torque = 2 * left / (math.Sqrt(turn*turn+4*additional*max(left, 0)) + turn)
	}
	l.Additional = additional * l.Torque * l.Torque
	l.Output = l.Torque * 2 * math.Pi * l.Speed
	if s := 3 * volts * l.Amps; s > 0 {
		l.Power = l.Input / s
	}
	return l
}

// Ohms is the resistance of the winding from line to line at a temperature.
func (m Motor) Ohms(celsius float64) float64 {
	return 2 * m.Stator * (copper + celsius) / (copper + cold)
}

// braked is a motor as it is fed and braked.
func (m Motor) braked(p point) Losses {
	if p.brake.Held {
		return m.HeldAt(p.volts, p.hertz, p.brake.Speed, p.celsius)
	}
	return m.At(p.volts, p.hertz, p.brake.Torque, p.celsius)
}

// Unit is a motor that warms.
type Unit struct {
	Motor          Motor
	Winding, Frame float64 // °C
	at             float64
	heat           [2]float64 // W into winding and frame
	begun          bool
	settled        Losses // where it settled last, and at what
	asked          point
	insulation     charge
}

// point is what a motor is fed with, and how it is braked.
type point struct {
	volts, hertz, celsius float64
	brake                 plant.Brake
}

// New is a motor as warm as the room.
func New(m Motor) *Unit { return &Unit{Motor: m, Winding: plant.Ambient, Frame: plant.Ambient} }

// longest is how long a step of the warming may be, s.
const longest = 2.0

// At is the operating point at time t.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	m := u.Motor
	if dt := t - u.at; u.begun && dt > 0 {
		for n := math.Ceil(dt / longest); n > 0; n-- {
			h := dt / math.Ceil(dt/longest)
			passes := m.Between * (u.Winding - u.Frame)
			u.Winding += h * (u.heat[0] - passes) / m.Winding
			u.Frame += h * (u.heat[1] + passes - m.Room*(u.Frame-plant.Ambient)) / m.Frame
		}
	}
	u.at, u.begun = t, true
	o := plant.Operating{Celsius: u.Frame, Winding: m.Ohms(u.Winding), Shaft: &plant.Turning{},
		Accessories: m.Accessories.at(u.Frame)}
	line := joined.Line
	if line.Hertz == 0 { // direct volts are between winding and frame
		o.Line = u.insulation.at(t, m.Insulation, line)
	}
	if !line.On || line.Hertz == 0 || line.Volts <= 0 {
		u.heat = [2]float64{}
		return o
	}
	brake := plant.Brake{}
	if joined.Shaft.On {
		brake = joined.Shaft
	}
	const fine = 50 // parts of a kelvin by which a resistance is told from another
	if asked := (point{line.Volts, line.Hertz, math.Round(u.Winding*fine) / fine, brake}); asked != u.asked {
		u.asked, u.settled = asked, m.braked(asked)
	}
	l := u.settled
	u.heat = [2]float64{l.Winding, l.Iron + l.Slip + l.Friction + l.Additional}
	o.Line = plant.SineOf(line, 0)
	o.Line.Amps = l.Amps
	o.Line.Wave.Power, o.Line.Wave.Phases, o.Line.Wave.PeakAmps = l.Input, 3, math.Sqrt2*l.Amps
	o.Shaft = &plant.Turning{Speed: l.Speed, Torque: l.Torque}
	o.Vibration = m.Shakes * l.Speed / 25
	o.Heat = l.Input - l.Output
	return o
}
