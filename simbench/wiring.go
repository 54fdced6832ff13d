package simbench

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"usherbench/simbench/plant"
)

func (b *Bench) buildBay(i int, layout Layout) error {
	n := i + 1
	f := &fixture{name: fmt.Sprintf("bay%d", n), clock: b.clock, series: layout == Stacked, standard: "gannet",
		battery: slices.Contains([]Layout{BatteryPack, BatteryEnds, Charged, SideBySide}, layout)}
	w := Wiring{Bay: f.name, Battery: f.battery, Seats: map[string][]Channel{}, Gangs: map[string]string{}}
	serial := fmt.Sprintf("TN-%d", 2201+i)
	if f.battery {
		serial = fmt.Sprintf("GP-%d", 301+i)
	}
	if layout == SideBySide {
		serial, f.standard = fmt.Sprintf("GB-%d", 41+i), "gannet-bank"
	}
	if err := f.clip("", serial, plant.Healthy); err != nil {
		return err
	}
	b.fixtures = append(b.fixtures, f)
	var steps []func() error
	add := func(step func(*fixture, *Wiring, int) error) {
		steps = append(steps, func() error { return step(f, &w, n) })
	}
	switch layout {
	case Converter, BatteryEnds:
		add(b.addSupply)
		add(b.addLoad)
	case Metered:
		add(b.addSupply)
		add(b.addLoad)
		add(b.addAnalyser)
		add(b.addThermo)
	case BatteryPack:
		add(b.addCycler)
		add(b.addMultimeter)
		add(b.addThermo)
	case SerialLoad, RegistersTCP:
		add(b.addSupply)
		steps = append(steps, func() error { return b.addRegisterLoad(f, &w, n, layout == SerialLoad) })
	case CyclerPair:
		add(b.addCyclerPair)
	case Gang, Stacked:
		add(b.addGang)
	case SideBySide:
		add(b.addCycler)
		add(b.addAmmeters)
		add(b.addThermo)
	case Charged:
		charger := plant.GannetCharger()
		f.charger = &charger
		add(b.addLoad)
		add(b.addAnalyser)
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	b.wirings = append(b.wirings, w)
	return nil
}

func (b *Bench) addSupply(f *fixture, w *Wiring, n int) error {
	s, channel, name := b.shared, 2, "supply1"
	if s == nil {
		s, channel, name = newSupply(fmt.Sprintf("S2-%04d", 100+n), b.options.Ideal), 1, fmt.Sprintf("supply%d", n)
		if err := b.listen(name, "supply", s.health, &s.interpreter); err != nil {
			return err
		}
	}
	b.shared = nil
	if b.options.SharedSupply && n == 1 {
		b.shared = s
	}
	s.outputs[channel-1].feed = f.newFeed()
	f.setVolts = s.outputs[channel-1].setVolts.set
	w.Seats["source"] = []Channel{{name, channel}}
	return nil
}

func (b *Bench) addLoad(f *fixture, w *Wiring, n int) error {
	l := newLoad(fmt.Sprintf("L1-%04d", 200+n), b.options.Ideal)
	l.drain, f.setAmps = f.newDrain(), l.setAmps.set
	name := fmt.Sprintf("load%d", n)
	w.Seats["load"] = []Channel{{name, 1}}
	return b.listen(name, "load", l.health, &l.interpreter)
}

func (b *Bench) addAnalyser(f *fixture, w *Wiring, n int) error {
	a := newAnalyser(fmt.Sprintf("A1-%04d", 300+n), b.options.Ideal, f)
	name := fmt.Sprintf("analyser%d", n)
	w.Seats["meter"] = []Channel{{name, 1}}
	return b.listen(name, "analyser", a.health, &a.interpreter)
}

func (b *Bench) addMultimeter(f *fixture, w *Wiring, n int) error {
	m := newMultimeter(fmt.Sprintf("D1-%04d", 400+n), b.options.Ideal, f)
	name := fmt.Sprintf("multimeter%d", n)
	w.Seats["meter"] = []Channel{{name, 1}}
	return b.listen(name, "multimeter", m.health, &m.interpreter)
}

// addThermo puts the next input of the bench's thermometers at the unit; one has eight.
func (b *Bench) addThermo(f *fixture, w *Wiring, _ int) error {
	if b.thermo == nil || b.inputs == len(b.thermo.inputs) {
		b.thermometers++
		b.thermo, b.inputs = newThermometer(fmt.Sprintf("T8-%04d", 500+b.thermometers), b.options.Ideal), 0
		if err := b.listen(fmt.Sprintf("thermometer%d", b.thermometers), "thermometer", b.thermo.health,
			&b.thermo.interpreter); err != nil {
			return err
		}
	}
	b.inputs++
	b.thermo.inputs[b.inputs-1].fixture = f
	w.Seats["thermo"] = []Channel{{fmt.Sprintf("thermometer%d", b.thermometers), b.inputs}}
	return nil
}

// addAmmeters puts an ammeter at each cell of a bank.
func (b *Bench) addAmmeters(f *fixture, w *Wiring, n int) error {
	a := newAmmeters(fmt.Sprintf("N8-%04d", 800+n), b.options.Ideal, f)
	name := fmt.Sprintf("ammeters%d", n)
	for k := range f.operating().Branches {
		w.Seats[numbered("meter", k)] = []Channel{{name, k + 1}}
	}
	return b.listen(name, "ammeters", a.health, &a.interpreter)
}

// numbered is the name of a seat of which a bay has several: meter, meter2, meter3 …
func numbered(kind string, k int) string {
	if k == 0 {
		return kind
	}
	return fmt.Sprintf("%s%d", kind, k+1)
}

func (b *Bench) addCycler(f *fixture, w *Wiring, n int) error {
	c := newCycler(fmt.Sprintf("C2-%04d", 600+n), b.options.Ideal)
	c.channels[0].feed, c.channels[0].drain = f.newFeed(), f.newDrain()
	name := fmt.Sprintf("cycler%d", n)
	w.Seats["cycler"] = []Channel{{name, 1}}
	return b.listen(name, "cycler", c.health, &c.interpreter)
}

func (b *Bench) addCyclerPair(f *fixture, w *Wiring, n int) error {
	c := newCycler(fmt.Sprintf("C2-%04d", 600+n), b.options.Ideal)
	c.channels[0].feed, c.channels[1].drain = f.newFeed(), f.newDrain()
	f.setVolts, f.setAmps = c.channels[0].setVolts.set, c.channels[1].setAmps.set
	name := fmt.Sprintf("cycler%d", n)
	w.Seats["source"], w.Seats["load"] = []Channel{{name, 1}}, []Channel{{name, 2}}
	return b.listen(name, "cycler", c.health, &c.interpreter)
}

func (b *Bench) addGang(f *fixture, w *Wiring, n int) error {
	s := newSupply(fmt.Sprintf("S2-%04d", 100+n), b.options.Ideal)
	name := fmt.Sprintf("supply%d", n)
	for i := range s.outputs {
		s.outputs[i].feed = f.newFeed()
		w.Seats["source"] = append(w.Seats["source"], Channel{name, i + 1})
	}
	w.Gangs["source"], w.Gangs["load"] = "parallel", "parallel"
	if f.series {
		w.Gangs["source"] = "series"
	}
	errs := []error{b.listen(name, "supply", s.health, &s.interpreter)}
	for _, side := range []string{"", "-b"} {
		l := newLoad(fmt.Sprintf("L1-%04d%s", 200+n, side), b.options.Ideal)
		l.drain = f.newDrain()
		name := fmt.Sprintf("load%d%s", n, side)
		w.Seats["load"] = append(w.Seats["load"], Channel{name, 1})
		errs = append(errs, b.listen(name, "load", l.health, &l.interpreter))
	}
	return errors.Join(errs...)
}

func (b *Bench) addRegisterLoad(f *fixture, w *Wiring, n int, serial bool) error {
	const unit = 3
	l := newRegisterLoad(fmt.Sprintf("M1-%04d", 700+n), b.options.Ideal, unit)
	l.drain, f.setAmps = f.newDrain(), l.setAmps.set
	name := fmt.Sprintf("register-load%d", n)
	w.Seats["load"] = []Channel{{name, 1}}
	if serial {
		return b.openLine(name, &l.registerServer)
	}
	if err := b.listen(name, "register-load", l.health, &l.registerServer); err != nil {
		return err
	}
	last := b.instruments[len(b.instruments)-1]
	last.Address = strings.Replace(last.Address, "tcp://", "modbus-tcp://", 1) + fmt.Sprintf("?unit=%d", unit)
	return nil
}
