package simbench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

var sinkKind = standIn{"sink", slices.Concat(anyFault, textFault, outputFault)}

// sink is the other side of a charger's port: it is attached and detached, asks for contracts, and measures at the
// plug.
type sink struct {
	interpreter
	volts, amps drawn
	fixture     *fixture
	state       plant.Sink
}

// What a sink asks for at most, and how many places it reads.
const (
	mostContractVolts, mostContractAmps = 48, 5
	contractPlaces                      = 7
)

func newSink(serial string, ideal bool, f *fixture) *sink {
	s := &sink{fixture: f}
	s.health = newHealth()
	s.identity = "Usher Bench,SIM-P1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	s.volts, s.amps = errors.draw(sinkVolts), errors.draw(sinkAmps)
	s.reset = func() { s.push(plant.Sink{Position: 1}) }
	s.reset()
	s.level("CONTract:VOLTage", mostContractVolts, func(s *plant.Sink) *float64 { return &s.Volts })
	s.level("CONTract:CURRent", mostContractAmps, func(s *plant.Sink) *float64 { return &s.Amps })
	s.on("CONTract:ASK", s.ask, func(int) (string, error) { return strconv.Itoa(s.state.Position), nil })
	s.on("CONTract:OFFer", nil, func(int) (string, error) {
		words := slices.Repeat([]string{"0"}, contractPlaces)
		for i, object := range s.contract().Offer {
			words[i] = strconv.FormatUint(uint64(object), 10)
		}
		return strings.Join(words, ","), nil
	})
	s.on("CONTract:STATe", nil, func(int) (string, error) {
		c := s.contract()
		return fmt.Sprintf("%d,%.2f,%.2f,%s", c.Terms.Position, c.Terms.Volts, c.Terms.Amps, showSwitch(c.Refused)), nil
	})
	s.on("ATTach[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err != nil || s.health.stuck(s.state.On, on) {
			return err
		}
		next := s.state
		next.On = on
		s.push(next)
		return nil
	}, func(int) (string, error) { return showSwitch(s.state.On), nil })
	s.on("MEASure:VOLTage", nil, func(int) (string, error) {
		return s.shown(s.volts, s.fixture.operating().Output.Volts), nil
	})
	s.on("MEASure:CURRent", nil, func(int) (string, error) {
		return s.shown(s.amps, s.fixture.operating().Output.Amps), nil
	})
	s.watchdogCommands(func() { s.push(plant.Sink{Position: s.state.Position}) })
	return s
}

// ask asks for a place, with the volts and amps that were said before.
func (s *sink) ask(args []string, _ int) error {
	x, err := strconv.ParseFloat(args[0], 64)
	if err != nil || x < 1 || x != float64(int(x)) || x > contractPlaces {
		return errRange
	}
	next := s.state
	next.Position = int(x)
	s.push(next)
	return nil
}

// level adds the command for volts or amps of which the next question to the charger is.
func (s *sink) level(header string, most float64, of func(*plant.Sink) *float64) {
	s.on(header, func(args []string, _ int) error {
		x, err := parseLevel(args[0], most)
		if err != nil {
			return err
		}
		*of(&s.state) = x
		return nil
	}, func(int) (string, error) { return strconv.FormatFloat(*of(&s.state), 'f', 3, 64), nil })
}

func (s *sink) push(next plant.Sink) {
	s.state = next
	s.fixture.attach(next)
}

// contract is what the charger says; nothing while there is none.
func (s *sink) contract() plant.Contract {
	if c := s.fixture.operating().Contract; c != nil {
		return *c
	}
	return plant.Contract{}
}
