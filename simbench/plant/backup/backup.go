// Package backup is the physics of back-up supplies: three-phase units of several modules, each of which feeds the
// output from the mains, or from a battery while these are away.
package backup

import (
	"cmp"
	"errors"
	"math"
	"slices"

	"usherbench/simbench/plant"
)

// Supply is a back-up supply. Volts are those of a phase to neutral, powers those of all phases.
type Supply struct {
	Modules []Module
	Volts   float64
	Droop   float64 // of the output, V at full power
	Lowest  float64 // of the mains from which it works
	Store   float64 // what the full battery gives, W·s
	Refills float64 // W with which the battery is filled again
}

// Module is one of the modules of a supply.
type Module struct {
	Most float64 // power that it can give, W
	// What it loses is Fixed + Share·P + P²/Square, W.
	Fixed, Share, Square float64
	// Rise is how much warmer its bus bar gets at its rated power, K.
	Rise float64
}

// rated is the power of a module that is whole, W; slow is the time constant of a bus bar, s; starts is how long the
// mains are there before the output is, s.
const (
	rated  = 20e3
	slow   = 420.0
	starts = 2.0
)

// Faults of back-up supplies.
const (
	HotBar      plant.Fault = "hot-bar"      // a joint of the first bus bar is loose
	WeakModule  plant.Fault = "weak-module"  // the second module gives little more than half
	TiredStore  plant.Fault = "tired-store"  // the battery holds a third
	LossyModule plant.Fault = "lossy-module" // the third module loses twice as much
)

var faults = plant.Faults[*Supply]{
	plant.Healthy:  func(*Supply) {},
	HotBar:         func(s *Supply) { s.Modules[0].Rise *= 2.9 },
	WeakModule:     func(s *Supply) { s.Modules[min(1, len(s.Modules)-1)].Most = 0.6 * rated },
	TiredStore:     func(s *Supply) { s.Store /= 3 },
	LossyModule:    func(s *Supply) { last := &s.Modules[len(s.Modules)-1]; last.Share *= 2; last.Fixed *= 2 },
	plant.DeadUnit: func(s *Supply) { s.Lowest = math.Inf(1) },
}

// Types of units of this package.
func Types() []plant.Type {
	made := func(name string, by func(plant.Asked) (Supply, error)) plant.Type {
		return plant.Type{Name: name, Kind: "back-up supply", Faults: faults.Names(),
			New: func(asked plant.Asked) (plant.Unit, error) {
				s, err := by(asked)
				if err != nil {
					return nil, err
				}
				return New(s), nil
			}}
	}
	return []plant.Type{
		made("kittiwake", func(a plant.Asked) (Supply, error) { return Kittiwake(a.Serial, a.Fault) }), made("", fromRatings)}
}

// Kittiwake is the back-up supply of the scenario: three modules of 20 kW.
func Kittiwake(serial string, fault plant.Fault) (Supply, error) { return of(3, 230, serial, fault) }

func of(modules int, volts float64, serial string, fault plant.Fault) (Supply, error) {
	spread := plant.TolerancesOf(serial, 0x817)
	s := Supply{Volts: spread(volts, 0.002), Droop: spread(2, 0.1), Lowest: 0.85 * volts, Refills: 1200,
		Store: spread(float64(modules)*1.3*3.6e6, 0.04)}
	for range modules {
		s.Modules = append(s.Modules, Module{Most: spread(1.1*rated, 0.01), Fixed: spread(160, 0.05),
			Share: spread(0.021, 0.04), Square: spread(2.4e6, 0.05), Rise: spread(24, 0.05)})
	}
	return s, faults.Apply(fault, "a back-up supply", &s)
}

func fromRatings(asked plant.Asked) (Supply, error) {
	modules, ok := asked.Rating("modules")
	volts, known := asked.Rating("nominal_line")
	if !ok || !known || modules < 1 || modules > 40 || volts <= 0 {
		return Supply{}, errors.New("a back-up supply is modelled from modules and nominal_line; state both")
	}
	return of(int(modules), volts, asked.Serial, asked.Fault)
}

// Limit is the power that it can give, W.
func (s Supply) Limit() (sum float64) {
	for _, m := range s.Modules {
		sum += m.Most
	}
	return sum
}

// shares are what each module gives of a power: the same, and what one cannot the others do.
func (s Supply) shares(power float64) []float64 {
	given := make([]float64, len(s.Modules))
	weakest := make([]int, len(given))
	for i := range weakest {
		weakest[i] = i
	}
	slices.SortStableFunc(weakest, func(a, b int) int { return cmp.Compare(s.Modules[a].Most, s.Modules[b].Most) })
	left := math.Min(power, s.Limit())
	for done, i := range weakest {
		given[i] = math.Min(left/float64(len(given)-done), s.Modules[i].Most)
		left -= given[i]
	}
	return given
}

// Loss is what stays in the unit while it gives a power, W.
func (s Supply) Loss(power float64) (sum float64) {
	for i, p := range s.shares(power) {
		m := s.Modules[i]
		sum += m.Fixed + m.Share*p + p*p/m.Square
	}
	return sum
}

// Settled is how warm the bus bar of each module gets in the end, °C.
func (s Supply) Settled(power float64) []float64 {
	celsius := s.shares(power)
	for i, p := range celsius {
		celsius[i] = plant.Ambient + s.Modules[i].Rise*(p/rated)*(p/rated)
	}
	return celsius
}

// Unit is a supply with what it remembers.
type Unit struct {
	Supply Supply
	bars   []float64 // °C
	held   float64   // in the battery, W·s
	at     float64
	began  bool
	since  float64 // how long the mains are there, s
	gives  bool
	given  float64 // power, W
}

// New is a supply whose battery is full.
func New(s Supply) *Unit {
	u := &Unit{Supply: s, held: s.Store, bars: make([]float64, len(s.Modules))}
	for i := range u.bars {
		u.bars[i] = plant.Ambient
	}
	return u
}

// Bars are the temperatures of the bus bars, the first module's first, °C.
func (u *Unit) Bars() []float64 { return u.bars }

// PassedBy implements plant.Passed.
func (*Unit) PassedBy() {}

// At implements plant.Unit.
func (u *Unit) At(t float64, joined plant.Joined) plant.Operating {
	if !joined.Bypass {
		return u.step(t, joined).around(joined)
	}
	o := u.step(t, plant.Joined{})
	o.Line, o.Output = plant.Seen{}, plant.Seen{}
	if joined.Line.On && joined.Line.Hertz > 0 {
		o.Output = ThreePhase(joined.Line, joined.Line.Volts*joined.Output.Takes(joined.Line.Volts))
	}
	return o.around(joined)
}

// operating is an operating point of which is still to be said what the mains gives.
type operating plant.Operating

// around is the operating point with what the mains gives to everything.
func (o operating) around(joined plant.Joined) plant.Operating {
	mains := plant.Seen{}
	if joined.Line.On && joined.Line.Hertz > 0 {
		power := plant.Operating(o).Line.Watts() - joined.Back.Of(o.Output.Watts())
		if joined.Bypass {
			power += o.Output.Watts()
		}
		mains = ThreePhase(joined.Line, power)
		mains.Amps = math.Abs(mains.Amps)
	}
	o.Mains = &mains
	return plant.Operating(o)
}

// step is the operating point of the unit by itself.
func (u *Unit) step(t float64, joined plant.Joined) operating {
	dt := 0.0
	if u.began {
		dt = math.Max(t-u.at, 0)
	}
	u.at, u.began = t, true
	s := u.Supply
	for i, end := range s.Settled(u.given) {
		u.bars[i] = end + (u.bars[i]-end)*math.Exp(-dt/slow)
	}
	mains := joined.Line.On && joined.Line.Hertz > 0 && joined.Line.Volts >= s.Lowest
	if mains {
		u.since += dt
		u.held = math.Min(u.held+s.Refills*dt, s.Store)
	} else {
		u.since = 0
		if u.gives {
			u.held = math.Max(u.held-(u.given+s.Loss(u.given))*dt, 0)
		}
	}
	u.gives = u.gives && (mains || u.held > 0) || mains && u.since >= starts
	o := operating{Celsius: u.bars[0], Line: plant.Seen{Volts: joined.Line.Volts}}
	if !joined.Line.On {
		o.Line.Volts = 0
	}
	u.given = 0
	if u.gives {
		o.Output = u.output(joined.Output)
		u.given = o.Output.Watts()
	}
	if mains {
		o.Heat = s.Modules[0].Fixed
		if u.gives {
			o.Heat = s.Loss(u.given)
		}
		power := u.given + o.Heat
		if u.held < s.Store {
			power += s.Refills
		}
		o.Line = ThreePhase(joined.Line, power)
	} else if u.gives {
		o.Heat = s.Loss(u.given)
	}
	return o
}

// output is what it gives to a load. What is asked for beyond its limit pulls the volts down.
func (u *Unit) output(load plant.Load) plant.Seen {
	s := u.Supply
	volts := s.Volts
	asked := volts * load.Takes(volts)
	if math.IsInf(asked, 1) || asked > s.Limit() {
		if !math.IsInf(asked, 1) {
			volts *= s.Limit() / asked
		}
		asked = s.Limit()
	}
	volts -= s.Droop * asked / (rated * float64(len(s.Modules)))
	return ThreePhase(plant.Source{On: true, Volts: volts, Hertz: 50}, asked)
}

// ThreePhase is what is seen of three phases that give a power together: the mean of their volts and of their amps.
func ThreePhase(line plant.Source, power float64) plant.Seen {
	seen := plant.SineOf(line, power/3)
	seen.Wave.Power, seen.Wave.Phases = power, 3
	return seen
}
