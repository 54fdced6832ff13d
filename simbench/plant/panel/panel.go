// Package panel has the physics of photovoltaic panels: strings of cells with one diode each, in series, every string
// with a bypass diode across it.
package panel

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Panel is a panel as it was made. Volts in V, currents in A, resistances in Ω; everything at 25 °C and 1000 W/m².
type Panel struct {
	Strings []String
	// Warmth is by which share the open volts fall with every kelvin, Gain by which the light current rises.
	Warmth, Gain float64
}

// String is one string of cells: I = Light − Saturation·(e^(V_j/Slope) − 1) − V_j/Shunt with V = V_j −
// I·Series.
type String struct {
	Light      float64 // current that the light makes
	Open       float64 // volts without current, from which the saturation current follows
	Slope      float64 // n·N·k·T/e
	Series     float64
	Shunt      float64
	saturation float64
}

// bypass is the drop of a bypass diode, V.
const bypass = 0.5

// standard is the irradiance at which a panel is rated, W/m², and warm the temperature, °C.
const standard, warm = 1000.0, 25.0

// The faults of a panel.
const (
	CrackedCell plant.Fault = "cracked-cell"
	Corroded    plant.Fault = "corroded"
	LeakyCells  plant.Fault = "leaky-cells"
	Dirty       plant.Fault = "dirty"
)

var faults = plant.Faults[*Panel]{
	plant.Healthy: func(*Panel) {},
	CrackedCell:   func(p *Panel) { p.Strings[0].Light *= 0.55 },
	Corroded:      func(p *Panel) { p.each(func(s *String) { s.Series *= 4 }) },
	LeakyCells:    func(p *Panel) { p.each(func(s *String) { s.Shunt /= 12 }) },
	Dirty:         func(p *Panel) { p.each(func(s *String) { s.Light *= 0.86 }) },
	plant.DeadUnit: func(p *Panel) {
		p.each(func(s *String) { s.Light = 0 })
	},
}

func (p *Panel) each(change func(*String)) {
	for i := range p.Strings {
		change(&p.Strings[i])
	}
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Panel, error)) plant.Type {
		return plant.Type{Name: name, Kind: "panel", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			p, err := by(asked)
			if err != nil {
				return nil, err
			}
			return New(p), nil
		}}
	}
	return []plant.Type{made("fulmar", func(a plant.Asked) (Panel, error) { return Fulmar(a.Serial, a.Fault) }),
		made("", fromRatings)}
}

// Fulmar is the deck panel of the demo scenario, 22 V and 1.9 A, as the unit with the given serial number was made.
func Fulmar(serial string, fault plant.Fault) (Panel, error) {
	return of(plant.TolerancesOf(serial, 0xf01), 22, 1.9, fault)
}

func fromRatings(asked plant.Asked) (Panel, error) {
	open, ok := asked.Rating("open_volts")
	short, stated := asked.Rating("short_current")
	if !ok || !stated {
		return Panel{}, errors.New("the nameplate does not say open_volts and short_current; a panel is made from both")
	}
	return of(plant.TolerancesOf(asked.Serial, 0xf01), open, short, asked.Fault)
}

// of is a panel of three strings of twelve cells.
func of(spread plant.Tolerances, open, short float64, fault plant.Fault) (Panel, error) {
	const strings = 3
	p := Panel{Warmth: 0.0031, Gain: 0.0005}
	volts, slope := spread(open, 0.004)/strings, 1.25*0.02569*12*open/22
	series, shunt := spread(0.34*open/22*1.9/short, 0.05)/strings, spread(260*open/22*1.9/short, 0.1)/strings
	for range strings {
		p.Strings = append(p.Strings, String{Light: spread(short*1.0013, 0.004), Open: volts, Slope: slope, Series: series,
			Shunt: shunt})
	}
	return p, faults.Apply(fault, "a panel", &p)
}

// Sun is what a panel is exposed to.
type Sun struct {
	Irradiance float64 // W/m²
	Celsius    float64
}

// Usual is the light of the bench.
var Usual = Sun{standard, warm}

// at is a string under a sun.
func (p Panel) at(s String, sun Sun) String {
	heat := sun.Celsius - warm
	s.Light *= sun.Irradiance / standard * (1 + p.Gain*heat)
	sound := s.Light
	if sound <= 0 {
		sound = 1
	}
	open := s.Open * (1 - p.Warmth*heat)
	s.saturation = max(sound-open/s.Shunt, 0.1*sound) / math.Expm1(open/s.Slope)
	return s
}

// volts of a string at a current: the junction's, less what the series resistance takes; not below its bypass diode.
func (s String) volts(amps float64) float64 {
	low, high := -4*s.Open, 1.5*s.Open
	for range 60 {
		v := (low + high) / 2
		if s.Light-s.saturation*math.Expm1(v/s.Slope)-v/s.Shunt > amps {
			low = v
		} else {
			high = v
		}
	}
	return max((low+high)/2-amps*s.Series, -bypass)
}

// Volts is what the panel gives at a current, exactly.
func (p Panel) Volts(amps float64, sun Sun) (volts float64) {
	for _, s := range p.Strings {
		volts += p.at(s, sun).volts(amps)
	}
	return volts
}

// Amps is the current at a voltage, exactly: the one at which the panel gives these volts.
func (p Panel) Amps(volts float64, sun Sun) float64 {
	most := 0.0
	for _, s := range p.Strings {
		most = max(most, p.at(s, sun).Light)
	}
	low, high := -2*max(most, 0.1), 1.5*max(most, 0.1)
	for range 60 {
		i := (low + high) / 2
		if p.Volts(i, sun) > volts {
			low = i
		} else {
			high = i
		}
	}
	return (low + high) / 2
}

// Top is the largest power and where it lies, exactly to a part in a million.
func (p Panel) Top(sun Sun) (watts, volts, amps float64) {
	open := p.Volts(0, sun)
	best := 0.0
	for step, from, to := open/400, 0.0, open; step > open*1e-7; step /= 20 {
		for v := from; v <= to; v += step {
			if i := p.Amps(v, sun); v*i > best {
				best, volts, amps = v*i, v, i
			}
		}
		from, to = volts-step, volts+step
	}
	return best, volts, amps
}

// Unit is a panel under its light.
type Unit struct {
	Panel Panel
	Sun   Sun
	// at is where it settled last, under which sun and at which load.
	at   plant.Operating
	sun  Sun
	load plant.Load
}

// New puts a panel under the light of the bench.
func New(p Panel) *Unit { return &Unit{Panel: p, Sun: Usual} }

// shorted is what is left over a load that pulls more than the panel has, V.
const shorted = 0.02

// At is the operating point; nothing of it depends on what was before.
func (u *Unit) At(_ float64, joined plant.Joined) plant.Operating {
	if u.at.Celsius == 0 || u.sun != u.Sun || u.load != joined.Output {
		u.at, u.sun, u.load = u.Steady(joined), u.Sun, joined.Output
	}
	return u.at
}

// Steady is the exact operating point.
func (u *Unit) Steady(joined plant.Joined) plant.Operating {
	o := plant.Operating{Celsius: u.Sun.Celsius, Irradiance: u.Sun.Irradiance}
	o.Output.Volts, o.Output.Amps = u.settled(joined.Output)
	return o
}

func (u *Unit) settled(l plant.Load) (volts, amps float64) {
	open := u.Panel.Volts(0, u.Sun)
	switch {
	case !l.On || open <= shorted || open < l.Lockout:
		return open, 0
	case l.Mode == plant.ConstantVoltage:
		v := max(l.Level, shorted)
		if v >= open {
			return open, 0
		}
		return v, u.Panel.Amps(v, u.Sun)
	case l.Mode == plant.ConstantCurrent:
		if v := u.Panel.Volts(l.Level, u.Sun); v > shorted {
			return v, l.Level
		}
		return shorted, u.Panel.Amps(shorted, u.Sun)
	}
	// The highest volts at which the load takes what the panel gives.
	step := open / 300
	for v := open; v > shorted; v -= step {
		if l.Takes(v) > u.Panel.Amps(v, u.Sun) {
			continue
		}
		low, high := v, min(v+step, open)
		for range 50 {
			if mid := (low + high) / 2; l.Takes(mid) > u.Panel.Amps(mid, u.Sun) {
				high = mid
			} else {
				low = mid
			}
		}
		if v == open {
			low = open
		}
		return low, u.Panel.Amps(low, u.Sun)
	}
	return shorted, u.Panel.Amps(shorted, u.Sun)
}
