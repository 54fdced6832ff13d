package simbench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

// Three-phase power that is sent round in a circle: a load at the output of a unit gives back to the mains what it
// takes but for its own loss, so that only losses are drawn.

var (
	feederKind      = standIn{"feeder", slices.Concat(anyFault, textFault, outputFault)}
	acLoadKind      = standIn{"ac-load", slices.Concat(anyFault, textFault, outputFault)}
	bypassKind      = standIn{"bypass", slices.Concat(spokenFault, textFault, outputFault)}
	threePhaseMeter = standIn{"three-phase-meter", slices.Concat(anyFault, textFault)}
)

// net is what flows from the mains: into the unit, where nothing else is joined to them.
func (f *fixture) net() plant.Seen {
	o := f.operating()
	if o.Mains != nil {
		return *o.Mains
	}
	return o.Line
}

// setBypass joins the output to the mains past the unit, or no longer.
func (f *fixture) setBypass(on bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("switch", f.bypass, on)
	f.bypass = on
	f.now()
}

// acLoad is the regenerative load at the output of a unit.
type acLoad struct {
	interpreter
	watts                           float64
	closed                          bool
	setWatts                        drawn
	readVolts, readAmps, readPowers drawn
	drain                           *drain
}

func newACLoad(serial string, ideal bool) *acLoad {
	l := &acLoad{}
	l.health = newHealth()
	l.identity = "Usher Bench,SIM-L3," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	l.setWatts, l.readVolts, l.readAmps, l.readPowers = errors.draw(acLoadSet), errors.draw(threeVolts),
		errors.draw(threeAmps), errors.draw(acLoadWatts)
	l.reset = func() { l.watts, l.closed = 0, false; l.push() }
	l.reset()
	l.on("[SOURce:]POWer[:LEVel][:IMMediate]", func(args []string, _ int) error {
		x, err := parseLevel(args[0], mostACLoadWatts)
		if err == nil {
			l.watts = x
			l.push()
		}
		return err
	}, func(int) (string, error) { return strconv.FormatFloat(l.watts, 'f', 1, 64), nil })
	l.on("INPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !l.health.stuck(l.closed, on) {
			l.closed = on
			l.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(l.closed), nil })
	l.on("MEASure:VOLTage", nil, func(int) (string, error) { return l.shown(l.readVolts, l.seen().Volts), nil })
	l.on("MEASure:CURRent", nil, func(int) (string, error) { return l.shown(l.readAmps, l.seen().Amps), nil })
	l.on("MEASure:POWer", nil, func(int) (string, error) { return l.shown(l.readPowers, l.seen().Watts()), nil })
	l.watchdogCommands(func() { l.closed = false; l.push() })
	return l
}

func (l *acLoad) seen() plant.Seen {
	o := l.drain.operating().Output
	if !l.closed && o.Wave != nil {
		o.Wave, o.Amps = &plant.Wave{Hertz: o.Wave.Hertz}, 0
	}
	return o
}

func (l *acLoad) push() {
	level := 0.0
	if l.watts > 0 {
		level = l.setWatts.set(l.watts)
	}
	l.drain.set(plant.Load{On: l.closed, Mode: plant.ConstantPower, Level: level})
}

// shares are what each phase carries of what the three carry together.
var shares = [3]float64{0.334, 0.3325, 0.3335}

// newThreePhaseMeter measures in two places: what the mains gives, and what the unit takes.
func newThreePhaseMeter(serial string, ideal bool, f *fixture) *interpreter {
	m := &interpreter{}
	m.health, m.reset = newHealth(), func() {}
	m.identity = "Usher Bench,SIM-A3," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	var volts, amps, watts [2]drawn
	for i := range volts {
		volts[i], amps[i], watts[i] = errors.draw(threeVolts), errors.draw(threeAmps), errors.draw(threeWatts)
	}
	m.on("MEASure:ALL", nil, func(input int) (string, error) {
		var seen plant.Seen
		switch input {
		case 1:
			seen = f.net()
		case 2:
			seen = f.operating().Line
		default:
			return "", errRange
		}
		k := input - 1
		var words []string
		for _, x := range []float64{1. / 3, shares[0], shares[1], shares[2]} {
			words = append(words, m.shown(volts[k], seen.Volts), m.shown(amps[k], 3*x*seen.Amps))
		}
		for _, x := range []float64{1, shares[0], shares[1], shares[2]} {
			words = append(words, m.shown(watts[k], x*seen.Watts()))
		}
		hertz := 0.0
		if seen.Wave != nil {
			hertz = seen.Wave.Hertz
		}
		return strings.Join(append(words, strconv.FormatFloat(hertz, 'f', 3, 64)), ","), nil
	})
	return m
}

// newBypass is the contactor that joins output and mains past the unit.
func newBypass(serial string, f *fixture) *interpreter {
	b := &interpreter{}
	b.health = newHealth()
	b.identity = "Usher Bench,SIM-K1," + serial + ",1.0"
	closed := false
	set := func(on bool) { closed = on; f.setBypass(on) }
	b.reset = func() { set(false) }
	b.on("ROUTe:CLOSe", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !b.health.stuck(closed, on) {
			set(on)
		}
		return err
	}, func(int) (string, error) { return showSwitch(closed), nil })
	b.watchdogCommands(func() { set(false) })
	return b
}

func (b *Bench) addFeeder(j joint) error {
	s := newACSource("SIM-M3", fmt.Sprintf("M3-%04d", 1300+j.number), b.options.Ideal, mostFeederAmps)
	s.feed, j.fixture.setVolts = j.fixture.newFeed(), s.setVolts.set
	s.feed.shape = s.shape
	name := fmt.Sprintf("feeder%d", j.number)
	j.wiring.Seats["mains"] = []Channel{{name, 1}}
	return b.listen(name, feederKind, s.health, &s.interpreter)
}

func (b *Bench) addThreePhaseMeter(j joint) error {
	m := newThreePhaseMeter(fmt.Sprintf("A3-%04d", 1400+j.number), b.options.Ideal, j.fixture)
	name := fmt.Sprintf("threephase%d", j.number)
	j.wiring.Seats["meter"], j.wiring.Seats["meter2"] = []Channel{{name, 1}}, []Channel{{name, 2}}
	return b.listen(name, threePhaseMeter, m.health, m)
}

func (b *Bench) addACLoad(j joint) error {
	serial := fmt.Sprintf("L3-%04d", 1500+j.number)
	spread := plant.TolerancesOf(serial, 0xac1)
	j.fixture.back = plant.Back{Share: spread(0.962, 0.002), Own: spread(180, 0.05)}
	l := newACLoad(serial, b.options.Ideal)
	l.drain = j.fixture.newDrain()
	name := fmt.Sprintf("acload%d", j.number)
	j.wiring.Seats["acload"] = []Channel{{name, 1}}
	return b.listen(name, acLoadKind, l.health, &l.interpreter)
}

func (b *Bench) addBypass(j joint) error {
	k := newBypass(fmt.Sprintf("K1-%04d", 1600+j.number), j.fixture)
	name := fmt.Sprintf("bypass%d", j.number)
	j.wiring.Seats["switch"] = []Channel{{name, 1}}
	return b.listen(name, bypassKind, k.health, k)
}
