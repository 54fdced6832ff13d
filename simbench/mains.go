package simbench

import (
	"math"
	"slices"
	"strconv"

	"usherbench/simbench/plant"
)

var acSourceKind = standIn{"ac-source", slices.Concat(anyFault, textFault, outputFault,
	[]InstrumentFault{Distorted, Drifting})}

// acSource gives alternating current: one phase, with a little of the third harmonic.
type acSource struct {
	interpreter
	volts, amps, hertz, angle float64
	live                      bool
	setVolts                  drawn
	readVolts, readAmps       drawn
	readHertz                 drawn
	feed                      *feed
}

// ownThird is the third harmonic of the source's volts, as a share of the fundamental.
const ownThird = 0.004

// The source's frequencies, Hz.
const leastMainsHertz, usualMainsHertz, mostMainsHertz = 40.0, 50.0, 500.0

func newACSource(model, serial string, ideal bool, mostAmps float64) *acSource {
	s := &acSource{}
	s.health = newHealth()
	s.identity = "Usher Bench," + model + "," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	s.setVolts, s.readVolts, s.readAmps, s.readHertz = errors.draw(mainsSetVolts), errors.draw(mainsVolts),
		errors.draw(mainsAmps), errors.draw(gridHertz)
	s.reset = func() {
		s.volts, s.amps, s.hertz, s.angle, s.live = 0, mostAmps, usualMainsHertz, 0, false
		s.push()
	}
	s.reset()
	s.level("[SOURce:]VOLTage[:LEVel][:IMMediate]", 0, mostMainsVolts, &s.volts)
	s.level("[SOURce:]CURRent[:LEVel][:IMMediate]", 0, mostAmps, &s.amps)
	s.level("[SOURce:]FREQuency", leastMainsHertz, mostMainsHertz, &s.hertz)
	s.level("[SOURce:]PHASe", 0, 360, &s.angle)
	s.on("OUTPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err != nil || s.health.stuck(s.live, on) {
			return err
		}
		s.live = on
		s.push()
		return nil
	}, func(int) (string, error) { return showSwitch(s.live), nil })
	s.on("OUTPut:LIMit[:STATe]", nil, func(int) (string, error) {
		return showSwitch(s.live && s.feed.operating().Line.Limited), nil
	})
	s.on("MEASure:VOLTage", nil, func(int) (string, error) {
		return s.shown(s.readVolts, s.feed.operating().Line.Volts), nil
	})
	s.on("MEASure:CURRent", nil, func(int) (string, error) {
		return s.shown(s.readAmps, s.feed.operating().Line.Amps), nil
	})
	s.on("MEASure:FREQuency", nil, func(int) (string, error) {
		hertz := 0.0
		if s.live {
			hertz = s.hertz
		}
		return s.shown(s.readHertz, hertz), nil
	})
	s.watchdogCommands(func() { s.live = false; s.push() })
	return s
}

// level adds the command that sets and asks a number.
func (s *acSource) level(header string, least, most float64, to *float64) {
	s.on(header, func(args []string, _ int) error {
		x, err := parseLevel(args[0], most)
		if err != nil {
			return err
		}
		if x < least {
			return errRange
		}
		*to = x
		s.push()
		return nil
	}, func(int) (string, error) { return strconv.FormatFloat(*to, 'f', 3, 64), nil })
}

// shape is what becomes of its volts by now.
func (s *acSource) shape(x plant.Source) plant.Source {
	x.Third = ownThird
	switch s.health.now() {
	case Distorted:
		x.Third = 0.05
	case Drifting:
		x.Volts *= 1 + driftShare*math.Sin(2*math.Pi*s.feed.fixture.plantTime()/driftPeriod)
	}
	return x
}

// A source that drifts goes up and down by so much, as a share, in so long, s.
const driftShare, driftPeriod = 0.02, 600.0

func (s *acSource) push() {
	s.feed.set(plant.Source{On: s.live, Volts: s.setVolts.set(s.volts), Amps: s.amps, Hertz: s.hertz})
}
