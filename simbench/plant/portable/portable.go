// Package portable has the physics of a device that lives on a battery: a current for each of the states that it goes
// through by a clock of its own, and none of which its source knows.
package portable

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Device is a device as it was made. Currents in A, times in s.
type Device struct {
	// Asleep is what it takes when it does nothing else.
	Asleep float64
	// Round is after what time it does the same again, and Acts are what it does in one, in their order.
	Round float64
	Acts  []Act
	// Least is the volts below which it does nothing, and takes nothing.
	Least float64
}

// Act is something that a device does in each of its rounds.
type Act struct {
	State    string
	At, Last float64 // from when in the round, and for how long
	Amps     float64
}

// The faults of a device: it does not sleep, sends what it sends three times over, or its receiver is deaf and it
// listens the longer.
const (
	Sleepless plant.Fault = "sleepless"
	Repeats   plant.Fault = "repeats"
	Deaf      plant.Fault = "deaf"
)

var faults = plant.Faults[*Device]{
	plant.Healthy: func(*Device) {},
	Sleepless:     func(d *Device) { d.Asleep = 1.3e-3 },
	Repeats:       func(d *Device) { d.Acts[len(d.Acts)-1].Last *= 3 },
	Deaf:          func(d *Device) { d.Acts[1].Last *= 4 },
	plant.DeadUnit: func(d *Device) {
		d.Asleep, d.Acts = 0, nil
	},
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Device, error)) plant.Type {
		return plant.Type{Name: name, Kind: "portable", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			d, err := by(asked)
			if err != nil {
				return nil, err
			}
			return &Unit{Device: d}, nil
		}}
	}
	return []plant.Type{made("teal", func(a plant.Asked) (Device, error) { return Teal(a.Serial, a.Fault) }),
		made("", fromRatings)}
}

// Teal is the radio node of a buoy of the demo scenario, as the unit with the given serial number was made: in each
// minute it measures, listens, and transmits.
func Teal(serial string, fault plant.Fault) (Device, error) { return of(serial, 3.6, fault) }

func fromRatings(asked plant.Asked) (Device, error) {
	volts, ok := asked.Rating("rated_volts")
	if !ok {
		return Device{}, errors.New("the nameplate does not say rated_volts, from which a device on a battery is made")
	}
	return of(asked.Serial, volts, asked.Fault)
}

func of(serial string, volts float64, fault plant.Fault) (Device, error) {
	spread := plant.TolerancesOf(serial, 0x7ea1)
	d := Device{Asleep: spread(2e-6, 0.08), Round: 60, Least: 0.6 * volts, Acts: []Act{
		{State: "measure", At: 5, Last: 0.5, Amps: spread(20e-3, 0.02)},
		{State: "listen", At: 20, Last: 3, Amps: spread(8e-3, 0.02)},
		{State: "transmit", At: 40, Last: 1, Amps: spread(105e-3, 0.015)},
	}}
	return d, faults.Apply(fault, "a portable device", &d)
}

// Amps is what it takes, a time after it was switched on.
func (d Device) Amps(t float64) float64 {
	into := math.Mod(t, d.Round)
	for _, a := range d.Acts {
		if into >= a.At && into < a.At+a.Last {
			return a.Amps
		}
	}
	return d.Asleep
}

// Charge is what has flowed a time after it was switched on, exactly, A·s.
func (d Device) Charge(t float64) float64 {
	rounds, into := math.Floor(t/d.Round), math.Mod(t, d.Round)
	q := d.Asleep * t
	for _, a := range d.Acts {
		done := math.Max(0, math.Min(into-a.At, a.Last))
		q += (a.Amps - d.Asleep) * (rounds*a.Last + done)
	}
	return q
}

// Unit is a device that is in use: it begins its first round when it is switched on.
type Unit struct {
	Device Device
	on     bool
	// since is when it was switched on, with what had flowed before, V and A·s.
	since, before, volts float64
	at                   float64
	switched             []float64
}

// Since is when it was switched on last.
func (u *Unit) Since() float64 { return u.since }

// At implements plant.Unit.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	runs := joined.Line.On && joined.Line.Volts >= u.Device.Least
	if runs != u.on {
		if u.on {
			u.before += u.Device.Charge(u.at - u.since)
		}
		u.on, u.since = runs, t
		u.switched = append(u.switched[max(0, len(u.switched)-mostSwitched):], t)
	}
	u.at, u.volts = t, 0
	if joined.Line.On {
		u.volts = joined.Line.Volts
	}
	return u.Wave(t)
}

// mostSwitched bounds what is known of when it was switched on.
const mostSwitched = 16

// Wave implements plant.Waving. Before it was switched on last, nothing flows.
func (u *Unit) Wave(t float64) plant.Operating {
	o := plant.Operating{Celsius: plant.Ambient, Line: plant.Seen{Volts: u.volts}}
	if u.on && t >= u.since {
		o.Line.Amps = u.Device.Amps(t - u.since)
	}
	return o
}

// Stirred implements plant.Waving: when it was switched, and when each of its last acts began.
func (u *Unit) Stirred() []float64 {
	all := append([]float64(nil), u.switched...)
	if !u.on {
		return all
	}
	round := u.since + u.Device.Round*math.Floor((u.at-u.since)/u.Device.Round)
	for _, began := range []float64{round - u.Device.Round, round} {
		for _, a := range u.Device.Acts {
			if at := began + a.At; at >= u.since && at <= u.at {
				all = append(all, at)
			}
		}
	}
	return all
}

// Drawn is the charge that it has taken altogether by a time not before that of At, A·s.
func (u *Unit) Drawn(t float64) float64 {
	if !u.on || t < u.since {
		return u.before
	}
	return u.before + u.Device.Charge(t-u.since)
}
