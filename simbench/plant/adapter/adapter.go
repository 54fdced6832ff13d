// Package adapter has the physics of adapters that the mains feeds: what they give, what they take for it, and what
// they take when they give nothing, as a current that is no sine.
package adapter

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Adapter is an adapter from the mains to a direct voltage. Volts in V, currents in A, powers in W, times in s.
type Adapter struct {
	Rated      float64 // output volts without load
	Resistance float64 // droop of the output per ampere, Ω
	Limit      float64 // output current at which the output collapses
	Starts     float64 // least effective volts of the mains
	Share      float64 // loss as a share of the output power
	Square     float64 // loss by the square of the output current, Ω
	Filter     float64 // capacitance across the mains, F
	Low        Low     // what it takes when it gives nothing
}

// Low is what an adapter takes when it gives nothing: a power, which may drift, and which may be more for a part of
// every cycle.
type Low struct {
	Power float64
	Drift float64 // W/s
	Every float64 // how long a cycle is; 0: there is none
	For   float64 // how much of it takes More
	More  float64
}

// At is the power at a time.
func (l Low) At(t float64) float64 {
	p := l.Power + l.Drift*t
	if l.Every > 0 && math.Mod(t, l.Every) < l.For {
		p += l.More
	}
	return p
}

// Taken is the energy between two times, W·s.
func (l Low) Taken(from, to float64) float64 {
	return l.until(to) - l.until(from)
}

// until is the energy from the beginning to a time.
func (l Low) until(t float64) float64 {
	e := l.Power*t + l.Drift*t*t/2
	if l.Every > 0 {
		e += l.More * (math.Floor(t/l.Every)*l.For + math.Min(math.Mod(t, l.Every), l.For))
	}
	return e
}

// The faults of an adapter.
const (
	Hungry   plant.Fault = "hungry"
	Drifting plant.Fault = "drifting"
	Cyclic   plant.Fault = "cyclic"
	Bursts   plant.Fault = "bursts"
)

var faults = plant.Faults[*Adapter]{
	plant.Healthy:  func(*Adapter) {},
	Hungry:         func(a *Adapter) { a.Low.Power *= 1.6 },
	Drifting:       func(a *Adapter) { a.Low.Drift = 40e-3 / 3600 },
	Cyclic:         func(a *Adapter) { a.Low.Every, a.Low.For, a.Low.More = 60, 6, 0.9 },
	Bursts:         func(a *Adapter) { a.Low.Every, a.Low.For, a.Low.More = 0.37, 0.013, 2 },
	plant.DeadUnit: func(a *Adapter) { a.Starts = math.Inf(1) },
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Adapter, error)) plant.Type {
		return plant.Type{Name: name, Kind: "adapter", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			a, err := by(asked)
			if err != nil {
				return nil, err
			}
			return &Unit{Adapter: a}, nil
		}}
	}
	return []plant.Type{
		made("eider", func(a plant.Asked) (Adapter, error) { return Eider(a.Serial, a.Fault) }), made("", fromRatings)}
}

// Eider is the quayside adapter of the demo scenario, 24 V and 5 A, as the unit with the given serial number was made.
func Eider(serial string, fault plant.Fault) (Adapter, error) {
	spread := plant.TolerancesOf(serial, 0xe1d)
	a := Adapter{Rated: spread(24.05, 0.001), Resistance: spread(12e-3, 0.08), Limit: spread(6.2, 0.03), Starts: 80,
		Share: spread(0.06, 0.04), Square: spread(0.08, 0.04), Filter: 10e-9,
		Low: Low{Power: spread(0.128, 0.03)}}
	return a, faults.Apply(fault, "an adapter", &a)
}

// fromRatings makes an adapter from its ratings.
func fromRatings(asked plant.Asked) (Adapter, error) {
	volts, ok := asked.Rating("rated_volts")
	amps, known := asked.Rating("rated_current")
	if !ok || !known || volts <= 0 || amps <= 0 {
		return Adapter{}, errors.New("an adapter is modelled from rated_volts and rated_current; state both")
	}
	spread := plant.TolerancesOf(asked.Serial, 0xe1e)
	low := 0.1
	if x, stated := asked.Rating("standby_power"); stated {
		low = 0.85 * x
	}
	a := Adapter{Rated: spread(volts, 0.001), Resistance: spread(0.0025*volts/amps, 0.08), Limit: spread(1.25*amps, 0.03),
		Starts: 80, Share: spread(0.06, 0.04), Square: spread(0.016*volts/amps, 0.04), Filter: 10e-9,
		Low: Low{Power: spread(low, 0.03)}}
	return a, faults.Apply(asked.Fault, "an adapter", &a)
}

// Unit is an adapter with its state.
type Unit struct {
	Adapter Adapter
	on      bool
	began   float64 // when the mains came
	given   float64 // what it takes beside what it takes for nothing, W
}

// At is the operating point at time t. What it takes in a low mode begins anew when the mains comes.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	on := u.Adapter.runs(joined.Line)
	if on && !u.on {
		u.began = t
	}
	u.on = on
	o := u.Adapter.Solve(joined, t-u.began, on)
	u.given = 0
	if on {
		u.given = o.Line.Watts() - u.Adapter.Low.At(t-u.began)
	}
	return o
}

// Taken is what it took between two times, W·s; before the mains came, nothing.
func (u *Unit) Taken(from, to float64) float64 {
	if !u.on {
		return 0
	}
	from, to = math.Max(from, u.began), math.Max(to, u.began)
	return u.given*(to-from) + u.Adapter.Low.Taken(from-u.began, to-u.began)
}

// Steady is the truth of the running unit, as it takes it when the mains has just come.
func (u *Unit) Steady(joined plant.Joined) plant.Operating {
	return u.Adapter.Solve(joined, 0, u.Adapter.runs(joined.Line))
}

// runs tells whether a line is enough to work from.
func (a Adapter) runs(line plant.Source) bool {
	return line.On && line.Volts >= a.Starts && line.Hertz > 0
}

// Solve is the operating point a time after the mains came.
func (a Adapter) Solve(joined plant.Joined, t float64, on bool) plant.Operating {
	o := plant.Operating{Celsius: plant.Ambient}
	if !on {
		if joined.Line.On && joined.Line.Hertz > 0 { // its filter is at the mains all the same
			o.Line = plant.Seen{Volts: joined.Line.Volts, Wave: a.wave(joined.Line, 0)}
			o.Line.Amps = rms(o.Line.Wave.AmpOrders)
		}
		return o
	}
	amps, volts := 0.0, a.Rated
	for range 60 { // what a load takes depends on the volts that it leaves
		amps = math.Min(joined.Output.Takes(volts), a.Limit)
		volts = a.Rated - a.Resistance*amps
	}
	if amps >= a.Limit { // it folds back to almost nothing
		amps, volts = 0, 0
	}
	out := volts * amps
	o.Output = plant.Seen{Volts: volts, Amps: amps}
	power := out*(1+a.Share) + a.Square*amps*amps + a.Low.At(t)
	o.Line = plant.Seen{Volts: joined.Line.Volts, Wave: a.wave(joined.Line, power)}
	o.Line.Amps = rms(o.Line.Wave.AmpOrders)
	o.Heat = power - out
	o.Celsius += 1.4 * o.Heat
	return o
}
