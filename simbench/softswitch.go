package simbench

import (
	"fmt"
	"slices"
	"strconv"

	"usherbench/simbench/plant"
)

var softSwitchKind = standIn{"soft-switch", slices.Concat(anyFault, textFault, outputFault)}

// gate stands between what feeds a unit and the unit, and gives way slowly. It opens at once.
type gate struct {
	closed bool
	fed    bool    // it is closed and has volts before it
	since  float64 // s in the time of the plants
}

// softRise is how long it takes to give way, s.
const softRise = 0.4

// behind is what comes through at an instant.
func (g *gate) behind(before plant.Source, t float64) plant.Source {
	if g == nil {
		return before
	}
	fed := g.closed && before.On
	if fed && !g.fed {
		g.since = t
	}
	g.fed = fed
	if !fed {
		return plant.Source{}
	}
	if share := (t - g.since) / softRise; share < 1 {
		before.Volts, before.Slope = before.Volts*share, before.Volts/softRise
	}
	return before
}

// close has the gate of a bay give way, or opens it.
func (f *fixture) close(closed bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("switch", f.gate.closed, closed)
	f.gate.closed = closed
	f.now()
}

// softSwitch closes slowly and measures what goes through it, finely where that is little.
type softSwitch struct {
	interpreter
	closed bool
	ranges []drawn
}

// softRanges are the upper ends of the ranges in which it measures amps, A.
var softRanges = []float64{0.2, 10}

func newSoftSwitch(serial string, ideal bool, f *fixture) *softSwitch {
	s := &softSwitch{}
	s.health = newHealth()
	s.identity = "Usher Bench,SIM-S1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for _, most := range softRanges {
		s.ranges = append(s.ranges, errors.draw(channelModel{gain: 0.0005, offset: 1e-4 * most, noise: 2e-5 * most,
			resolution: 1e-5 * most}))
	}
	set := func(on bool) { s.closed = on; f.close(on) }
	s.reset = func() { set(false) }
	s.on("ROUTe:CLOSe", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !s.health.stuck(s.closed, on) {
			set(on)
		}
		return err
	}, func(int) (string, error) { return showSwitch(s.closed), nil })
	s.on("MEASure:CURRent", nil, func(int) (string, error) {
		amps := 0.0
		if s.closed {
			amps = f.operating().Line.Amps
		}
		return s.shown(s.ranges[rangeOf(softRanges, amps)], amps), nil
	})
	s.on("[SENSe:]CURRent:RANGe", nil, func(int) (string, error) {
		return strconv.FormatFloat(softRanges[rangeOf(softRanges, f.operating().Line.Amps)], 'f', 1, 64), nil
	})
	s.watchdogCommands(func() { set(false) })
	return s
}

func (b *Bench) addSoftSwitch(j joint) error {
	j.fixture.gate = &gate{}
	s := newSoftSwitch(fmt.Sprintf("S1-%04d", 2300+j.number), b.options.Ideal, j.fixture)
	name := fmt.Sprintf("softswitch%d", j.number)
	j.wiring.Seats["switch"] = []Channel{{name, 1}}
	return b.listen(name, softSwitchKind, s.health, &s.interpreter)
}
