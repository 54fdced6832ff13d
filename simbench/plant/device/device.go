// Package device has the physics of a power switch that blocks: what leaks through it, where it breaks down, what its
// temperature changes, and the charge that stays in it when what feeds it is switched off.
package device

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Switch is a power switch as it was made, at 25 °C. Volts in V, currents in A, resistances in Ω, times in s.
type Switch struct {
	// Breaks are the volts at which the avalanche carries a microampere, with Slope for every factor e of it.
	Breaks, Slope float64
	// Leakage is what flows at a kilovolt, as the square root of the volts.
	Leakage float64
	// Ohms is a path beside the switch.
	Ohms float64
	// Warmth is by which share Breaks rises with every kelvin.
	Warmth float64
	// Fixture is the insulation of what it stands in, Ω; Holds for how long its charge lasts without anything that feeds.
	Fixture, Holds float64
	Absent         bool // nothing stands in the fixture
}

const microampere = 1e-6

// doubles is by how many kelvins leakage doubles.
const doubles = 10

// The faults of a switch.
const (
	EarlyAvalanche plant.Fault = "early-avalanche"
	Leaky          plant.Fault = "leaky"
	Punctured      plant.Fault = "punctured"
	EmptyFixture   plant.Fault = "empty-fixture"
)

var faults = plant.Faults[*Switch]{
	plant.Healthy:  func(*Switch) {},
	EarlyAvalanche: func(s *Switch) { s.Breaks *= 0.78 },
	Leaky:          func(s *Switch) { s.Leakage *= 60 },
	Punctured:      func(s *Switch) { s.Ohms = 20e3 },
	EmptyFixture:   func(s *Switch) { s.Absent = true },
	plant.DeadUnit: func(s *Switch) { s.Absent = true },
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Switch, error)) plant.Type {
		return plant.Type{Name: name, Kind: "device", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			s, err := by(asked)
			if err != nil {
				return nil, err
			}
			return New(s), nil
		}}
	}
	return []plant.Type{made("skua", func(a plant.Asked) (Switch, error) { return Skua(a.Serial, a.Fault) }),
		made("", fromRatings)}
}

// Skua is the power switch of the demo scenario, which blocks 1,700 V, as the unit with the given serial number was
// made.
func Skua(serial string, fault plant.Fault) (Switch, error) { return of(serial, 1700, fault) }

func fromRatings(asked plant.Asked) (Switch, error) {
	blocks, ok := asked.Rating("blocking_volts")
	if !ok {
		return Switch{}, errors.New("the nameplate does not say blocking_volts, from which a device is made")
	}
	return of(asked.Serial, blocks, asked.Fault)
}

func of(serial string, blocks float64, fault plant.Fault) (Switch, error) {
	spread := plant.TolerancesOf(serial, 0x5cb)
	s := Switch{Breaks: spread(1.087*blocks, 0.008), Slope: spread(0.0035*blocks, 0.05), Leakage: spread(18e-9, 0.15),
		Ohms: math.Inf(1), Warmth: 0.8e-3, Fixture: 2e12, Holds: 0.6}
	return s, faults.Apply(fault, "a device", &s)
}

// Amps is what flows at a voltage and a temperature, exactly. The other way round it conducts as a diode.
func (s Switch) Amps(volts, celsius float64) float64 {
	heat := celsius - 25
	fixture := volts / s.Fixture
	switch {
	case s.Absent:
		return fixture
	case volts < 0:
		return fixture - 1e-9*math.Expm1(min(-volts/0.05, 60))
	}
	leaks := s.Leakage * math.Sqrt(volts/1000) * math.Exp2(heat/doubles)
	avalanche := microampere * math.Exp(min((volts-s.Breaks*(1+s.Warmth*heat))/s.Slope, 60))
	return fixture + leaks + avalanche + volts/s.Ohms
}

// At is the voltage at which a current flows, exactly.
func (s Switch) At(amps, celsius float64) float64 {
	low, high := -10.0, 4*s.Breaks
	for range 80 {
		if mid := (low + high) / 2; s.Amps(mid, celsius) < amps {
			low = mid
		} else {
			high = mid
		}
	}
	return (low + high) / 2
}

// Unit is a switch with the charge that is in it.
type Unit struct {
	Switch Switch
	volts  float64
	at     float64
}

// New is a switch without charge.
func New(s Switch) *Unit { return &Unit{Switch: s} }

// At is the operating point at time t: led by what feeds it, and without that its charge goes by itself.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	o := u.Steady(joined)
	if !joined.Line.On {
		o.Line.Volts = u.volts * math.Exp(-max(t-u.at, 0)/u.Switch.Holds)
	}
	u.volts, u.at = o.Line.Volts, t
	return o
}

// Steady is the exact operating point: the volts that are set, or those at which the limit of what feeds it flows.
func (u *Unit) Steady(joined plant.Joined) plant.Operating {
	s, line := u.Switch, joined.Line
	o := plant.Operating{Celsius: plant.Ambient}
	if !line.On {
		return o
	}
	volts := line.Volts
	amps := s.Amps(volts, o.Celsius)
	switch {
	case amps > line.Amps:
		o.Line.Limited, amps = true, line.Amps
		volts = min(volts, s.At(amps, o.Celsius))
	case amps < -line.Amps:
		o.Line.Limited, amps = true, -line.Amps
		volts = max(volts, s.At(amps, o.Celsius))
	}
	o.Line.Volts, o.Line.Amps = volts, amps
	return o
}
