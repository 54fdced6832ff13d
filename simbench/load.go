package simbench

import (
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

var loadKind = standIn{"load", slices.Concat(anyFault, textFault, leadFault, outputFault)}

// load is the electronic load.
type load struct {
	interpreter
	mode      plant.Mode
	levels    map[plant.Mode]float64
	closed    bool    // the input is on
	lockout   float64 // it takes nothing below these volts
	overWatts float64 // protection; it latches
	tripped   bool
	setAmps   drawn
	readVolts drawn
	readAmps  drawn
	drain     *drain
}

var loadModes = map[string]plant.Mode{
	"CURR": plant.ConstantCurrent, "VOLT": plant.ConstantVoltage, "POW": plant.ConstantPower,
	"RES": plant.ConstantResistance,
}

func newLoad(serial string, ideal bool) *load {
	l := &load{}
	l.health = newHealth()
	l.identity = "Usher Bench,SIM-L1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	l.setAmps, l.readVolts, l.readAmps = errors.draw(loadSetAmps), errors.draw(loadVolts), errors.draw(loadAmps)
	l.reset = func() {
		l.mode, l.closed, l.tripped, l.lockout, l.overWatts = plant.ConstantCurrent, false, false, 0, mostLoadWatts*1.05
		l.levels = map[plant.Mode]float64{plant.ConstantResistance: mostLoadOhms}
		l.push()
	}
	l.reset()
	for header, c := range map[string]struct {
		mode plant.Mode
		most float64
	}{
		"[SOURce:]CURRent[:LEVel][:IMMediate]":    {plant.ConstantCurrent, mostLoadAmps},
		"[SOURce:]VOLTage[:LEVel][:IMMediate]":    {plant.ConstantVoltage, mostLoadVolts},
		"[SOURce:]POWer[:LEVel][:IMMediate]":      {plant.ConstantPower, mostLoadWatts},
		"[SOURce:]RESistance[:LEVel][:IMMediate]": {plant.ConstantResistance, mostLoadOhms},
	} {
		l.onNumber(header, c.most, func() float64 { return l.levels[c.mode] }, func(x float64) { l.levels[c.mode] = x })
	}
	l.onNumber("VOLTage:LOCKout", mostLoadVolts, func() float64 { return l.lockout }, func(x float64) { l.lockout = x })
	l.onNumber("POWer:PROTection", mostLoadWatts*1.05, func() float64 { return l.overWatts },
		func(x float64) { l.overWatts = x })
	l.on("INPut:PROTection:TRIPped", nil, func(int) (string, error) { return showSwitch(l.tripped), nil })
	l.on("INPut:PROTection:CLEar", func([]string, int) error { l.tripped = false; return nil }, nil)
	l.on("[SOURce:]FUNCtion", func(args []string, _ int) error {
		mode, ok := loadModes[strings.ToUpper(args[0])]
		if !ok {
			return errParameter
		}
		l.mode = mode
		l.push()
		return nil
	}, func(int) (string, error) {
		for name, mode := range loadModes {
			if mode == l.mode {
				return name, nil
			}
		}
		return "", errParameter
	})
	l.on("INPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !l.health.stuck(l.closed, on) {
			l.closed = on && !l.tripped
			l.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(l.closed), nil })
	l.on("MEASure[:SCALar]:VOLTage[:DC]", nil, func(int) (string, error) {
		return l.shown(l.readVolts, l.health.volts(l.measured().Output.Volts)), nil
	})
	l.on("MEASure[:SCALar]:CURRent[:DC]", nil, func(int) (string, error) {
		return l.shown(l.readAmps, l.measured().Output.Amps), nil
	})
	l.watchdogCommands(func() { l.closed = false; l.push() })
	return l
}

// onNumber adds the command that sets and asks a number.
func (l *load) onNumber(header string, most float64, get func() float64, set func(float64)) {
	l.on(header, func(args []string, _ int) error {
		x, err := parseLevel(args[0], most)
		if err == nil {
			set(x)
			l.push()
		}
		return err
	}, func(int) (string, error) { return strconv.FormatFloat(get(), 'f', 4, 64), nil })
}

func (l *load) push() {
	level := l.levels[l.mode]
	if l.mode == plant.ConstantCurrent {
		// An input that is switched off or set to nothing draws nothing, whatever the offset of the setting.
		if level > 0 {
			level = l.setAmps.set(level)
		}
	}
	l.drain.set(plant.Load{On: l.closed, Mode: l.mode, Level: level, Lockout: l.lockout})
}

// measured is the operating point; too much power trips.
func (l *load) measured() plant.Operating {
	o := l.drain.operating()
	if l.closed && o.Output.Volts*o.Output.Amps > l.overWatts {
		l.closed, l.tripped = false, true
		l.push()
	}
	return o
}
