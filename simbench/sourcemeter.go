package simbench

import (
	"fmt"
	"math"
	"slices"
	"strconv"

	"usherbench/simbench/plant"
)

// The source-meter leaves it to whoever drives it to obey its interlock: it tells that the cover is open, and its
// output stays as it is. That is the worst that an instrument may do.
var sourceMeterKind = standIn{"sourcemeter", slices.Concat(anyFault, textFault, leadFault, outputFault,
	[]InstrumentFault{OpenInterlock})}

// sourceMeter leads a device through volts of either sign and measures what flows, from picoamperes.
type sourceMeter struct {
	interpreter
	volts, amps float64
	finest      float64 // range to which it may go, A
	unguarded   bool
	live        bool
	setVolts    drawn
	readVolts   drawn
	ranges      []drawn // of amps, the finest first
	feed        *feed
}

// ampsRanges are the upper ends of the ranges in which it measures amps, A.
var ampsRanges = []float64{10e-9, 1e-6, 100e-6, 10e-3}

const mostSourceMeterVolts, mostSourceMeterAmps = 3000.0, 10e-3

func newSourceMeter(serial string, ideal bool) *sourceMeter {
	s := &sourceMeter{}
	s.health = newHealth()
	s.identity = "Usher Bench,SIM-H1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	s.setVolts, s.readVolts = errors.draw(highSetVolts), errors.draw(highVolts)
	for _, most := range ampsRanges {
		s.ranges = append(s.ranges, errors.draw(channelModel{gain: 1e-3, offset: 1e-3 * most, noise: 1e-4 * most,
			resolution: 1e-5 * most}))
	}
	s.reset = func() { s.volts, s.amps, s.finest, s.unguarded, s.live = 0, ampsRanges[1], 0, false, false; s.push() }
	s.reset()
	s.level("[SOURce:]VOLTage[:LEVel][:IMMediate]", -mostSourceMeterVolts, mostSourceMeterVolts, &s.volts)
	s.level("[SENSe:]CURRent:LIMit", 0, mostSourceMeterAmps, &s.amps)
	s.level("[SENSe:]CURRent:RANGe:LLIMit", 0, mostSourceMeterAmps, &s.finest)
	s.on("SYSTem:GUARd", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil {
			s.unguarded = !on
		}
		return err
	}, func(int) (string, error) { return showSwitch(!s.unguarded), nil })
	s.on("OUTPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !s.health.stuck(s.live, on) {
			s.live = on
			s.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(s.live), nil })
	s.on("OUTPut:LIMit[:STATe]", nil, func(int) (string, error) {
		return showSwitch(s.live && s.feed.operating().Line.Limited), nil
	})
	s.on("OUTPut:INTerlock:OPEN", nil, func(int) (string, error) {
		return showSwitch(s.health.now() == OpenInterlock), nil
	})
	s.on("MEASure:VOLTage", nil, func(int) (string, error) {
		return s.shown(s.readVolts, s.health.volts(s.feed.operating().Line.Volts)), nil
	})
	s.on("MEASure:CURRent", nil, func(int) (string, error) {
		truth := s.truth()
		return s.shown(s.ranges[s.rangeOf(truth)], truth), nil
	})
	s.on("[SENSe:]CURRent:RANGe", nil, func(int) (string, error) {
		return strconv.FormatFloat(ampsRanges[s.rangeOf(s.truth())], 'e', 3, 64), nil
	})
	s.watchdogCommands(func() { s.live = false; s.push() })
	return s
}

// truth is what flows while it is on.
func (s *sourceMeter) truth() float64 {
	if !s.live {
		return 0
	}
	line := s.feed.operating().Line
	if s.unguarded {
		return line.Amps + line.Volts/unguardedOhms
	}
	return line.Amps
}

// unguardedOhms is the insulation of its leads, Ω, where their screens are not driven.
const unguardedOhms = 2e10

// rangeOf is the finest range that holds a current, of those to which it may go.
func (s *sourceMeter) rangeOf(amps float64) int {
	k := slices.IndexFunc(ampsRanges, func(most float64) bool { return math.Abs(amps) <= most && most >= s.finest })
	if k < 0 {
		return len(ampsRanges) - 1
	}
	return k
}

// level adds the command that sets and asks a number between two.
func (s *sourceMeter) level(header string, least, most float64, to *float64) {
	s.on(header, func(args []string, _ int) error {
		x, err := strconv.ParseFloat(args[0], 64)
		if err != nil {
			return errParameter
		}
		if x < least || x > most {
			return errRange
		}
		*to = x
		s.push()
		return nil
	}, func(int) (string, error) { return strconv.FormatFloat(*to, 'e', 9, 64), nil })
}

func (s *sourceMeter) push() {
	volts := math.Copysign(s.setVolts.set(math.Abs(s.volts)), s.volts)
	s.feed.set(plant.Source{On: s.live, Volts: volts, Amps: s.amps})
}

func (b *Bench) addSourceMeter(j joint) error {
	s := newSourceMeter(fmt.Sprintf("H1-%04d", 1700+j.number), b.options.Ideal)
	s.feed, j.fixture.setVolts = j.fixture.newFeed(), s.setVolts.set
	name := fmt.Sprintf("sourcemeter%d", j.number)
	j.wiring.Seats["sourcemeter"] = []Channel{{name, 1}}
	return b.listen(name, sourceMeterKind, s.health, &s.interpreter)
}

// addLight puts a reference cell beside a panel.
func (b *Bench) addLight(j joint) error {
	return b.addSensor(j, lightKind, "SIM-E1", 1800, []sensed{
		{"MEASure:IRRadiance", lightIrradiance, func(o plant.Operating) float64 { return o.Irradiance }},
		{"MEASure:TEMPerature", thermoCelsius, func(o plant.Operating) float64 { return o.Celsius }}})
}
