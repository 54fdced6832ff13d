// Package harness has the physics of a harness: wires between two rows of pins, with the contacts at their ends, and
// the insulation between them.
package harness

import (
	"cmp"
	"errors"
	"math"
	"slices"

	"usherbench/simbench/plant"
)

// Joint joins two terminals, which count from 0.
type Joint struct {
	A, B int
	Ohms float64
}

// Harness is a harness as it was made. Way k has its pin of the first row at terminal 2·k, that of the second behind
// it.
type Harness struct {
	Ways   int
	Joints []Joint
	// Leaks are paths through an insulation that is damaged, Insulation is what all else has, Ω.
	Leaks      []Joint
	Insulation float64
	// Shaken are contacts that open for moments.
	Shaken []Shaken
}

// Shaken is a way that opens once in every so many seconds, so long after each has begun, and for so long, s.
type Shaken struct {
	Way                 int
	Every, After, Lasts float64
}

// Opens implements plant.Loose.
func (h Harness) Opens(a, b int, from, to float64) (all [][2]float64) {
	for _, s := range h.Shaken {
		if near(s.Way) != min(a, b) || far(s.Way) != max(a, b) {
			continue
		}
		for k := math.Floor(from / s.Every); k*s.Every <= to; k++ {
			begins := math.Max(k*s.Every+s.After, from)
			ends := math.Min(k*s.Every+s.After+s.Lasts, to)
			if ends > begins {
				all = append(all, [2]float64{begins, ends})
			}
		}
	}
	slices.SortFunc(all, func(x, y [2]float64) int { return cmp.Compare(x[0], y[0]) })
	return all
}

// The faults of a harness: a wire that is broken, two that were swapped, two that touch, an insulation that leaks, a
// contact that was crimped badly, and one that opens for moments while the harness is bent.
const (
	BrokenWire plant.Fault = "broken-wire"
	Swapped    plant.Fault = "swapped"
	Touching   plant.Fault = "touching"
	Chafed     plant.Fault = "chafed"
	BadCrimp   plant.Fault = "bad-crimp"
	LooseCrimp plant.Fault = "loose-crimp"
)

// badCrimp is what a contact has more that was crimped badly, chafed what an insulation has left, touches what is
// between wires that touch, Ω.
const (
	badCrimp = 80e-3
	chafed   = 2.7e6
	touches  = 0.35
)

var faults = plant.Faults[*Harness]{
	plant.Healthy:  func(*Harness) {},
	BrokenWire:     func(h *Harness) { h.Joints = append(h.Joints[:2:2], h.Joints[3:]...) },
	Swapped:        func(h *Harness) { h.Joints[1].B, h.Joints[4].B = h.Joints[4].B, h.Joints[1].B },
	Touching:       func(h *Harness) { h.Joints = append(h.Joints, Joint{far(5), far(6), touches}) },
	Chafed:         func(h *Harness) { h.Leaks = append(h.Leaks, Joint{far(3), far(4), chafed}) },
	BadCrimp:       func(h *Harness) { h.Joints[0].Ohms += badCrimp },
	LooseCrimp:     func(h *Harness) { h.Shaken = []Shaken{{2, 3.1, 1.3, 4e-3}, {2, 2.3, 0.4, 0.4e-3}} },
	plant.DeadUnit: func(h *Harness) { h.Joints = nil },
}

// near and far are the terminals of the two ends of a way, which counts from 0.
func near(way int) int { return 2 * way }
func far(way int) int  { return 2*way + 1 }

// fewest are the ways without which not every fault has its place.
const fewest = 7

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Harness, error)) plant.Type {
		return plant.Type{Name: name, Kind: "harness", Faults: faults.Names(), New: func(asked plant.Asked) (plant.Unit,
			error) {
			h, err := by(asked)
			return Unit{h}, err
		}}
	}
	lantern := func(a plant.Asked) (Harness, error) { return LanternLead(a.Serial, a.Fault) }
	return []plant.Type{made("lantern-lead", lantern), made("", fromRatings)}
}

// LanternLead is the seven-way harness of the demo scenario, as the unit with the given serial number was made.
func LanternLead(serial string, fault plant.Fault) (Harness, error) { return of(serial, 7, fault) }

func fromRatings(asked plant.Asked) (Harness, error) {
	ways, ok := asked.Rating("ways")
	if !ok || ways < fewest {
		return Harness{}, errors.New("the nameplate does not say ways, seven at least, from which a harness is made")
	}
	return of(asked.Serial, int(ways), asked.Fault)
}

// wire is what a wire of 1.2 m and 0.75 mm² has, contact what each of its ends has, Ω.
const wire, contact = 27.58e-3, 3.2e-3

func of(serial string, ways int, fault plant.Fault) (Harness, error) {
	spread := plant.TolerancesOf(serial, 0x7ea)
	h := Harness{Ways: ways, Insulation: spread(4e12, 0.3)}
	for way := range ways {
		h.Joints = append(h.Joints, Joint{near(way), far(way), spread(wire, 0.01) + spread(contact, 0.15) +
			spread(contact, 0.15)})
	}
	return h, faults.Apply(fault, "a harness", &h)
}

// Between is the resistance between two terminals, exactly: along the joints, or through what leaks between what they
// join.
func (h Harness) Between(a, b int) float64 {
	fromA, fromB := h.reach(a), h.reach(b)
	if ohms, joined := fromA[b]; joined {
		return ohms
	}
	ohms := h.Insulation
	for _, l := range h.Leaks {
		for _, at := range [][2]int{{l.A, l.B}, {l.B, l.A}} {
			x, here := fromA[at[0]]
			y, there := fromB[at[1]]
			if here && there {
				ohms = math.Min(ohms, x+l.Ohms+y)
			}
		}
	}
	return ohms
}

// reach gives the terminals that are joined to one, with the ohms along the joints.
func (h Harness) reach(from int) map[int]float64 {
	reached := map[int]float64{from: 0}
	for grows := true; grows; {
		grows = false
		for _, j := range h.Joints {
			for _, at := range [][2]int{{j.A, j.B}, {j.B, j.A}} {
				x, here := reached[at[0]]
				if y, there := reached[at[1]]; here && (!there || x+j.Ohms < y) {
					reached[at[1]], grows = x+j.Ohms, true
				}
			}
		}
	}
	return reached
}

// Unit is a harness that is plugged in. Nothing feeds it.
type Unit struct{ Harness }

// At implements plant.Unit.
func (Unit) At(float64, plant.Joined) plant.Operating { return plant.Operating{Celsius: plant.Ambient} }
