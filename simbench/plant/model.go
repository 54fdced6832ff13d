package plant

import (
	"fmt"
	"math"
	"strings"
)

// Unit is a plant with its state, as something that is tested.
type Unit interface {
	// At is the operating point at time t, s; it must be called with increasing t.
	At(t float64, source Source, load Load) Operating
}

// Model says which plant stands for a type of unit: one of the known ones by Name, or one that is made from ratings.
type Model struct {
	// Name of a known plant; empty: one for Kind from the ratings.
	Name string
	// Kind of the unit: converter, battery.
	Kind string
	// Chemistry of a battery; empty: NMC. Series is its number of cells in series; 0: as its rated volts suggest.
	Chemistry string
	Series    int
	// Rating gives a rating in SI; ok is false if it is not stated.
	Rating func(name string) (x float64, ok bool)
}

// Storage is a unit that keeps charge.
type Storage interface {
	Unit
	// StateOfCharge is 0 … 1 of the capacity that it has by now.
	StateOfCharge() float64
	// Remake gives it the properties of another of its kind, as when a fault comes or is mended; it keeps its charge.
	Remake(as Storage)
}

// Names lists the known plants.
func Names() []string { return []string{"gannet", "gannet-bank", "gannet-cell", "tern"} }

// HalfFull is the state of charge at which a battery begins when nothing else is said.
const HalfFull = 0.55

// New makes a unit. Its tolerances are drawn from the serial number; an empty one makes the unit with nominal
// values. state is the state of charge at which a battery begins, 0 … 1.
func (m Model) New(serial string, fault Fault, state float64) (Unit, error) {
	switch {
	case m.Name == "tern":
		c, err := Tern(serial, fault)
		return &converterUnit{converter: c}, err
	case m.Name == "gannet":
		b, err := Gannet(serial, fault)
		return NewUnit(b, state), err
	case m.Name == "gannet-cell":
		b, err := GannetCell(serial, fault)
		return NewUnit(b, state), err
	case m.Name == "gannet-bank":
		return GannetBank(serial, fault, state)
	case m.Name != "":
		return nil, fmt.Errorf("there is no plant %q; known: %s", m.Name, strings.Join(Names(), ", "))
	case m.Kind == "converter":
		c, err := m.converter(fault)
		return &converterUnit{converter: c}, err
	case m.Kind == "battery":
		b, err := m.battery(fault)
		return NewUnit(b, state), err
	}
	return nil, fmt.Errorf("there is no plant for a unit of kind %q; known kinds: battery, converter", m.Kind)
}

// Faults lists the faults that the model's unit can have.
func (m Model) Faults() []string {
	if m.Name == "gannet-bank" {
		return namesOf(bankFaults)
	}
	if m.Kind == "battery" || m.Name == "gannet" || m.Name == "gannet-cell" {
		return namesOf(batteryFaults)
	}
	return Faults()
}

type converterUnit struct {
	converter Converter
	state     State
}

func (u *converterUnit) At(t float64, source Source, load Load) Operating {
	return u.converter.At(&u.state, t, source, load)
}

// BatteryUnit is a battery with its state.
type BatteryUnit struct {
	Battery Battery
	State   BatteryState
}

// NewUnit is a rested battery at a state of charge, 0 … 1.
func NewUnit(b Battery, state float64) *BatteryUnit {
	return &BatteryUnit{b, BatteryState{Charge: state * (b.Capacity - b.Dormant)}}
}

// At is the operating point at time t.
func (u *BatteryUnit) At(t float64, source Source, load Load) Operating {
	return u.Battery.At(&u.State, t, source, load)
}

// StateOfCharge is the charge in it over the capacity that it has by now.
func (u *BatteryUnit) StateOfCharge() float64 { return u.State.Charge / u.Battery.Now(&u.State) }

// Remake makes it another battery with the same charge in it.
func (u *BatteryUnit) Remake(as Storage) {
	if other, ok := as.(*BatteryUnit); ok {
		u.Battery = other.Battery
	}
}

// converter makes a step-down module from its ratings: losses such that it has its rated efficiency (90 % if
// none is stated) at full load.
func (m Model) converter(fault Fault) (Converter, error) {
	apply, ok := converterFaults[fault]
	if !ok {
		return Converter{}, fmt.Errorf("%q is not a fault of a converter; known: %v", fault, Faults())
	}
	volts, haveVolts := m.Rating("rated_volts")
	amps, haveAmps := m.Rating("rated_current")
	if !haveVolts || !haveAmps || volts <= 0 || amps <= 0 {
		return Converter{}, fmt.Errorf("a converter is modelled from its ratings rated_volts and rated_current; state both")
	}
	or := func(name string, fallback float64) float64 {
		if x, ok := m.Rating(name); ok && x > 0 {
			return x
		}
		return fallback
	}
	nominal := or("nominal_line", 2*volts)
	lowest := or("lowest_line", 0.75*nominal)
	watts := volts * amps
	loss := watts * (1/math.Min(or("rated_efficiency", 0.9), 0.999) - 1)
	quiescent := math.Min(or("no_load_power", 0.15*loss), 0.6*loss)
	c := Converter{
		Rated: volts, Nominal: nominal, LineSlope: -2e-5 * volts, Resistance: 0.002 * volts / amps, Quiescent: quiescent,
		QuiescentAt: 0.006,
		Diode:       0.2 * (loss - quiescent) / amps, Conduction: 0.8 * (loss - quiescent) / (amps * amps),
		LockoutOn: 0.97 * lowest, LockoutOff: 0.92 * lowest, CurrentLimit: 1.3 * amps, SoftStart: 20e-3, Ring: 4000,
		Damping: 0.35, Overshoot: 0.003 * volts / amps,
	}
	apply(&c)
	return c, nil
}

// battery makes a pack from its ratings, with resistances such that it sags by 3 % at 1 C.
func (m Model) battery(fault Fault) (Battery, error) {
	volts, haveVolts := m.Rating("rated_volts")
	capacity, haveCapacity := m.Rating("rated_capacity")
	if !haveVolts || !haveCapacity || volts <= 0 || capacity <= 0 {
		return Battery{}, fmt.Errorf("a battery is modelled from its ratings rated_volts and rated_capacity; state both")
	}
	cells, ok := chemistries[m.Chemistry]
	if !ok {
		cells = chemistries["NMC"]
	}
	series := m.Series
	if series <= 0 {
		series = max(int(math.Round(volts/cells.at(HalfFull))), 1)
	}
	ohms := 0.03 * volts / (capacity / 3600)
	b := Battery{Chemistry: cells, Series: series, Parallel: 1, Capacity: capacity, Ohmic: 0.5 * ohms,
		FastOhms: 0.2 * ohms, FastTau: 12,
		SlowOhms: 0.3 * ohms, SlowTau: 240, ThermalOhms: 30 / (volts * capacity / 3600 * 0.1), ThermalTau: 900,
		SelfDischarge: 0.03, Fade: 3e-4}
	return b, b.apply(fault)
}
