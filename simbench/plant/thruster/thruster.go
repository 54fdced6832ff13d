// Package thruster has the physics of a thruster and its drive: a force that follows the command with a lag, from the
// end of a dead zone to where it saturates.
package thruster

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Thruster is a thruster as it was made. Commands are shares of 1.
type Thruster struct {
	Dead, Full float64 // commands at which the force begins, and beyond which it grows no more
	Slope      float64 // N for a command of 1
	Lag        float64 // s
	Play       float64 // by which the way back lies behind, as a command
	Watts      float64 // that it takes for each newton
	Idle       float64 // W while it is enabled
}

// The faults of a thruster.
const (
	WornBearing plant.Fault = "worn-thruster"
	WideZone    plant.Fault = "wide-dead-zone"
	FouledBlade plant.Fault = "fouled"
)

var faults = plant.Faults[*Thruster]{
	plant.Healthy:  func(*Thruster) {},
	WornBearing:    func(u *Thruster) { u.Watts *= 1.5; u.Slope *= 0.9 },
	WideZone:       func(u *Thruster) { u.Dead *= 2.5 },
	FouledBlade:    func(u *Thruster) { u.Slope *= 0.7; u.Full *= 0.9 },
	plant.DeadUnit: func(u *Thruster) { u.Slope = 0 },
}

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Thruster, error)) plant.Type {
		return plant.Type{Name: name, Kind: "thruster", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			x, err := by(asked)
			if err != nil {
				return nil, err
			}
			return &Unit{Thruster: x}, nil
		}}
	}
	return []plant.Type{made("puffin", func(a plant.Asked) (Thruster, error) { return Puffin(a.Serial, a.Fault) }),
		made("", fromRatings)}
}

// Puffin is the bow thruster of the demo scenario, 24 V and 600 N, as the unit with the given serial number was made.
func Puffin(serial string, fault plant.Fault) (Thruster, error) { return of(serial, 600, fault) }

func fromRatings(asked plant.Asked) (Thruster, error) {
	force, ok := asked.Rating("rated_force")
	if !ok {
		return Thruster{}, errors.New("the nameplate does not say rated_force, from which a thruster is made")
	}
	return of(asked.Serial, force, asked.Fault)
}

func of(serial string, force float64, fault plant.Fault) (Thruster, error) {
	spread := plant.TolerancesOf(serial, 0x9f1)
	u := Thruster{Dead: spread(0.12, 0.05), Full: spread(0.86, 0.02), Lag: spread(0.35, 0.05), Play: spread(0.012, 0.1),
		Watts: spread(0.9, 0.03), Idle: spread(4, 0.05)}
	u.Slope = spread(force/0.74, 0.02)
	return u, faults.Apply(fault, "a thruster", &u)
}

// Force is what it settles to at a command, coming from below.
func (u Thruster) Force(command float64) float64 {
	return u.Slope * (math.Min(math.Max(command, u.Dead), u.Full) - u.Dead)
}

// Unit is a thruster with its force.
type Unit struct {
	Thruster Thruster
	force    float64
	command  float64 // as it comes through the play
	at       float64
}

// lowest is below which volts the drive does nothing.
const lowest = 10

// At is the operating point at time t.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	x := u.Thruster
	powered := joined.Line.On && joined.Line.Volts >= lowest
	wanted := 0.0
	if powered && joined.Drive.On {
		wanted = joined.Drive.Command
	}
	// The way up is followed at once, the way down by so much later.
	u.command = math.Min(math.Max(u.command, wanted), wanted+x.Play)
	if wanted == 0 {
		u.command = 0
	}
	target := 0.0
	if wanted > 0 {
		target = x.Force(u.command)
	}
	u.force += (target - u.force) * (1 - math.Exp(-math.Max(t-u.at, 0)/x.Lag))
	u.at = t
	o := plant.Operating{Celsius: plant.Ambient, Force: u.force}
	o.Line.Volts = 0
	if joined.Line.On {
		o.Line.Volts = joined.Line.Volts
	}
	if powered && joined.Drive.On {
		o.Line.Amps = math.Min((x.Idle+x.Watts*u.force)/joined.Line.Volts, joined.Line.Amps)
	}
	o.Heat = o.Line.Volts * o.Line.Amps
	return o
}
