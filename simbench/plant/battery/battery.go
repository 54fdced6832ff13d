// Package battery has the physics of packs, cells and cells side by side: pure, seeded, and able to state its
// own truth.
package battery

import (
	"errors"
	"math"

	"usherbench/simbench/plant"
)

// Battery is a pack of cells in series and parallel: open-circuit voltage over state of charge, an ohmic and
// two RC resistances, and a thermal mass. Charge is in ampere-seconds.
type Battery struct {
	Chemistry        Chemistry
	Series, Parallel int
	Capacity         float64 // of the pack, A·s
	Ohmic            float64 // of the pack, Ω
	FastOhms         float64 // first RC element, Ω
	FastTau          float64 // s
	SlowOhms         float64 // second RC element, Ω
	SlowTau          float64 // s
	ThermalOhms      float64 // K/W to the ambient
	ThermalTau       float64 // s
	// Dormant is capacity, A·s, that a pack after long storage does not give. Each full discharge wakes two
	// thirds of what is left of it.
	Dormant float64
	// Collapse is the state of charge below which one cell falls away, by CollapseVolts per second under load; 0:
	// none does.
	Collapse, CollapseVolts float64
	// SelfDischarge is the share of its charge that it loses in a month of 30 days.
	SelfDischarge float64
	// Fade is the share of the capacity that a full cycle costs.
	Fade     float64
	Reversed bool // the leads are the wrong way round
	Open     bool // a broken lead, or nothing there
}

// Faults of a battery.
const (
	ReversedLeads  plant.Fault = "reversed"
	WeakPack       plant.Fault = "weak"            // little capacity, high resistance
	SleepyPack     plant.Fault = "sleepy"          // capacity that long storage has put to sleep
	Collapsing     plant.Fault = "collapsing"      // a cell gives up before the others
	ShortOfCells   plant.Fault = "short-of-cells"  // fewer cells in series than it should have
	OtherChemistry plant.Fault = "other-chemistry" // lead-acid, whatever it should be
	HotPack        plant.Fault = "hot"             // it cannot get rid of its heat
)

var faults = plant.Faults[*Battery]{
	plant.Healthy:  func(*Battery) {},
	ReversedLeads:  func(b *Battery) { b.Reversed = true },
	WeakPack:       func(b *Battery) { b.Capacity *= 0.7; b.Ohmic *= 1.8 },
	SleepyPack:     func(b *Battery) { b.Capacity *= 0.97; b.Dormant = 0.12 * b.Capacity; b.Ohmic *= 1.3 },
	plant.DeadUnit: func(b *Battery) { b.Open = true },
	Collapsing:     func(b *Battery) { b.Collapse, b.CollapseVolts = 0.12, 0.1 },
	ShortOfCells:   func(b *Battery) { b.Series = max(b.Series-2, 1) },
	OtherChemistry: func(b *Battery) {
		b.Chemistry = chemistries["lead-acid"]
	},
	HotPack: func(b *Battery) { b.ThermalOhms *= 12; b.ThermalTau /= 3 },
}

const battery = "a battery"

// Types are the units of this kind.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Battery, error)) plant.Type {
		return plant.Type{Name: name, Kind: "battery", Faults: faults.Names(), New: func(a plant.Asked) (plant.Unit, error) {
			b, err := by(a)
			if err != nil {
				return nil, err
			}
			return NewUnit(b, a.State), nil
		}}
	}
	return []plant.Type{
		made("gannet", func(a plant.Asked) (Battery, error) { return Gannet(a.Serial, a.Fault) }),
		made("gannet-cell", func(a plant.Asked) (Battery, error) { return GannetCell(a.Serial, a.Fault) }),
		made("", fromRatings),
		{Name: "gannet-bank", Kind: "battery", Faults: bankFaults.Names(), New: func(a plant.Asked) (plant.Unit, error) {
			return GannetBank(a.Serial, a.Fault, a.State)
		}},
	}
}

// Unit is a battery with its state.
type Unit struct {
	Battery Battery
	State   State
}

// NewUnit is a rested battery at a state of charge, 0 … 1.
func NewUnit(b Battery, state float64) *Unit {
	return &Unit{b, State{Charge: state * (b.Capacity - b.Dormant)}}
}

// At is the operating point at time t.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	return u.Battery.At(&u.State, t, joined.Line, joined.Output)
}

// StateOfCharge is the charge in it over the capacity that it has by now.
func (u *Unit) StateOfCharge() float64 { return u.State.Charge / u.Battery.Now(&u.State) }

// Remake makes it another battery with the same charge in it.
func (u *Unit) Remake(as plant.Storage) {
	if other, ok := as.(*Unit); ok {
		u.Battery = other.Battery
	}
}

// Gannet is the 7-cell NMC pack of the demo scenario, as the pack with the given serial number was made.
func Gannet(serial string, fault plant.Fault) (Battery, error) {
	spread := plant.TolerancesOf(serial, 0x9a22)
	b := Battery{Chemistry: chemistries["NMC"], Series: 7, Parallel: 2, Capacity: spread(9.6*3600, 0.008),
		Ohmic: spread(0.063, 0.05), FastOhms: spread(0.028, 0.05), FastTau: 12,
		SlowOhms: spread(0.035, 0.05), SlowTau: 240, ThermalOhms: 2.2, ThermalTau: 900, SelfDischarge: 0.02, Fade: 2e-4}
	return b, faults.Apply(fault, battery, &b)
}

// GannetCell is one of the NMC cells that the pack is made of. Cells of one lot differ in capacity and
// resistance, and not always together.
func GannetCell(serial string, fault plant.Fault) (Battery, error) {
	spread := plant.TolerancesOf(serial, 0xce11)
	b := Battery{Chemistry: chemistries["NMC"], Series: 1, Parallel: 1, Capacity: spread(4.8*3600, 0.011),
		Ohmic: spread(0.018, 0.07), FastOhms: spread(0.008, 0.06), FastTau: 12,
		SlowOhms: spread(0.010, 0.06), SlowTau: 240, ThermalOhms: 9, ThermalTau: 600, SelfDischarge: spread(0.02, 0.2),
		Fade: 2e-4}
	return b, faults.Apply(fault, battery, &b)
}

// OpenCircuit is the voltage of the pack at rest, at a state of charge.
func (b Battery) OpenCircuit(state float64) float64 { return b.Chemistry.at(state) * float64(b.Series) }

// State is a battery in time.
type State struct {
	Charge     float64 // A·s in it
	awake      float64 // dormant capacity that has woken, A·s
	lost       float64 // capacity lost to cycling, A·s
	fallen     float64 // volts that a collapsing cell has lost
	drawn      float64 // A·s taken since the last charge began
	fast, slow float64 // volts over the RC elements
	warmth     float64 // K above the ambient
	t          float64
	amps       float64 // into the battery
	volts      float64 // at its terminals
	begun      bool
}

const month = 30 * 86400.0

// Now is the capacity that the battery has by now, A·s.
func (b Battery) Now(s *State) float64 { return b.Capacity - b.Dormant + s.awake - s.lost }

// longestStep bounds how long heat and acceptance are taken as constant, s.
const longestStep = 20.0

// At is the operating point at time t. It must be called with increasing t; between calls the current is constant.
func (b Battery) At(s *State, t float64, source plant.Source, load plant.Load) plant.Operating {
	if !s.begun {
		s.begun, s.t = true, t
	}
	for t-s.t > longestStep && !b.Open && !b.Reversed {
		b.pass(s, s.t+longestStep)
		b.settle(s, source, load)
	}
	b.pass(s, t)
	return b.settle(s, source, load)
}

// pass lets time go by at the present current.
func (b Battery) pass(s *State, t float64) {
	dt := max(t-s.t, 0)
	s.t = t
	capacity := b.Now(s)
	state := s.Charge / capacity
	flow, wasted := s.amps, 0.0
	if flow > 0 {
		kept := b.Chemistry.stored(state)
		wasted = flow * (1 - kept) * s.volts * b.Chemistry.Warms
		flow *= kept
		s.drawn = 0
	}
	flow -= b.SelfDischarge * max(s.Charge, 0) / month
	s.Charge = min(max(s.Charge+flow*dt, -0.02*capacity), 1.05*capacity)
	if s.amps < 0 {
		taken := -s.amps * dt
		s.drawn += taken
		s.lost += b.Fade * taken
		s.awake += (b.Dormant - s.awake) * (1 - math.Exp(-math.Log(3)*taken/b.Capacity))
	}
	relax := func(volts *float64, ohms, tau float64) {
		*volts += (s.amps*ohms - *volts) * (1 - math.Exp(-dt/tau))
	}
	relax(&s.fast, b.FastOhms, b.FastTau)
	relax(&s.slow, b.SlowOhms, b.SlowTau)
	loss := b.heat(s.amps) + wasted
	s.warmth += (loss*b.ThermalOhms - s.warmth) * (1 - math.Exp(-dt/b.ThermalTau))
	switch {
	case b.Collapse > 0 && s.amps < 0 && s.Charge/capacity < b.Collapse:
		now := s.Charge / capacity
		below := dt // for how long of the step the cell had too little in it
		if state > b.Collapse {
			below = dt * (b.Collapse - now) / (state - now)
		}
		s.fallen = min(s.fallen+b.CollapseVolts*below, b.Chemistry.at(0.3))
	case s.amps >= 0:
		s.fallen *= math.Exp(-dt / 5)
	}
}

// settle is the operating point with what the terminals see now.
func (b Battery) settle(s *State, source plant.Source, load plant.Load) plant.Operating {
	if b.Open {
		s.amps = 0
		return poles(offVolts(source), plant.Ambient+s.warmth)
	}
	inner := b.inner(s)
	if b.Reversed {
		// A supply or load must not be switched onto a reversed pack; what happens then is left to the fuse.
		s.amps = 0
		return poles(-inner, plant.Ambient+s.warmth)
	}
	in, out := b.solve(inner, source, load)
	s.amps = in - out
	s.volts = inner + s.amps*b.Ohmic
	o := poles(s.volts, plant.Ambient+s.warmth)
	o.Line.Amps, o.Output.Amps, o.Heat = in, out, b.heat(s.amps)
	o.Line.Limited = source.On && in >= source.Amps*0.999
	return o
}

// poles is the operating point of a battery with its volts, at which nothing flows.
func poles(volts, celsius float64) plant.Operating {
	return plant.Operating{Line: plant.Seen{Volts: volts}, Output: plant.Seen{Volts: volts}, Celsius: celsius}
}

// inner is the voltage behind the ohmic resistance.
func (b Battery) inner(s *State) float64 {
	return b.OpenCircuit(s.Charge/b.Now(s)) + s.fast + s.slow - s.fallen + b.Chemistry.PerKelvin*float64(b.Series)*s.warmth
}

// heat is what its resistances turn into heat at a current, W.
func (b Battery) heat(amps float64) float64 { return amps * amps * (b.Ohmic + b.FastOhms + b.SlowOhms) }

func offVolts(s plant.Source) float64 {
	if s.On {
		return s.Volts
	}
	return 0
}

// solve finds what a source gives and a load takes, together.
func (b Battery) solve(inner float64, source plant.Source, load plant.Load) (in, out float64) {
	for range 30 {
		volts := inner + (in-out)*b.Ohmic
		next := load.Takes(volts)
		if math.IsInf(next, 1) { // constant voltage below the pack's: all that brings it there
			next = max((inner+in*b.Ohmic-load.Level)/b.Ohmic, 0)
		}
		out = min(next, 200)
		if source.On {
			in = min(max((source.Volts-inner)/b.Ohmic+out, 0), source.Amps)
		}
	}
	return in, out
}

// ToCutoff is the truth of a discharge at constant current: how long it takes, s, until the volts of a rested
// battery in the given state have fallen to the cutoff, and the charge that it gave till then, A·s.
func (b Battery) ToCutoff(s State, amps, cutoff float64) (seconds, charge float64) {
	load := plant.Load{On: true, Mode: plant.ConstantCurrent, Level: amps}
	b.At(&s, s.t, plant.Source{}, load)
	began := s.t
	for range 10_000_000 {
		before := s
		if b.At(&s, s.t+1, plant.Source{}, load).Output.Volts > cutoff {
			continue
		}
		low, high := before.t, before.t+1
		for range 50 {
			middle, trial := (low+high)/2, before
			if b.At(&trial, middle, plant.Source{}, load).Output.Volts > cutoff {
				low = middle
			} else {
				high = middle
			}
		}
		return high - began, amps * (high - began)
	}
	return math.Inf(1), math.Inf(1)
}

// A pack of ratings alone: how its resistance is divided, with what time constants, and for how long a pulse is that
// measures the rated one, s.
const (
	ohmicShare, fastShare, slowShare = 0.5, 0.2, 0.3
	fastTau, slowTau, ratedPulse     = 12.0, 240.0, 10.0
)

// fromRatings makes a pack from its ratings: with the rated resistance, else with one by which it sags by 3 % at 1 C.
func fromRatings(a plant.Asked) (Battery, error) {
	volts, haveVolts := a.Rating("rated_volts")
	capacity, haveCapacity := a.Rating("rated_capacity")
	if !haveVolts || !haveCapacity || volts <= 0 || capacity <= 0 {
		return Battery{}, errors.New("a battery is modelled from its ratings rated_volts and rated_capacity; state both")
	}
	cells, ok := chemistries[a.Chemistry]
	if !ok {
		cells = chemistries["NMC"]
	}
	series := a.Series
	if series <= 0 {
		series = max(int(math.Round(volts/cells.at(plant.HalfFull))), 1)
	}
	ohms := 0.03 * volts / (capacity / 3600)
	if rated, stated := a.Rating("rated_resistance"); stated && rated > 0 {
		ohms = rated / (ohmicShare + fastShare*(1-math.Exp(-ratedPulse/fastTau)) +
			slowShare*(1-math.Exp(-ratedPulse/slowTau)))
	}
	b := Battery{Chemistry: cells, Series: series, Parallel: 1, Capacity: capacity, Ohmic: ohmicShare * ohms,
		FastOhms: fastShare * ohms, FastTau: fastTau,
		SlowOhms: slowShare * ohms, SlowTau: slowTau, ThermalOhms: 30 / (volts * capacity / 3600 * 0.1), ThermalTau: 900,
		SelfDischarge: 0.03, Fade: 3e-4}
	return b, faults.Apply(a.Fault, battery, &b)
}
