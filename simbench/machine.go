package simbench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

// What stands at machines and drives: a brake with a transducer, an ohmmeter at the winding, a drive that is told how
// much, and a sensor of force.

var (
	brakeKind = standIn{"brake", slices.Concat(anyFault, textFault, outputFault)}
	ohmsKind  = standIn{"winding-ohmmeter", slices.Concat(anyFault, textFault)}
	driveKind = standIn{"drive", slices.Concat(anyFault, textFault, outputFault)}
)

// What only reads, each in the seat of its own name.
var (
	lightKind     = onlyReads("light")
	forceKind     = onlyReads("force")
	vibrationKind = onlyReads("vibration")
	climateKind   = onlyReads("climate")
)

func onlyReads(name string) standIn { return standIn{name, slices.Concat(anyFault, textFault)} }

const mostBrakeTorque, mostBrakeSpeed = 60.0, 100.0

// setShaft brakes the shaft, or lets it go.
func (f *fixture) setShaft(b plant.Brake) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("shaft", f.shaft.On, b.On)
	f.shaft = b
	f.now()
}

// setDrive tells a drive how much, or disables it.
func (f *fixture) setDrive(c plant.Command) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note("drive", f.drive.On, c.On)
	f.drive = c
	f.now()
}

// switched is a stand-in with a level and an output.
type switched struct {
	interpreter
	level float64
	on    bool
}

// newSwitched makes one whose level is set and asked by a header.
func newSwitched(model, serial, header string, most float64, push func(s *switched)) *switched {
	s := &switched{}
	s.health = newHealth()
	s.identity = "Usher Bench," + model + "," + serial + ",1.0"
	s.reset = func() { s.level, s.on = 0, false; push(s) }
	s.interpreter.on(header, func(args []string, _ int) error {
		x, err := parseLevel(args[0], most)
		if err == nil {
			s.level = x
			push(s)
		}
		return err
	}, func(int) (string, error) { return strconv.FormatFloat(s.level, 'f', 4, 64), nil })
	s.interpreter.on("OUTPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !s.health.stuck(s.on, on) {
			s.on = on
			push(s)
		}
		return err
	}, func(int) (string, error) { return showSwitch(s.on), nil })
	s.watchdogCommands(func() { s.on = false; push(s) })
	return s
}

func (b *Bench) addBrake(j joint) error {
	serial := fmt.Sprintf("B1-%04d", 1900+j.number)
	errors := newErrorSource(serial, b.options.Ideal)
	set, torque, speed := errors.draw(brakeSet), errors.draw(shaftTorque), errors.draw(shaftSpeed)
	held, most := false, mostBrakeSpeed
	push := func(s *switched) {
		level := 0.0
		if s.level > 0 {
			level = set.set(s.level)
		}
		j.fixture.setShaft(plant.Brake{On: s.on, Torque: level, Held: held, Speed: most})
	}
	s := newSwitched("SIM-B1", serial, "[SOURce:]TORQue", mostBrakeTorque, push)
	reset := s.reset
	s.reset = func() { held, most = false, mostBrakeSpeed; reset() }
	s.interpreter.on("[SOURce:]SPEed", func(args []string, _ int) error {
		x, err := parseLevel(args[0], mostBrakeSpeed)
		if err == nil {
			most = x
			push(s)
		}
		return err
	}, func(int) (string, error) { return strconv.FormatFloat(most, 'f', 4, 64), nil })
	s.interpreter.on("[SOURce:]FUNCtion", func(args []string, _ int) error {
		word := strings.ToUpper(args[0])
		if word != "TORQ" && word != "SPE" {
			return errParameter
		}
		held = word == "SPE"
		push(s)
		return nil
	}, func(int) (string, error) {
		if held {
			return "SPE", nil
		}
		return "TORQ", nil
	})
	turning := func() plant.Turning {
		if t := j.fixture.operating().Shaft; t != nil {
			return *t
		}
		return plant.Turning{}
	}
	s.interpreter.on("MEASure:TORQue", nil, func(int) (string, error) { return s.shown(torque, turning().Torque), nil })
	s.interpreter.on("MEASure:SPEed", nil, func(int) (string, error) { return s.shown(speed, turning().Speed), nil })
	name := fmt.Sprintf("brake%d", j.number)
	j.wiring.Seats["shaft"] = []Channel{{name, 1}}
	return b.listen(name, brakeKind, s.health, &s.interpreter)
}

// ohmInputs are at the winding, the coil of the brake, the heater and the sensor; mostOhms is what they read at most.
const ohmInputs, mostOhms = 4, 10e3

func (b *Bench) addOhmmeter(j joint) error {
	serial := fmt.Sprintf("R4-%04d", 2000+j.number)
	m := &interpreter{}
	m.health, m.reset = newHealth(), func() {}
	m.identity = "Usher Bench,SIM-R4," + serial + ",1.0"
	errors := newErrorSource(serial, b.options.Ideal)
	ohms, further := errors.draw(windingOhms), errors.draw(accessoryOhms)
	m.on("MEASure:FRESistance", nil, func(input int) (string, error) {
		o := j.fixture.operating()
		switch {
		case input == 1 && o.Line.Volts > 1: // it is no ohmmeter's business while the winding is fed
			return isOver, nil
		case input == 1:
			return m.shown(ohms, o.Winding), nil
		case input-2 < len(o.Accessories) && o.Accessories[input-2] < mostOhms:
			return m.shown(further, o.Accessories[input-2]), nil
		}
		return isOver, nil // it is open
	})
	name := fmt.Sprintf("ohmmeter%d", j.number)
	for input := range ohmInputs {
		j.wiring.Seats[numbered("ohmmeter", input)] = []Channel{{name, input + 1}}
	}
	return b.listen(name, ohmsKind, m.health, m)
}

func (b *Bench) addVibration(j joint) error {
	return b.addSensor(j, vibrationKind, "SIM-Q1", 2300, []sensed{{"MEASure:VIBRation", shaking,
		func(o plant.Operating) float64 { return o.Vibration * 1e-3 }}})
}

func (b *Bench) addClimate(j joint) error {
	return b.addSensor(j, climateKind, "SIM-C3", 2400, []sensed{
		{"MEASure:HUMidity", roomHumidity, func(plant.Operating) float64 { return plant.Humidity }},
		{"MEASure:TEMPerature", roomCelsius, func(plant.Operating) float64 { return plant.Ambient }}})
}

// sensed is what a sensor answers to a question.
type sensed struct {
	header string
	model  channelModel
	truth  func(plant.Operating) float64
}

// addSensor adds an instrument that only reads, in the seat of its own name.
func (b *Bench) addSensor(j joint, kind standIn, model string, first int, senses []sensed) error {
	serial := fmt.Sprintf("%s-%04d", strings.TrimPrefix(model, "SIM-"), first+j.number)
	m := &interpreter{}
	m.health, m.reset = newHealth(), func() {}
	m.identity = "Usher Bench," + model + "," + serial + ",1.0"
	errors := newErrorSource(serial, b.options.Ideal)
	for _, s := range senses {
		drawn := errors.draw(s.model)
		m.on(s.header, nil, func(int) (string, error) { return m.shown(drawn, s.truth(j.fixture.operating())), nil })
	}
	name := fmt.Sprintf("%s%d", kind.name, j.number)
	j.wiring.Seats[kind.name] = []Channel{{name, 1}}
	return b.listen(name, kind, m.health, m)
}

// addRoom puts the next input of the thermometers into the room, beside the one at the unit.
func (b *Bench) addRoom(j joint) error {
	if err := b.addThermo(joint{j.number, nil, &Wiring{Seats: map[string][]Channel{}}}); err != nil {
		return err
	}
	j.wiring.Seats["thermo2"] = []Channel{{fmt.Sprintf("thermometer%d", b.thermometers), b.inputs}}
	return nil
}

func (b *Bench) addDrive(j joint) error {
	serial := fmt.Sprintf("V1-%04d", 2100+j.number)
	percent := newErrorSource(serial, b.options.Ideal).draw(drivePercent)
	s := newSwitched("SIM-V1", serial, "[SOURce:]COMMand", 100, func(s *switched) {
		j.fixture.setDrive(plant.Command{On: s.on, Command: s.level / 100})
	})
	s.interpreter.on("MEASure:COMMand", nil, func(int) (string, error) {
		truth := 0.0
		if s.on {
			truth = s.level
		}
		return s.shown(percent, truth), nil
	})
	name := fmt.Sprintf("drive%d", j.number)
	j.wiring.Seats["drive"] = []Channel{{name, 1}}
	return b.listen(name, driveKind, s.health, &s.interpreter)
}

// sensorPerNewton and sensorZero are what a sensor of force gives: volts over newtons, and at none.
const sensorPerNewton, sensorZero = 1.0 / 250, 13e-3

func (b *Bench) addForce(j joint) error {
	return b.addSensor(j, forceKind, "SIM-F1", 2200, []sensed{
		{"MEASure:FORCe", forceNewtons, func(o plant.Operating) float64 { return o.Force }},
		{"MEASure:VOLTage", forceVolts, func(o plant.Operating) float64 { return sensorZero + sensorPerNewton*o.Force }}})
}
