// Package simbench is the simulated bench: stand-ins for supplies, loads, cyclers and meters that speak SCPI
// and Modbus over real sockets and serial lines, joined by the physics of a unit under test. The service cannot
// tell them from hardware.
//
// The bench keeps its own record of what was on and off, and when, so that a test can ask the instrument and
// not the program under test whether an output was off.
package simbench

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/hashicorp/mdns"

	"usherbench/simbench/plant"
)

// Options says what bench to build. The zero value is one bay with a healthy unit on free ports.
type Options struct {
	Bays int // number of bays, at least 1
	// Layouts of the bays, in order; bays beyond the list have a supply and a load at a converter.
	Layouts []Layout
	// SharedSupply feeds bays 1 and 2 from the two channels of one supply; otherwise each bay has a supply of its own.
	SharedSupply bool
	// SharedScope has bays with a scope share one, four of them at a time: each of its inputs is at the output of a unit.
	SharedScope bool
	// SharedCrosspoint has bays with a crosspoint share one, two of them at a time: each has half of its terminals.
	SharedCrosspoint bool
	// BasePort is the first port; 0 takes free ones. The first is the admin route's, the others the instruments'
	// in their order.
	BasePort int
	// TimeFactor speeds the bench's clock up, 1 … 3600.
	TimeFactor float64
	// Ideal leaves noise, instrument errors and rounding out.
	Ideal bool
	// OneConnection makes every instrument take one connection only; others wait until it is gone.
	OneConnection bool
	// Memory has every instrument listen in memory under its name after this prefix, and nothing on sockets and
	// serial lines: for a bench in simulated time. Empty: on sockets and serial lines.
	Memory string
	// Over is how stand-ins that take text messages are reached: "tcp", "hislip" or "vxi11"; empty: tcp.
	Over string
	// Announce has stand-ins that take text messages announce themselves by mDNS, on this computer only.
	Announce bool
	// LoadLeads is the resistance of the leads between a unit and every load, Ω, at whose far end the load reads.
	LoadLeads float64
	// Hot has banks of resistors begin as hot as they may be.
	Hot bool
	// Faulty names units that have a fault: serial number → fault.
	Faulty map[string]string
}

// Bench is a running simulated bench.
type Bench struct {
	options     Options
	clock       clock
	fixtures    []*fixture
	wirings     []Wiring
	instruments []*Instrument
	shared      *supply
	sharedScope sharedScope
	halfFree    *crosspoint // of which nobody has the second half
	thermo      *thermometer
	// thermometers counts them, inputs those of the last that are taken.
	thermometers, inputs int
	folder               string // of the serial lines
	port                 int
	admin                *admin
	announcing           []*mdns.Server
}

// Wiring says which channels fill the seats of a bay.
type Wiring struct {
	Bay string
	// Battery tells that the bay is for units that keep charge.
	Battery bool
	Seats   map[string][]Channel
	// Gangs says how several channels of a seat work as one.
	Gangs map[string]string
	// Probes are those of a seat that captures, by name.
	Probes map[string]map[string]Probe
	// Wired says where the voltage input of a seat's meter is that takes something itself, by seat.
	Wired map[string]string
}

// Probe is what joins a channel of a scope to the unit: what is seen there is Factor times the volts at the
// connector.
type Probe struct {
	Channel int
	Factor  float64
	Unit    string
}

// Channel is a channel of a stand-in.
type Channel struct {
	Instrument string
	Number     int
}

// clock is the bench's own time, which may run faster than the wall's.
type clock struct {
	start  time.Time
	factor float64
}

func (c clock) now() float64 { return time.Since(c.start).Seconds() * c.factor }

// Start builds the bench and begins to listen.
func Start(o Options) (*Bench, error) {
	o.Bays = max(o.Bays, len(o.Layouts), 1)
	if o.TimeFactor == 0 {
		o.TimeFactor = 1
	}
	if err := o.check(); err != nil {
		return nil, err
	}
	for _, l := range o.Layouts {
		if _, err := l.plan(); err != nil {
			return nil, err
		}
	}
	b := &Bench{options: o, clock: clock{time.Now(), o.TimeFactor}, port: o.BasePort}
	if err := b.build(); err != nil {
		return nil, errors.Join(err, b.Close())
	}
	return b, nil
}

// next is the port of the next instrument.
func (b *Bench) next() int {
	if b.options.BasePort == 0 {
		return 0
	}
	b.port++
	return b.port - 1
}

func (b *Bench) build() error {
	var err error
	if b.admin, err = startAdmin(b); err != nil {
		return err
	}
	for i := range b.options.Bays {
		layout := Converter
		if i < len(b.options.Layouts) {
			layout = b.options.Layouts[i]
		}
		if err := b.buildBay(i, layout); err != nil {
			return err
		}
	}
	if b.options.Announce {
		return b.announce()
	}
	return nil
}

// Instruments lists the stand-ins.
func (b *Bench) Instruments() []*Instrument { return slices.Clone(b.instruments) }

// Wirings lists what fills the seats of the bays.
func (b *Bench) Wirings() []Wiring { return slices.Clone(b.wirings) }

// AdminURL is where the bench's state is read and its faults are switched.
func (b *Bench) AdminURL() string { return b.admin.url }

// Clip puts another unit in a bay. A serial that is known to be faulty brings its fault along.
func (b *Bench) Clip(bay, serial, fault string) error { return b.ClipModel(bay, "", serial, fault) }

// ClipModel puts a unit of a model of the plant in a bay; without a name, what the bay is wired for.
func (b *Bench) ClipModel(bay, model, serial, fault string) error {
	f, err := b.fixture(bay)
	if err != nil {
		return err
	}
	if fault == "" {
		fault = b.options.Faulty[serial]
	}
	return f.clip(model, serial, plant.Fault(fault))
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
	i := b.instrument(instrument)
	if i == nil {
		return fmt.Errorf("the simulated bench has no instrument %q", instrument)
	}
	if err := i.kind.check(fault); err != nil {
		return err
	}
	i.setFault(fault)
	return nil
}

// instrument is the stand-in of a name; nil if there is none.
func (b *Bench) instrument(name string) *Instrument {
	i := slices.IndexFunc(b.instruments, func(i *Instrument) bool { return i.Name == name })
	if i < 0 {
		return nil
	}
	return b.instruments[i]
}

// Close ends every connection and stops listening.
func (b *Bench) Close() error {
	var errs []error
	for _, i := range b.instruments {
		errs = append(errs, i.close())
	}
	for _, a := range b.announcing {
		errs = append(errs, a.Shutdown())
	}
	if b.folder != "" {
		errs = append(errs, os.RemoveAll(b.folder))
	}
	if b.admin != nil {
		errs = append(errs, b.admin.close())
	}
	return errors.Join(errs...)
}

// Truth is the exact steady state of the converter in a bay when the supply is set to some volts and the load of each
// output to some amps, with the errors that they have in setting them. A load of 0 A is off.
func (b *Bench) Truth(bay string, volts float64, amps ...float64) (plant.Operating, error) {
	f, err := b.fixture(bay)
	if err != nil {
		return plant.Operating{}, err
	}
	unit, ok := f.unit.(plant.Steady)
	if f.setVolts == nil || len(f.setAmps) < len(amps) || !ok {
		return plant.Operating{}, fmt.Errorf("the layout of %s has no single truth", bay)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	source := plant.Source{On: true, Volts: f.setVolts(volts), Amps: mostSupplyAmps}
	joined := plant.Joined{Line: source}
	for k, x := range amps {
		load := plant.Load{On: x > 0, Mode: plant.ConstantCurrent, Level: f.setAmps[k](x)}
		if k == 0 {
			joined.Output = load
			continue
		}
		joined.Further = append(joined.Further, plant.Joint{Load: load})
	}
	return unit.Steady(joined), nil
}
