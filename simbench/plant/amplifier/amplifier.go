// Package amplifier has the physics of an audio amplifier on one supply: gain, a bend of second and third order,
// clipping at its supply, output impedance, noise, and what it takes for all that.
package amplifier

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Amplifier is an amplifier as it was made. Volts are effective values unless something else is said.
type Amplifier struct {
	Gain float64 // V/V without a load
	// Bend2 and Bend3 are the shares of the output that its square and its cube add, for each volt of its peak.
	Bend2, Bend3 float64
	Impedance    float64 // Ω, of the output
	Density      float64 // of the noise at the output, V/√Hz
	Idle         float64 // A
	Headroom     float64 // V that the output stays within the supply
	Least        float64 // V of the supply below which it does nothing
	Capacity     float64 // F across its supply
	LoadTimes    float64 // how many times its ohms the load has that is at it
	Settles      float64 // s after it is switched on until it is no noisier than it is
}

// The faults of an amplifier: a stage that is noisy, one that is bent, an output through a bad joint, a bias that is
// too large, a stage that is noisy for some seconds after it is switched on, one that has too little of its supply,
// and another load at it than the bank was told.
const (
	Noisy      plant.Fault = "noisy"
	Distorting plant.Fault = "distorting"
	BadJoint   plant.Fault = "bad-joint"
	HotBias    plant.Fault = "hot-bias"
	Settling   plant.Fault = "settling"
	Clipping   plant.Fault = "clipping"
	WrongLoad  plant.Fault = "wrong-load"
)

var faults = plant.Faults[*Amplifier]{
	plant.Healthy:  func(*Amplifier) {},
	Noisy:          func(a *Amplifier) { a.Density *= 20 },
	Distorting:     func(a *Amplifier) { a.Bend3 *= 60 },
	BadJoint:       func(a *Amplifier) { a.Impedance += 0.35 },
	HotBias:        func(a *Amplifier) { a.Idle *= 4 },
	Settling:       func(a *Amplifier) { a.Settles = 6 },
	Clipping:       func(a *Amplifier) { a.Headroom += 5 },
	WrongLoad:      func(a *Amplifier) { a.LoadTimes = 1.4 },
	plant.DeadUnit: func(a *Amplifier) { a.Gain, a.Density, a.Idle = 0, 0, a.Idle/10 },
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Amplifier, error)) plant.Type {
		return plant.Type{Name: name, Kind: "amplifier", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			a, err := by(asked)
			if err != nil {
				return nil, err
			}
			return &Unit{Amplifier: a}, nil
		}}
	}
	return []plant.Type{made("guillemot", func(a plant.Asked) (Amplifier, error) { return Guillemot(a.Serial, a.Fault) }),
		made("", fromRatings)}
}

// Guillemot is the horn amplifier of the demo scenario, 4 Ω and 60 W, as the unit with the given serial number was
// made.
func Guillemot(serial string, fault plant.Fault) (Amplifier, error) { return of(serial, 60, 4, fault) }

func fromRatings(asked plant.Asked) (Amplifier, error) {
	power, ok := asked.Rating("rated_power")
	load, stated := asked.Rating("rated_load")
	if !ok || !stated {
		return Amplifier{}, errors.New("the nameplate does not say rated_power and rated_load; an amplifier is made from " +
			"both")
	}
	return of(asked.Serial, power, load, asked.Fault)
}

func of(serial string, power, load float64, fault plant.Fault) (Amplifier, error) {
	spread := plant.TolerancesOf(serial, 0x9a11)
	volts := math.Sqrt(power * load)
	a := Amplifier{Gain: spread(20, 0.01), Impedance: spread(0.08*load/4, 0.06), Density: spread(0.85e-6, 0.06),
		Idle: spread(42e-3, 0.08), Headroom: spread(1.4, 0.05), Least: 0.5 * volts * math.Sqrt2,
		Capacity: spread(4.7e-3, 0.1), LoadTimes: 1,
		Bend2: spread(0.9e-5, 0.2), Bend3: spread(0.35e-6, 0.2)}
	return a, faults.Apply(fault, "an amplifier", &a)
}

// ideal is the output without a load, for an input at an instant.
func (a Amplifier) ideal(in float64) float64 {
	x := a.Gain * in
	return x + a.Bend2*x*x + a.Bend3*x*x*x
}

// Loaded is the share of the ideal output that is across a load.
func (a Amplifier) Loaded(load plant.Load) float64 {
	if ohms := a.resistance(load); !math.IsInf(ohms, 1) {
		return ohms / (ohms + a.Impedance)
	}
	return 1
}

func (a Amplifier) resistance(load plant.Load) float64 {
	if !load.On || load.Mode != plant.ConstantResistance || load.Level <= 0 {
		return math.Inf(1)
	}
	return a.LoadTimes * load.Level
}

// Harmonics are the shares of the tone that its second and third harmonic are, for a sine of an effective value at the
// output: of x + b₂x² + b₃x³ with a peak p they are b₂·p/2 and b₃·p²/4.
func (a Amplifier) Harmonics(rms float64) (second, third float64) {
	p := rms * math.Sqrt2
	return a.Bend2 * p / 2, a.Bend3 * p * p / 4
}

// Unit is an amplifier in use.
type Unit struct {
	Amplifier Amplifier
	joined    plant.Joined
	stirred   []float64
	since     float64 // it was switched on
}

// settlingNoise is how many times its noise it has until it has settled.
const settlingNoise = 20

// mostStirred bounds what is known of when something was changed.
const mostStirred = 16

// At implements plant.Unit: volts and amps of the output are effective values.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	if joined.Signal != u.joined.Signal || joined.Line.On != u.joined.Line.On {
		u.stirred = append(u.stirred[max(0, len(u.stirred)-mostStirred):], t)
	}
	if joined.Line.On && !u.joined.Line.On {
		u.since = t
	}
	u.joined = joined
	a := u.Amplifier
	o := plant.Operating{Celsius: plant.Ambient, Line: plant.Seen{}}
	if joined.Line.On {
		o.Line.Volts, o.Line.Amps = joined.Line.Volts, u.Amplifier.Capacity*joined.Line.Slope
	}
	if !u.works() {
		return o
	}
	// Over one period of what the signal repeats by, finely.
	sum, mean := 0.0, 0.0
	const looks = 64
	for k := range looks {
		v := u.out(joined.Signal.At(t + float64(k)/looks*joined.Signal.Period()))
		sum += v * v / looks
		mean += math.Abs(v) / looks
	}
	o.Output.Volts = math.Sqrt(sum)
	o.Line.Amps += a.Idle
	if ohms := a.resistance(joined.Output); !math.IsInf(ohms, 1) {
		o.Output.Amps = o.Output.Volts / ohms
		o.Line.Amps += mean / ohms
	}
	o.Heat = o.Line.Volts*o.Line.Amps - o.Output.Volts*o.Output.Amps
	return o
}

func (u *Unit) works() bool { return u.joined.Line.On && u.joined.Line.Volts >= u.Amplifier.Least }

// out is the output at an instant, for what is at the input.
func (u *Unit) out(in float64) float64 {
	a := u.Amplifier
	most := math.Max(u.joined.Line.Volts-a.Headroom, 0)
	return a.Loaded(u.joined.Output) * math.Max(-most, math.Min(a.ideal(in), most))
}

// Wave implements plant.Waving.
func (u *Unit) Wave(t float64) plant.Operating {
	in := u.joined.Signal.At(t)
	o := plant.Operating{Celsius: plant.Ambient, Signal: in}
	if u.joined.Line.On {
		o.Line.Volts = u.joined.Line.Volts
	}
	if u.works() {
		o.Output.Volts = u.out(in)
		o.Density = u.Amplifier.Density * u.Amplifier.Loaded(u.joined.Output)
		if t < u.since+u.Amplifier.Settles {
			o.Density *= settlingNoise
		}
	}
	return o
}

// Stirred implements plant.Waving.
func (u *Unit) Stirred() []float64 { return u.stirred }
