package simbench

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"usherbench/core/budget"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/charger"
	"usherbench/simbench/units"
)

// fixture joins what feeds a unit, the unit, and what drains it, in the bench's own time.
type fixture struct {
	name     string
	clock    clock
	standard string  // the unit that is in place when nothing else is said
	leads    float64 // to every load, Ω
	series   bool    // what feeds it stands in series, not in parallel
	mu       sync.Mutex
	feeds    []*feed
	drains   []*drain
	// setVolts and setAmps are what the stand-ins make of setpoints, for the truth of tests; amps of each output.
	setVolts func(float64) float64
	setAmps  []func(float64) float64
	serial   string
	fault    plant.Fault
	contact  contact
	unit     plant.Unit
	stored   plant.Storage            // the unit, if it keeps charge
	shelf    map[string]plant.Storage // those that were in this bay before, as they were left
	history  []Switching
	// charger is somebody else's charger at the battery, which nobody here controls; nil: there is none.
	charger *charger.Charger
	plug    charger.State
	last    plant.Operating
	sink    plant.Sink // at the port of a charger
	// bypass joins the output to the line past the unit; back is what a load gives back to the line.
	bypass bool
	back   plant.Back
	shaft  plant.Brake    // of a machine
	drive  plant.Command  // of what moves
	signal plant.Signal   // at the input of an amplifier
	borne  *budget.Ledger // by what drains it, where that bears little for long; nil: it bears everything
	most   float64        // mean power that it has borne over its window, W
	gate   *gate          // before the unit; nil: there is none
}

// feed is one output that feeds a unit, drain one input that takes from it.
type feed struct {
	fixture *fixture
	source  plant.Source
	// shape is what becomes of alternating volts by now: distorted, drifting; nil: they are as they were set.
	shape func(plant.Source) plant.Source
}

type drain struct {
	fixture *fixture
	output  int // of the unit that it drains, from 0
	load    plant.Load
}

// name is how the bench's own record calls it.
func (x *drain) name() string { return numbered("load", x.output) }

// Switching is an entry of the bench's own record: an output went on or off.
type Switching struct {
	At   time.Time `json:"at"`
	What string    `json:"what"` // "source", "load", "load2" …
	On   bool      `json:"on"`
}

const longestHistory = 1000

// clip puts a unit in place; without a model it is the fixture's standard one. What keeps charge and was here before
// has kept it.
func (f *fixture) clip(model, serial string, fault plant.Fault) error {
	if model == "" {
		model = f.standard
	}
	own := fault
	if isContact(fault) {
		own = plant.Healthy
	}
	unit, err := units.Model{Name: model}.New(serial, own, plant.HalfFull)
	if err != nil {
		return err
	}
	stored, keeps := unit.(plant.Storage)
	f.mu.Lock()
	defer f.mu.Unlock()
	if wired := f.stored != nil; f.unit != nil && keeps != wired {
		return fmt.Errorf("%s is wired for units like the %s, and a %s is none", f.name, f.standard, model)
	}
	if keeps {
		stored = f.fromShelf(model+" "+serial, stored)
		unit = stored
	}
	f.serial, f.fault, f.unit, f.stored = serial, fault, unit, stored
	f.contact.clip(serial, fault)
	return nil
}

// fromShelf is the unit of this bay by that key with the charge that it has kept, or the fresh one.
func (f *fixture) fromShelf(key string, fresh plant.Storage) plant.Storage {
	if f.shelf == nil {
		f.shelf = map[string]plant.Storage{}
	}
	if before, ok := f.shelf[key]; ok {
		before.Remake(fresh)
		return before
	}
	f.shelf[key] = fresh
	return fresh
}

func (f *fixture) newFeed() *feed {
	x := &feed{fixture: f}
	f.feeds = append(f.feeds, x)
	return x
}

func (f *fixture) newDrain() *drain { return f.newDrainAt(0) }

// newDrainAt drains one of several outputs.
func (f *fixture) newDrainAt(output int) *drain {
	x := &drain{fixture: f, output: output}
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
	before := f.load(x.output).On
	x.load = l
	f.note(x.name(), before, f.load(x.output).On)
	f.now()
}

// attach joins a sink to the unit's port, or has it ask for something else.
func (f *fixture) attach(s plant.Sink) {
	f.mu.Lock()
	defer f.mu.Unlock()
	before := f.sink.On
	f.sink = s
	f.note("contract", before, s.On)
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
			if x.shape != nil {
				s = x.shape(s)
			}
		}
	}
	return s
}

// joined is what is at the unit's outputs.
func (f *fixture) joined(source plant.Source) plant.Joined {
	j := plant.Joined{Line: source, Output: f.load(0), Sink: f.sink, Bypass: f.bypass, Back: f.back,
		Shaft: f.shaft, Drive: f.drive, Signal: f.signal}
	for _, x := range f.drains {
		for len(j.Further) < x.output {
			j.Further = append(j.Further, plant.Joint{Load: f.load(len(j.Further) + 1)})
		}
	}
	return j
}

// draining tells whether anything drains the unit.
func (f *fixture) draining() bool {
	return f.shaft.On || f.drive.On || slices.ContainsFunc(f.drains, func(x *drain) bool { return x.load.On })
}

// load is what all drains of an output take together; they are in one mode.
func (f *fixture) load(output int) (l plant.Load) {
	for _, x := range f.drains {
		switch {
		case x.output != output || !x.load.On:
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
	if f.borne != nil { // what was joined until now
		f.borne.Take(f.clock.now(), f.last.Output.Watts())
		f.most = max(f.most, f.borne.Mean())
	}
	source := f.source()
	if f.charger != nil {
		if s := f.charger.At(&f.plug, f.clock.now(), f.last.Line.Volts, f.last.Line.Amps); s.On {
			source = s
		}
	}
	if f.contact.open(f.clock.now()) {
		f.last = f.unit.At(f.clock.now(), plant.Joined{Further: make([]plant.Joint, len(f.joined(source).Further))})
		f.last.Line.Volts, f.last.Line.Amps, f.last.Output = source.Volts, 0, plant.Seen{}
		return f.last
	}
	source, limited := f.held(source)
	f.last = f.unit.At(f.clock.now(), f.joined(f.gate.behind(source, f.clock.now())))
	if f.gate != nil && source.On {
		f.last.Line.Volts = source.Volts // what is read of the line is read before the gate
	}
	f.last.Line.Limited = f.last.Line.Limited || limited
	return f.last
}

// held is a source of alternating volts in its current limit: its volts give way until the unit takes no more. What
// takes the more the lower its volts are gives up below the least that it works from.
func (f *fixture) held(s plant.Source) (held plant.Source, limited bool) {
	unit, ok := f.unit.(plant.Steady)
	if !ok || !s.On || s.Hertz == 0 || !f.draining() {
		return s, false
	}
	over := func(volts float64) bool {
		at := s
		at.Volts = volts
		return unit.Steady(f.joined(at)).Line.Amps > s.Amps
	}
	if !over(s.Volts) {
		return s, false
	}
	low, high := 0.0, s.Volts
	for range 30 {
		if middle := (low + high) / 2; over(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	s.Volts = low
	return s, true
}

// plantTime is the time of the plants.
func (f *fixture) plantTime() float64 { return f.clock.now() }

// waves has somebody look at what the terminals see at every instant, and at when something changed. Of a unit of
// which no more is known it is the operating point.
func (f *fixture) waves(look func(at func(t float64) plant.Operating, stirred []float64)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.now()
	if unit, ok := f.unit.(plant.Waving); ok {
		look(unit.Wave, unit.Stirred())
		return
	}
	look(func(float64) plant.Operating { return f.last }, nil)
}

// taken is the energy that flowed into the unit between two times, W·s.
func (f *fixture) taken(from, to float64) float64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	o := f.now()
	if unit, ok := f.unit.(plant.Integrating); ok {
		return unit.Taken(from, to)
	}
	return o.Line.Watts() * (to - from)
}

// drawn is the charge that the unit has taken of its line by now, A·s; ok is false where it cannot say.
func (f *fixture) drawn() (charge float64, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.now()
	unit, ok := f.unit.(plant.Counting)
	if !ok {
		return 0, false
	}
	return unit.Drawn(f.clock.now()), true
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
	if o.Mains != nil {
		o.Line = *o.Mains
	}
	switch {
	case !x.source.On && f.stored != nil:
		o.Line.Amps = 0 // the battery holds the terminals up
	case !x.source.On && f.series:
		return plant.Operating{Celsius: o.Celsius}
	case !x.source.On:
		return plant.Operating{Line: plant.Seen{Volts: o.Line.Volts}, Celsius: o.Celsius}
	case f.series:
		o.Line.Volts *= x.source.Volts / all.Volts
	case all.Amps > 0:
		o.Line.Amps *= x.source.Amps / all.Amps
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
	o, all := f.now(), f.load(x.output)
	if x.output > 0 {
		o.Output = plant.Seen{}
		if x.output <= len(o.Further) { // what flows out there is counted below zero
			o.Output = plant.Seen{Volts: o.Further[x.output-1].Volts, Amps: -o.Further[x.output-1].Amps}
		}
	}
	switch {
	case !x.load.On:
		o.Output.Amps = 0
	case all.Level == x.load.Level: // it is the only one
	case all.Mode == plant.ConstantResistance:
		o.Output.Amps *= all.Level / x.load.Level
	case all.Level > 0 && all.Mode != plant.ConstantVoltage:
		o.Output.Amps *= x.load.Level / all.Level
	}
	o.Output.Volts -= f.leads * o.Output.Amps
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
	s := BayState{Bay: f.name, Serial: f.serial, Fault: string(f.fault), SourceOn: f.source().On, LoadOn: f.draining(),
		Truth: f.now(), History: slices.Clone(f.history)}
	s.Charger = f.plug.Stage()
	if f.stored != nil {
		s.Charge = f.stored.StateOfCharge()
	}
	if cells, ok := f.unit.(interface{ Spread() float64 }); ok {
		s.Spread = cells.Spread()
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
