package simbench

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"usherbench/simbench/plant"
)

// fixture joins what feeds a unit, the unit, and what drains it, in the bench's own time.
type fixture struct {
	name  string
	clock clock
	// battery tells the two kinds of units apart.
	battery bool
	series  bool // what feeds it stands in series, not in parallel
	mu      sync.Mutex
	feeds   []*feed
	drains  []*drain
	// setVolts and setAmps are what the stand-ins make of setpoints, for the truth of tests.
	setVolts, setAmps func(float64) float64
	serial            string
	fault             plant.Fault
	unit              plant.Converter
	state             plant.State
	standard          string // the model of a battery that is not named
	pack              plant.Storage
	shelf             map[string]plant.Storage // batteries that were in this bay before, as they were left
	history           []Switching
	// charger is somebody else's charger at the battery, which nobody here controls; nil: there is none.
	charger *plant.Charger
	plug    plant.ChargerState
	last    plant.Operating
}

// feed is one output that feeds a unit, drain one input that takes from it.
type feed struct {
	fixture *fixture
	source  plant.Source
}

type drain struct {
	fixture *fixture
	load    plant.Load
}

// Switching is an entry of the bench's own record: an output went on or off.
type Switching struct {
	At   time.Time `json:"at"`
	What string    `json:"what"` // "source" or "load"
	On   bool      `json:"on"`
}

const longestHistory = 1000

// clip puts a unit in place. A battery of a model that is not named is the fixture's standard one; one that was
// here before has kept its charge.
func (f *fixture) clip(model, serial string, fault plant.Fault) error {
	if !f.battery {
		unit, err := plant.Tern(serial, fault)
		if err != nil {
			return err
		}
		f.mu.Lock()
		defer f.mu.Unlock()
		f.serial, f.fault, f.unit, f.state = serial, fault, unit, plant.State{}
		return nil
	}
	if model == "" {
		model = f.standard
	}
	unit, err := plant.Model{Name: model}.New(serial, fault, plant.HalfFull)
	if err != nil {
		return err
	}
	pack, ok := unit.(plant.Storage)
	if !ok {
		return fmt.Errorf("%s is wired for batteries, and a %s is none", f.name, model)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.shelf == nil {
		f.shelf = map[string]plant.Storage{}
	}
	key := model + " " + serial
	if before, ok := f.shelf[key]; ok {
		before.Remake(pack)
		pack = before
	}
	f.shelf[key] = pack
	f.serial, f.fault, f.pack = serial, fault, pack
	return nil
}

func (f *fixture) newFeed() *feed {
	x := &feed{fixture: f}
	f.feeds = append(f.feeds, x)
	return x
}

func (f *fixture) newDrain() *drain {
	x := &drain{fixture: f}
	f.drains = append(f.drains, x)
	return x
}

func (x *feed) set(s plant.Source) {
	if x == nil {
		return
	}
	f := x.fixture
	f.mu.Lock()
	defer f.mu.Unlock()
	before := f.source().On
	x.source = s
	f.note("source", before, f.source().On)
	f.now()
}

func (x *drain) set(l plant.Load) {
	if x == nil {
		return
	}
	f := x.fixture
	f.mu.Lock()
	defer f.mu.Unlock()
	before := f.load().On
	x.load = l
	f.note("load", before, f.load().On)
	f.now()
}

func (f *fixture) note(what string, before, after bool) {
	if before != after {
		f.history = append(f.history, Switching{time.Now(), what, after})
		f.history = f.history[max(0, len(f.history)-longestHistory):]
	}
}

// source is what all feeds give together.
func (f *fixture) source() (s plant.Source) {
	for _, x := range f.feeds {
		switch {
		case !x.source.On && f.series:
			return plant.Source{}
		case !x.source.On:
		case f.series && s.On:
			s.Volts, s.Amps = s.Volts+x.source.Volts, min(s.Amps, x.source.Amps)
		case s.On:
			s.Volts, s.Amps = max(s.Volts, x.source.Volts), s.Amps+x.source.Amps
		default:
			s = x.source
		}
	}
	return s
}

// load is what all drains take together; they are in one mode.
func (f *fixture) load() (l plant.Load) {
	for _, x := range f.drains {
		switch {
		case !x.load.On:
		case !l.On:
			l = x.load
		case l.Mode == plant.ConstantResistance:
			l.Level = 1 / (1/l.Level + 1/x.load.Level)
		case l.Mode != plant.ConstantVoltage:
			l.Level += x.load.Level
		}
	}
	return l
}

// now moves the unit to the present. The lock is held.
func (f *fixture) now() plant.Operating {
	if f.battery {
		source := f.source()
		if f.charger != nil {
			if s := f.charger.At(&f.plug, f.clock.now(), f.last.LineVolts, f.last.LineAmps); s.On {
				source = s
			}
		}
		f.last = f.pack.At(f.clock.now(), source, f.load())
		return f.last
	}
	return f.unit.At(&f.state, f.clock.now(), f.source(), f.load())
}

func (f *fixture) operating() plant.Operating {
	if f == nil {
		return plant.Operating{Celsius: plant.Ambient}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.now()
}

// operating is this feed's part of the operating point.
func (x *feed) operating() plant.Operating {
	if x == nil {
		return plant.Operating{}
	}
	f := x.fixture
	f.mu.Lock()
	defer f.mu.Unlock()
	o, all := f.now(), f.source()
	switch {
	case !x.source.On && !f.battery:
		return plant.Operating{LineVolts: o.LineVolts * map[bool]float64{true: 0, false: 1}[f.series], Celsius: o.Celsius}
	case !x.source.On:
		o.LineAmps = 0
	case f.series:
		o.LineVolts *= x.source.Volts / all.Volts
	case all.Amps > 0:
		o.LineAmps *= x.source.Amps / all.Amps
	}
	return o
}

// operating is this drain's part of the operating point.
func (x *drain) operating() plant.Operating {
	if x == nil {
		return plant.Operating{}
	}
	f := x.fixture
	f.mu.Lock()
	defer f.mu.Unlock()
	o, all := f.now(), f.load()
	switch {
	case !x.load.On:
		o.LoadAmps = 0
	case len(f.drains) > 1 && all.Mode == plant.ConstantResistance:
		o.LoadAmps *= all.Level / x.load.Level
	case len(f.drains) > 1 && all.Level > 0 && all.Mode != plant.ConstantVoltage:
		o.LoadAmps *= x.load.Level / all.Level
	}
	return o
}

// BayState is what the bench itself knows about a bay.
type BayState struct {
	Bay      string          `json:"bay"`
	Serial   string          `json:"serial"`
	Fault    string          `json:"fault,omitempty"`
	SourceOn bool            `json:"sourceOn"`
	LoadOn   bool            `json:"loadOn"`
	Truth    plant.Operating `json:"truth"`
	// Charge is the state of charge of a battery, 0 … 1.
	Charge float64 `json:"charge,omitempty"`
	// Spread is how far apart the states of charge of cells side by side are.
	Spread float64 `json:"spread,omitempty"`
	// Charger is the stage of a charger of somebody else's; empty if there is none.
	Charger string      `json:"charger,omitempty"`
	History []Switching `json:"history"`
}

// State tells what is in a bay, what is on, and the true operating point.
func (b *Bench) State(bay string) (BayState, error) {
	f, err := b.fixture(bay)
	if err != nil {
		return BayState{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	s := BayState{Bay: f.name, Serial: f.serial, Fault: string(f.fault), SourceOn: f.source().On, LoadOn: f.load().On,
		Truth: f.now(), History: slices.Clone(f.history)}
	if f.battery {
		s.Charger = f.plug.Stage()
		s.Charge = f.pack.StateOfCharge()
		if bank, ok := f.pack.(*plant.Bank); ok {
			s.Spread = bank.Spread()
		}
	}
	return s, nil
}

// Plug connects or pulls the charger that a battery has of its own.
func (b *Bench) Plug(bay string, on bool) error {
	f, err := b.fixture(bay)
	if err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.charger == nil {
		return fmt.Errorf("%s has no charger; choose the layout %s", bay, Charged)
	}
	f.now()
	f.plug.Plugged = on
	return nil
}
