package simbench

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

// channelModel is how well one quantity of a stand-in is set or read: bounds of gain and offset, noise and resolution.
type channelModel struct{ gain, offset, noise, resolution float64 }

// The stand-ins keep what their dialects promise: errors are drawn evenly from within these bounds.
var (
	supplyVolts    = channelModel{gain: 0.0003, offset: 6e-3, noise: 0.4e-3, resolution: 1e-3}
	supplyAmps     = channelModel{gain: 0.0005, offset: 1.5e-3, noise: 0.08e-3, resolution: 0.1e-3}
	supplySetVolts = channelModel{gain: 0.0005, offset: 10e-3, resolution: 1e-3}
	loadVolts      = channelModel{gain: 0.00025, offset: 4e-3, noise: 0.15e-3, resolution: 0.1e-3}
	loadAmps       = channelModel{gain: 0.0005, offset: 2e-3, noise: 0.12e-3, resolution: 0.1e-3}
	loadSetAmps    = channelModel{gain: 0.0005, offset: 3e-3, resolution: 0.1e-3}
	standbyAmps    = channelModel{gain: 0.0005, offset: 40e-6, noise: 4e-6, resolution: 1e-6}
)

// standbyRange is the upper end of the supply's fine current range, A.
const standbyRange = 0.1

const (
	mostSupplyVolts = 80
	mostSupplyAmps  = 10
	mostLoadVolts   = 150
	mostLoadAmps    = 30
	mostLoadWatts   = 300
	mostLoadOhms    = 10_000
)

// errorSource draws the fixed errors and the noise of one instrument.
type errorSource struct {
	rng   *rand.Rand
	ideal bool
}

// drawn is one quantity of one instrument with its own fixed errors.
type drawn struct {
	model        channelModel
	gain, offset float64
	source       *errorSource
}

func newErrorSource(serial string, ideal bool) *errorSource {
	h := fnv.New64a()
	h.Write([]byte(serial))
	return &errorSource{rng: rand.New(rand.NewPCG(h.Sum64(), 0x5e7)), ideal: ideal}
}

func (s *errorSource) draw(m channelModel) drawn {
	even := func(bound float64) float64 { return (2*s.rng.Float64() - 1) * bound }
	return drawn{model: m, gain: even(m.gain), offset: even(m.offset), source: s}
}

// read is what the instrument shows of a true value; it draws noise, so calls are serialised by the interpreter's lock.
func (d drawn) read(truth float64) float64 {
	if d.source.ideal {
		return truth
	}
	x := truth*(1+d.gain) + d.offset + d.model.noise*d.source.rng.NormFloat64()
	return round(x, d.model.resolution)
}

// set is what the instrument really gives for a setpoint.
func (d drawn) set(x float64) float64 {
	if d.source.ideal {
		return x
	}
	return max(round(x, d.model.resolution)*(1+d.gain)+d.offset, 0)
}

func round(x, step float64) float64 { return math.Round(x/step) * step }

// show writes a reading with the digits of its resolution; exact readings keep every digit.
func (d drawn) show(x float64) string {
	if d.source.ideal {
		return strconv.FormatFloat(x, 'e', 16, 64)
	}
	return strconv.FormatFloat(x, 'f', max(0, int(math.Ceil(-math.Log10(d.model.resolution)-1e-9))), 64)
}

// supply is the two-channel DC supply.
type supply struct {
	interpreter
	outputs [2]supplyOutput
}

type supplyOutput struct {
	volts, amps float64
	on          bool
	setVolts    drawn
	readVolts   drawn
	readAmps    drawn
	readFine    drawn
	fixture     *fixture // nil: nothing is connected
}

func newSupply(serial string, ideal bool) *supply {
	s := &supply{}
	s.identity = "Usher Bench,SIM-S2," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for i := range s.outputs {
		o := &s.outputs[i]
		o.setVolts, o.readVolts, o.readAmps, o.readFine = errors.draw(supplySetVolts), errors.draw(supplyVolts), errors.draw(supplyAmps), errors.draw(standbyAmps)
	}
	s.reset = func() {
		for i := range s.outputs {
			o := &s.outputs[i]
			o.volts, o.amps, o.on = 0, 0, false
			o.push()
		}
	}
	level := func(pick func(*supplyOutput) *float64, most float64) (func([]string, int) error, func(int) (string, error)) {
		return func(args []string, channel int) error {
				x, err := parseLevel(args[0], most)
				if err != nil {
					return err
				}
				return s.with(channel, func(o *supplyOutput) { *pick(o) = x; o.push() })
			}, func(channel int) (string, error) {
				var answer string
				err := s.with(channel, func(o *supplyOutput) { answer = strconv.FormatFloat(*pick(o), 'f', 4, 64) })
				return answer, err
			}
	}
	set, query := level(func(o *supplyOutput) *float64 { return &o.volts }, mostSupplyVolts)
	s.on("[SOURce:]VOLTage[:LEVel][:IMMediate]", set, query)
	set, query = level(func(o *supplyOutput) *float64 { return &o.amps }, mostSupplyAmps)
	s.on("[SOURce:]CURRent[:LEVel][:IMMediate]", set, query)
	s.on("OUTPut[:STATe]", func(args []string, channel int) error {
		on, err := parseSwitch(args[0])
		if err != nil {
			return err
		}
		return s.with(channel, func(o *supplyOutput) { o.on = on; o.push() })
	}, s.ask(func(o *supplyOutput) string { return showSwitch(o.on) }))
	s.on("OUTPut:LIMit[:STATe]", nil, s.ask(func(o *supplyOutput) string { return showSwitch(o.measure().SourceLimited) }))
	s.on("MEASure[:SCALar]:VOLTage[:DC]", nil, s.ask(func(o *supplyOutput) string { return o.readVolts.show(o.readVolts.read(o.measure().LineVolts)) }))
	s.on("MEASure[:SCALar]:CURRent[:DC]", nil, s.ask(func(o *supplyOutput) string {
		truth := o.measure().LineAmps
		if truth <= standbyRange {
			return o.readFine.show(o.readFine.read(truth))
		}
		return o.readAmps.show(o.readAmps.read(truth))
	}))
	return s
}

func (s *supply) with(channel int, do func(*supplyOutput)) error {
	if channel < 1 || channel > len(s.outputs) {
		return errRange
	}
	do(&s.outputs[channel-1])
	return nil
}

func (s *supply) ask(answer func(*supplyOutput) string) func(int) (string, error) {
	return func(channel int) (text string, err error) {
		err = s.with(channel, func(o *supplyOutput) { text = answer(o) })
		return text, err
	}
}

func (o *supplyOutput) push() {
	if o.fixture != nil {
		o.fixture.feed(plant.Source{On: o.on, Volts: o.setVolts.set(o.volts), Amps: o.amps})
	}
}

func (o *supplyOutput) measure() plant.Operating {
	switch {
	case o.fixture != nil:
		return o.fixture.operating()
	case o.on:
		return plant.Operating{LineVolts: o.setVolts.set(o.volts)}
	}
	return plant.Operating{}
}

// load is the electronic load.
type load struct {
	interpreter
	mode      plant.Mode
	levels    map[plant.Mode]float64
	closed    bool // the input is on
	setAmps   drawn
	readVolts drawn
	readAmps  drawn
	fixture   *fixture
}

var loadModes = map[string]plant.Mode{
	"CURR": plant.ConstantCurrent, "VOLT": plant.ConstantVoltage, "POW": plant.ConstantPower, "RES": plant.ConstantResistance,
}

func newLoad(serial string, ideal bool) *load {
	l := &load{}
	l.identity = "Usher Bench,SIM-L1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	l.setAmps, l.readVolts, l.readAmps = errors.draw(loadSetAmps), errors.draw(loadVolts), errors.draw(loadAmps)
	l.reset = func() {
		l.mode, l.closed = plant.ConstantCurrent, false
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
		l.onLevel(header, c.mode, c.most)
	}
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
		if err == nil {
			l.closed = on
			l.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(l.closed), nil })
	l.on("MEASure[:SCALar]:VOLTage[:DC]", nil, func(int) (string, error) {
		return l.readVolts.show(l.readVolts.read(l.measure().OutputVolts)), nil
	})
	l.on("MEASure[:SCALar]:CURRent[:DC]", nil, func(int) (string, error) {
		return l.readAmps.show(l.readAmps.read(l.measure().LoadAmps)), nil
	})
	return l
}

// onLevel adds the command that sets and asks the level of a mode.
func (l *load) onLevel(header string, mode plant.Mode, most float64) {
	l.on(header, func(args []string, _ int) error {
		x, err := parseLevel(args[0], most)
		if err == nil {
			l.levels[mode] = x
			l.push()
		}
		return err
	}, func(int) (string, error) { return strconv.FormatFloat(l.levels[mode], 'f', 4, 64), nil })
}

func (l *load) push() {
	if l.fixture == nil {
		return
	}
	level := l.levels[l.mode]
	if l.mode == plant.ConstantCurrent {
		// An input that is switched off or set to nothing draws nothing, whatever the offset of the setting.
		if level > 0 {
			level = l.setAmps.set(level)
		}
	}
	l.fixture.drain(plant.Load{On: l.closed, Mode: l.mode, Level: level})
}

func (l *load) measure() plant.Operating {
	if l.fixture == nil {
		return plant.Operating{}
	}
	return l.fixture.operating()
}
