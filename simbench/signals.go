package simbench

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/budget"
	"usherbench/simbench/plant"
)

// What stands at an amplifier: a generator of tones, a bank of resistors that bears little for long, and an analyser of
// signals.

var (
	generatorKind      = standIn{"generator", slices.Concat(spokenFault, textFault, outputFault)}
	bankKind           = standIn{"resistor-bank", slices.Concat(anyFault, textFault, leadFault, outputFault)}
	signalAnalyserKind = standIn{"signal-analyser", slices.Concat([]InstrumentFault{Drop, Hang, Slow, Garbage,
		WrongIdentity}, textFault, []InstrumentFault{HungFetch})}
)

// setSignal gives a signal to the input of the unit.
func (f *fixture) setSignal(s plant.Signal) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("generator", f.signal.On, s.On)
	f.signal = s
	f.now()
}

// generator gives one tone or two.
type generator struct {
	interpreter
	signal   plant.Signal
	setVolts drawn
	fixture  *fixture
}

const mostSignalVolts, mostSignalHertz, mostBalance = 10.0, 100e3, 20.0

// generatorVolts is how well it sets its level.
var generatorVolts = channelModel{gain: 0.005, resolution: 10e-6}

func newGenerator(serial string, ideal bool, f *fixture) *generator {
	g := &generator{fixture: f}
	g.health = newHealth()
	g.identity = "Usher Bench,SIM-G1," + serial + ",1.0"
	g.setVolts = newErrorSource(serial, ideal).draw(generatorVolts)
	g.reset = func() { g.signal = plant.Signal{Hertz: 1000, Against: 1}; g.push() }
	g.reset()
	number := func(header string, least, most float64, to *float64) {
		g.on(header, func(args []string, _ int) error {
			x, err := strconv.ParseFloat(args[0], 64)
			switch {
			case err != nil:
				return errParameter
			case x < least || x > most:
				return errRange
			}
			*to = x
			g.push()
			return nil
		}, func(int) (string, error) { return strconv.FormatFloat(*to, 'f', 6, 64), nil })
	}
	number("VOLTage", 0, mostSignalVolts, &g.signal.Volts)
	number("FREQuency", 1, mostSignalHertz, &g.signal.Hertz)
	number("SECond:FREQuency", 0, mostSignalHertz, &g.signal.Second)
	number("SECond:BALance", 0.05, mostBalance, &g.signal.Against)
	g.on("OUTPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !g.health.stuck(g.signal.On, on) {
			g.signal.On = on
			g.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(g.signal.On), nil })
	g.watchdogCommands(func() { g.signal.On = false; g.push() })
	return g
}

func (g *generator) push() {
	s := g.signal
	s.Volts = g.setVolts.set(s.Volts)
	g.fixture.setSignal(s)
}

// bank is a bank of resistors: it bears much for moments, and little for long.
type bank struct {
	interpreter
	ohms      float64
	closed    bool
	readVolts drawn
	readAmps  drawn
	drain     *drain
}

const leastBankOhms, mostBankOhms = 2.0, 1000.0

// bankBears is what it bears for long, as its dialect says.
var bankBears = budget.Budget{Watts: 40, Over: 60}

// Borne is the largest mean power, W, that what drains the unit of a bay has borne over its window, and what it bears;
// 0 where it bears everything.
func (b *Bench) Borne(bay string) (most, bears float64) {
	f, err := b.fixture(bay)
	if err != nil || f.borne == nil {
		return 0, 0
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.now()
	return f.most, f.borne.Watts
}

func newBank(serial string, ideal bool) *bank {
	k := &bank{}
	k.health = newHealth()
	k.identity = "Usher Bench,SIM-R1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	k.readVolts, k.readAmps = errors.draw(bankVolts), errors.draw(bankAmps)
	k.reset = func() { k.ohms, k.closed = mostBankOhms, false; k.push() }
	k.reset()
	k.commands()
	return k
}

// commands adds what it understands.
func (k *bank) commands() {
	k.on("RESistance", func(args []string, _ int) error {
		x, err := parseLevel(args[0], mostBankOhms)
		switch {
		case err != nil:
			return err
		case x < leastBankOhms:
			return errRange
		}
		k.ohms = x
		k.push()
		return nil
	}, func(int) (string, error) { return strconv.FormatFloat(k.ohms, 'f', 3, 64), nil })
	k.on("FUNCtion", func(args []string, _ int) error {
		if strings.ToUpper(args[0]) != "RES" {
			return errParameter
		}
		return nil
	}, func(int) (string, error) { return "RES", nil })
	k.on("INPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !k.health.stuck(k.closed, on) {
			k.closed = on
			k.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(k.closed), nil })
	k.on("MEASure:VOLTage", nil, func(int) (string, error) {
		return k.shown(k.readVolts, k.health.volts(k.drain.operating().Output.Volts)), nil
	})
	k.on("MEASure:CURRent", nil, func(int) (string, error) {
		return k.shown(k.readAmps, k.drain.operating().Output.Amps), nil
	})
	k.watchdogCommands(func() { k.closed = false; k.push() })
}

func (k *bank) push() {
	k.drain.set(plant.Load{On: k.closed, Mode: plant.ConstantResistance, Level: k.ohms})
}

// signalModel is the analyser's converter: sixteen bits behind a steep filter.
var signalModel = scopeModel{identity: "SIM-V2", inputs: 2, bits: 16, passes: math.Inf(1), noise: 5e-6, gain: 0.002,
	offset: 0.001, factors: map[string]float64{"V": 1}, rejects: true}

func (b *Bench) addGenerator(j joint) error {
	g := newGenerator(fmt.Sprintf("G1-%04d", 2000+j.number), b.options.Ideal, j.fixture)
	name := fmt.Sprintf("generator%d", j.number)
	j.wiring.Seats["generator"] = []Channel{{name, 1}}
	return b.listen(name, generatorKind, g.health, &g.interpreter)
}

func (b *Bench) addBank(j joint) error {
	k := newBank(fmt.Sprintf("R1-%04d", 2100+j.number), b.options.Ideal)
	k.drain = j.fixture.newDrain()
	now := j.fixture.clock.now()
	j.fixture.borne = budget.New(bankBears, now)
	if !b.options.Hot {
		j.fixture.borne = budget.New(bankBears, now-bankBears.Over)
		j.fixture.borne.Take(now, 0)
	}
	name := fmt.Sprintf("bank%d", j.number)
	j.wiring.Seats["load"] = []Channel{{name, 1}}
	return b.listen(name, bankKind, k.health, &k.interpreter)
}

func (b *Bench) addSignalAnalyser(j joint) error {
	s := newScope(signalModel, fmt.Sprintf("V2-%04d", 2200+j.number), b.options.Ideal, b.clock)
	name := fmt.Sprintf("signals%d", j.number)
	probes := map[string]Probe{}
	for i, p := range plant.SignalProbes() {
		s.inputs[i].join(j.fixture, p)
		probes[p.Name] = Probe{Channel: i + 1, Factor: 1, Unit: p.Unit}
	}
	j.wiring.Seats["analyser"] = []Channel{{name, 1}}
	j.wiring.Probes = map[string]map[string]Probe{"analyser": probes}
	return b.listen(name, signalAnalyserKind, s.health, &s.interpreter)
}
