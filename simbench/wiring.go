package simbench

import (
	"errors"
	"fmt"
	"strings"

	"usherbench/simbench/plant"
)

// joint is where stand-ins are joined to a unit: the bay's number, its fixture and what is written about it.
type joint struct {
	number  int
	fixture *fixture
	wiring  *Wiring
}

func (b *Bench) buildBay(i int, layout Layout) error {
	p, err := layout.plan()
	if err != nil {
		return err
	}
	f := &fixture{name: fmt.Sprintf("bay%d", i+1), clock: b.clock, series: p.series, leads: b.options.LoadLeads,
		standard: p.unit}
	if p.charger != nil {
		own := p.charger()
		f.charger = &own
	}
	if err := f.clip("", fmt.Sprintf("%s-%d", p.serial, p.first+i), plant.Healthy); err != nil {
		return err
	}
	b.fixtures = append(b.fixtures, f)
	w := Wiring{Bay: f.name, Battery: f.stored != nil, Seats: map[string][]Channel{}, Gangs: map[string]string{}}
	for _, add := range p.standIns {
		if err := add(b, joint{i + 1, f, &w}); err != nil {
			return err
		}
	}
	b.wirings = append(b.wirings, w)
	return nil
}

func (b *Bench) addSupply(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	s, channel, name := b.shared, 2, "supply1"
	if s == nil {
		s, channel, name = newSupply(fmt.Sprintf("S2-%04d", 100+n), b.options.Ideal), 1, fmt.Sprintf("supply%d", n)
		if err := b.listen(name, supplyKind, s.health, &s.interpreter); err != nil {
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

func (b *Bench) addLoad(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	l := newLoad(fmt.Sprintf("L1-%04d", 200+n), b.options.Ideal)
	l.drain, f.setAmps = f.newDrain(), append(f.setAmps, l.setAmps.set)
	name := fmt.Sprintf("load%d", n)
	w.Seats["load"] = []Channel{{name, 1}}
	return b.listen(name, loadKind, l.health, &l.interpreter)
}

// addFurtherLoads puts a load at each output behind the first.
func (b *Bench) addFurtherLoads(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	var errs []error
	for k := range f.operating().Further {
		l := newLoad(fmt.Sprintf("L1-%04d-%d", 200+n, k+2), b.options.Ideal)
		l.drain, f.setAmps = f.newDrainAt(k+1), append(f.setAmps, l.setAmps.set)
		name := fmt.Sprintf("load%d-%d", n, k+2)
		w.Seats[numbered("load", k+1)] = []Channel{{name, 1}}
		errs = append(errs, b.listen(name, loadKind, l.health, &l.interpreter))
	}
	return errors.Join(errs...)
}

func (b *Bench) addAnalyser(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	a := newAnalyser(fmt.Sprintf("A1-%04d", 300+n), b.options.Ideal, f)
	name := fmt.Sprintf("analyser%d", n)
	w.Seats["meter"] = []Channel{{name, 1}}
	return b.listen(name, analyserKind, a.health, &a.interpreter)
}

func (b *Bench) addACSource(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	s := newACSource("SIM-M1", fmt.Sprintf("M1-%04d", 1000+n), b.options.Ideal, mostMainsAmps)
	s.feed, f.setVolts = f.newFeed(), s.setVolts.set
	s.feed.shape = s.shape
	name := fmt.Sprintf("acsource%d", n)
	w.Seats["mains"] = []Channel{{name, 1}}
	return b.listen(name, acSourceKind, s.health, &s.interpreter)
}

func (b *Bench) addSink(j joint) error {
	s := newSink(fmt.Sprintf("P1-%04d", 1200+j.number), b.options.Ideal, j.fixture)
	name := fmt.Sprintf("sink%d", j.number)
	j.wiring.Seats["contract"] = []Channel{{name, 1}}
	return b.listen(name, sinkKind, s.health, &s.interpreter)
}

func (b *Bench) addGridMeter(j joint) error       { return b.addGridMeterWired(j, false) }
func (b *Bench) addGridMeterAtUnit(j joint) error { return b.addGridMeterWired(j, true) }

func (b *Bench) addGridMeterWired(j joint, atUnit bool) error {
	m := newGridMeter(fmt.Sprintf("A2-%04d", 1100+j.number), b.options.Ideal, j.fixture, atUnit)
	name := fmt.Sprintf("gridmeter%d", j.number)
	j.wiring.Seats["meter"] = []Channel{{name, 1}}
	wired := "voltmeter-at-supply"
	if atUnit {
		wired = "voltmeter-at-unit"
	}
	j.wiring.Wired = map[string]string{"meter": wired}
	return b.listen(name, gridMeterKind, m.health, &m.interpreter)
}

func (b *Bench) addMultimeter(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	m := newMultimeter(fmt.Sprintf("D1-%04d", 400+n), b.options.Ideal, f)
	name := fmt.Sprintf("multimeter%d", n)
	w.Seats["meter"] = []Channel{{name, 1}}
	return b.listen(name, multimeterKind, m.health, &m.interpreter)
}

// addThermo puts the next input of the bench's thermometers at the unit; one has eight.
func (b *Bench) addThermo(j joint) error {
	f, w := j.fixture, j.wiring
	if b.thermo == nil || b.inputs == len(b.thermo.inputs) {
		b.thermometers++
		b.thermo, b.inputs = newThermometer(fmt.Sprintf("T8-%04d", 500+b.thermometers), b.options.Ideal), 0
		if err := b.listen(fmt.Sprintf("thermometer%d", b.thermometers), thermometerKind, b.thermo.health,
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
func (b *Bench) addAmmeters(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	a := newAmmeters(fmt.Sprintf("N8-%04d", 800+n), b.options.Ideal, f)
	name := fmt.Sprintf("ammeters%d", n)
	for k := range f.operating().Further {
		w.Seats[numbered("meter", k)] = []Channel{{name, k + 1}}
	}
	return b.listen(name, ammetersKind, a.health, &a.interpreter)
}

// addScope puts the probes of a scope at input and output; of a shared one the next probe at the output.
func (b *Bench) addScope(j joint) error {
	if b.options.SharedScope {
		return b.addSharedScope(j)
	}
	s, name := b.nextScope(j)
	s.see(j.fixture)
	j.wiring.probe(name)
	return b.listen(name, scopeKind, s.health, &s.interpreter)
}

// nextScope is a scope to which nothing is joined.
func (b *Bench) nextScope(j joint) (s *scope, name string) {
	s = newScope(scopeModel12, fmt.Sprintf("O4-%04d", 900+j.number), b.options.Ideal, b.clock)
	return s, fmt.Sprintf("scope%d", j.number)
}

// sharedScope is the scope whose inputs are at the outputs of several bays.
type sharedScope struct {
	scope  *scope
	name   string
	joined int // inputs
}

// addSharedScope puts the next input of the scope that bays share at the output; one has four.
func (b *Bench) addSharedScope(j joint) error {
	at := &b.sharedScope
	if at.scope == nil || at.joined == len(at.scope.inputs) {
		s, name := b.nextScope(j)
		*at = sharedScope{scope: s, name: name}
		if err := b.listen(name, scopeKind, s.health, &s.interpreter); err != nil {
			return err
		}
	}
	output, _ := plant.ProbeOf("output")
	at.scope.inputs[at.joined].join(j.fixture, output)
	at.joined++
	j.wiring.Seats["scope"] = []Channel{{at.name, at.joined}}
	j.wiring.Probes = map[string]map[string]Probe{"scope": {output.Name: {Channel: at.joined,
		Factor: scopeFactors[output.Unit], Unit: output.Unit}}}
	return nil
}

// addRegisterScope puts the probes of a digitiser with registers at input and output.
func (b *Bench) addRegisterScope(j joint) error {
	s := newRegisterScope(fmt.Sprintf("D2-%04d", 950+j.number), b.options.Ideal, b.clock)
	s.see(j.fixture)
	name := fmt.Sprintf("register-scope%d", j.number)
	j.wiring.probe(name)
	return b.listenRegisters(name, registerScopeKind, &s.registerServer)
}

// probe has a scope see what there is to see of the unit.
func (w *Wiring) probe(instrument string) {
	w.Seats["scope"] = []Channel{{instrument, 1}}
	probes := map[string]Probe{}
	for i, p := range plant.Probes() {
		probes[p.Name] = Probe{Channel: i + 1, Factor: scopeFactors[p.Unit], Unit: p.Unit}
	}
	w.Probes = map[string]map[string]Probe{"scope": probes}
}

// numbered is the name of a seat of which a bay has several: meter, meter2, meter3 …
func numbered(kind string, k int) string {
	if k == 0 {
		return kind
	}
	return fmt.Sprintf("%s%d", kind, k+1)
}

func (b *Bench) addCycler(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	c := newCycler(fmt.Sprintf("C2-%04d", 600+n), b.options.Ideal)
	c.channels[0].feed, c.channels[0].drain = f.newFeed(), f.newDrain()
	name := fmt.Sprintf("cycler%d", n)
	w.Seats["cycler"] = []Channel{{name, 1}}
	return b.listen(name, cyclerKind, c.health, &c.interpreter)
}

func (b *Bench) addCyclerPair(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
	c := newCycler(fmt.Sprintf("C2-%04d", 600+n), b.options.Ideal)
	c.channels[0].feed, c.channels[1].drain = f.newFeed(), f.newDrain()
	f.setVolts, f.setAmps = c.channels[0].setVolts.set, append(f.setAmps, c.channels[1].setAmps.set)
	name := fmt.Sprintf("cycler%d", n)
	w.Seats["source"], w.Seats["load"] = []Channel{{name, 1}}, []Channel{{name, 2}}
	return b.listen(name, cyclerKind, c.health, &c.interpreter)
}

func (b *Bench) addGang(j joint) error {
	f, w, n := j.fixture, j.wiring, j.number
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
	errs := []error{b.listen(name, supplyKind, s.health, &s.interpreter)}
	for _, side := range []string{"", "-b"} {
		l := newLoad(fmt.Sprintf("L1-%04d%s", 200+n, side), b.options.Ideal)
		l.drain = f.newDrain()
		name := fmt.Sprintf("load%d%s", n, side)
		w.Seats["load"] = append(w.Seats["load"], Channel{name, 1})
		errs = append(errs, b.listen(name, loadKind, l.health, &l.interpreter))
	}
	return errors.Join(errs...)
}

func (b *Bench) addSerialLoad(j joint) error {
	l, name := b.newRegisterLoad(j)
	return b.openLine(name, &l.registerServer)
}

func (b *Bench) addRegistersTCP(j joint) error {
	l, name := b.newRegisterLoad(j)
	return b.listenRegisters(name, registerLoadKind, &l.registerServer)
}

// listenRegisters has registers on a socket.
func (b *Bench) listenRegisters(name string, kind standIn, s *registerServer) error {
	if err := b.listen(name, kind, s.health, s); err != nil {
		return err
	}
	last := b.instruments[len(b.instruments)-1]
	if b.options.Memory != "" {
		last.Address += fmt.Sprintf("?as=modbus-tcp&unit=%d", registerUnit)
	} else {
		last.Address = strings.Replace(last.Address, "tcp://", "modbus-tcp://", 1) + fmt.Sprintf("?unit=%d", registerUnit)
	}
	return nil
}

// registerUnit is the address of a load with registers on its line.
const registerUnit = 3

func (b *Bench) newRegisterLoad(j joint) (l *registerLoad, name string) {
	l = newRegisterLoad(fmt.Sprintf("M1-%04d", 700+j.number), b.options.Ideal, registerUnit)
	l.drain, j.fixture.setAmps = j.fixture.newDrain(), append(j.fixture.setAmps, l.setAmps.set)
	name = fmt.Sprintf("register-load%d", j.number)
	j.wiring.Seats["load"] = []Channel{{name, 1}}
	return l, name
}
