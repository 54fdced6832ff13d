// Package simbench is the simulated bench: stand-ins for a two-channel supply and an electronic load that speak SCPI over real
// sockets, joined by the physics of a unit under test. The service cannot tell them from hardware.
//
// The bench keeps its own record of what was on and off, and when, so that a test can ask the instrument and not the program
// under test whether an output was off.
package simbench

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"usherbench/simbench/plant"
)

// Options says what bench to build. The zero value is one bay with a healthy unit on free ports.
type Options struct {
	Bays int // number of bays, at least 1
	// SharedSupply feeds bays 1 and 2 from the two channels of one supply; otherwise each bay has a supply of its own.
	SharedSupply bool
	// BasePort is the first port; 0 takes free ones. A bay uses two: supply, load. The one before the first is the admin route's.
	BasePort int
	// TimeFactor speeds the bench's clock up, 1 … 3600.
	TimeFactor float64
	// Ideal leaves noise, instrument errors and rounding out.
	Ideal bool
	// OneConnection makes every instrument take one connection only; others wait until it is gone.
	OneConnection bool
	// Faulty names units that have a fault: serial number → fault.
	Faulty map[string]string
}

// Bench is a running simulated bench.
type Bench struct {
	options     Options
	clock       clock
	fixtures    []*fixture
	instruments []*Instrument
	admin       *admin
}

// Instrument is one stand-in on its socket.
type Instrument struct {
	Name, Address string
	Kind          string // "supply" or "load"
	listener      net.Listener
	in            *interpreter
	mu            sync.Mutex
	fault         InstrumentFault
	one           chan struct{} // holds a token if only one connection is taken
	conns         map[net.Conn]bool
	released      chan struct{} // closed when a hang ends
}

// InstrumentFault is something wrong with an instrument on purpose.
type InstrumentFault string

// The faults of instruments.
const (
	NoFault InstrumentFault = ""
	// Drop closes every connection and refuses new ones.
	Drop InstrumentFault = "drop"
	// Hang takes messages and does not answer.
	Hang InstrumentFault = "hang"
)

// clock is the bench's own time, which may run faster than the wall's.
type clock struct {
	start  time.Time
	factor float64
}

func (c clock) now() float64 { return time.Since(c.start).Seconds() * c.factor }

// Start builds the bench and begins to listen.
func Start(o Options) (*Bench, error) {
	o.Bays = max(o.Bays, 1)
	if o.TimeFactor == 0 {
		o.TimeFactor = 1
	}
	b := &Bench{options: o, clock: clock{time.Now(), o.TimeFactor}}
	port := o.BasePort
	next := func() int {
		if o.BasePort == 0 {
			return 0
		}
		port++
		return port - 1
	}
	err := b.build(next)
	if err != nil {
		return nil, errors.Join(err, b.Close())
	}
	return b, nil
}

func (b *Bench) build(next func() int) error {
	admin, err := startAdmin(b, next())
	if err != nil {
		return err
	}
	b.admin = admin
	var shared *supply
	for i := range b.options.Bays {
		f := &fixture{name: fmt.Sprintf("bay%d", i+1), clock: b.clock}
		if err := f.clip(fmt.Sprintf("TN-%d", 2201+i), plant.Healthy); err != nil {
			return err
		}
		b.fixtures = append(b.fixtures, f)
		s, channel := shared, 1
		if shared == nil {
			s = newSupply(fmt.Sprintf("S2-%04d", 101+i), b.options.Ideal)
			if err := b.listen(fmt.Sprintf("supply%d", i+1), "supply", &s.interpreter, next()); err != nil {
				return err
			}
		} else {
			channel = 2
			shared = nil
		}
		f.output = &s.outputs[channel-1]
		f.output.fixture = f
		if b.options.SharedSupply && i == 0 {
			shared = s
		}
		l := newLoad(fmt.Sprintf("L1-%04d", 201+i), b.options.Ideal)
		l.fixture, f.input = f, l
		if err := b.listen(fmt.Sprintf("load%d", i+1), "load", &l.interpreter, next()); err != nil {
			return err
		}
	}
	return nil
}

func (b *Bench) listen(name, kind string, in *interpreter, port int) error {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", name, err)
	}
	inst := &Instrument{Name: name, Kind: kind, Address: "tcp://" + listener.Addr().String(), listener: listener, in: in,
		conns: map[net.Conn]bool{}, released: make(chan struct{})}
	if b.options.OneConnection {
		inst.one = make(chan struct{}, 1)
	}
	b.instruments = append(b.instruments, inst)
	go inst.accept()
	return nil
}

// Instruments lists the stand-ins.
func (b *Bench) Instruments() []*Instrument { return slices.Clone(b.instruments) }

// AdminURL is where the bench's state is read and its faults are switched.
func (b *Bench) AdminURL() string { return b.admin.url }

// Clip puts another unit in a bay. A serial that is known to be faulty brings its fault along.
func (b *Bench) Clip(bay, serial, fault string) error {
	f, err := b.fixture(bay)
	if err != nil {
		return err
	}
	if fault == "" {
		fault = b.options.Faulty[serial]
	}
	return f.clip(serial, plant.Fault(fault))
}

func (b *Bench) fixture(bay string) (*fixture, error) {
	i := slices.IndexFunc(b.fixtures, func(f *fixture) bool { return f.name == bay })
	if i < 0 {
		return nil, fmt.Errorf("the simulated bench has no bay %q", bay)
	}
	return b.fixtures[i], nil
}

// SetFault breaks or mends an instrument.
func (b *Bench) SetFault(instrument string, fault InstrumentFault) error {
	i := slices.IndexFunc(b.instruments, func(i *Instrument) bool { return i.Name == instrument })
	if i < 0 {
		return fmt.Errorf("the simulated bench has no instrument %q", instrument)
	}
	if !slices.Contains([]InstrumentFault{NoFault, Drop, Hang}, fault) {
		return fmt.Errorf("%q is not a fault of an instrument; known: drop, hang", fault)
	}
	b.instruments[i].setFault(fault)
	return nil
}

// Close ends every connection and stops listening.
func (b *Bench) Close() error {
	var errs []error
	for _, i := range b.instruments {
		errs = append(errs, i.listener.Close())
		i.setFault(Drop)
	}
	if b.admin != nil {
		errs = append(errs, b.admin.close())
	}
	return errors.Join(errs...)
}

func (i *Instrument) accept() {
	for {
		conn, err := i.listener.Accept()
		if err != nil {
			return
		}
		i.mu.Lock()
		if i.fault == Drop {
			conn.Close()
			i.mu.Unlock()
			continue
		}
		i.conns[conn] = true
		i.mu.Unlock()
		go func() {
			if i.one != nil {
				i.one <- struct{}{}
				defer func() { <-i.one }()
			}
			i.in.serve(conn, i.gate)
			i.mu.Lock()
			delete(i.conns, conn)
			i.mu.Unlock()
		}()
	}
}

// gate lets an answer through, or waits while the instrument hangs.
func (i *Instrument) gate() bool {
	i.mu.Lock()
	fault, released := i.fault, i.released
	i.mu.Unlock()
	if fault == Hang {
		<-released
	}
	return fault != Drop
}

func (i *Instrument) setFault(fault InstrumentFault) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.fault == Hang && fault != Hang {
		close(i.released)
		i.released = make(chan struct{})
	}
	i.fault = fault
	if fault == Drop {
		for conn := range i.conns {
			conn.Close()
		}
	}
}

// fixture joins a supply channel, a unit and a load, in the bench's own time.
type fixture struct {
	name    string
	clock   clock
	output  *supplyOutput // what feeds it
	input   *load         // what drains it
	mu      sync.Mutex
	serial  string
	fault   plant.Fault
	unit    plant.Converter
	state   plant.State
	source  plant.Source
	load    plant.Load
	history []Switching
}

// Switching is an entry of the bench's own record: an output went on or off.
type Switching struct {
	At   time.Time `json:"at"`
	What string    `json:"what"` // "source" or "load"
	On   bool      `json:"on"`
}

const longestHistory = 1000

func (f *fixture) clip(serial string, fault plant.Fault) error {
	unit, err := plant.Tern(serial, fault)
	if err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.serial, f.fault, f.unit, f.state = serial, fault, unit, plant.State{}
	return nil
}

func (f *fixture) feed(s plant.Source) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("source", f.source.On, s.On)
	f.source = s
	f.unit.At(&f.state, f.clock.now(), f.source, f.load)
}

func (f *fixture) drain(l plant.Load) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("load", f.load.On, l.On)
	f.load = l
	f.unit.At(&f.state, f.clock.now(), f.source, f.load)
}

func (f *fixture) note(what string, before, after bool) {
	if before != after {
		f.history = append(f.history, Switching{time.Now(), what, after})
		f.history = f.history[max(0, len(f.history)-longestHistory):]
	}
}

func (f *fixture) operating() plant.Operating {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.unit.At(&f.state, f.clock.now(), f.source, f.load)
}

// BayState is what the bench itself knows about a bay.
type BayState struct {
	Bay      string          `json:"bay"`
	Serial   string          `json:"serial"`
	Fault    string          `json:"fault,omitempty"`
	SourceOn bool            `json:"sourceOn"`
	LoadOn   bool            `json:"loadOn"`
	Truth    plant.Operating `json:"truth"`
	History  []Switching     `json:"history"`
}

// State tells what is in a bay, what is on, and the true operating point.
func (b *Bench) State(bay string) (BayState, error) {
	f, err := b.fixture(bay)
	if err != nil {
		return BayState{}, err
	}
	truth := f.operating()
	f.mu.Lock()
	defer f.mu.Unlock()
	return BayState{f.name, f.serial, string(f.fault), f.source.On, f.load.On, truth, slices.Clone(f.history)}, nil
}

// Truth is the exact steady state of the unit in a bay when the supply is set to some volts and the load to some amps, with the
// errors that both have in setting them. With amps 0 the load is off.
func (b *Bench) Truth(bay string, volts, amps float64) (plant.Operating, error) {
	f, err := b.fixture(bay)
	if err != nil {
		return plant.Operating{}, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	source := plant.Source{On: true, Volts: f.output.setVolts.set(volts), Amps: mostSupplyAmps}
	drain := plant.Load{On: amps > 0, Mode: plant.ConstantCurrent, Level: f.input.setAmps.set(amps)}
	return f.unit.Solve(source, drain, true), nil
}
