package simbench

import (
	"slices"
	"strconv"

	"usherbench/simbench/plant"
)

var cyclerKind = standIn{"cycler", slices.Concat(anyFault, textFault, leadFault, outputFault,
	[]InstrumentFault{OpenInterlock})}

// cycler is the two-channel battery cycler: each channel is source and sink in one. A positive current charges
// up to VOLTage, a negative one discharges down to VOLTage:LOW.
type cycler struct {
	interpreter
	channels [2]cyclerChannel
}

type cyclerChannel struct {
	volts, low, amps float64
	on               bool
	setVolts         drawn
	setAmps          drawn
	readVolts        drawn
	readAmps         drawn
	celsius          drawn
	feed             *feed
	drain            *drain
}

func newCycler(serial string, ideal bool) *cycler {
	c := &cycler{}
	c.health = newHealth()
	c.identity = "Usher Bench,SIM-C2," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for i := range c.channels {
		x := &c.channels[i]
		x.setVolts, x.setAmps, x.readVolts, x.readAmps, x.celsius = errors.draw(cyclerSetVolts), errors.draw(cyclerSetAmps),
			errors.draw(cyclerVolts),
			errors.draw(cyclerAmps), errors.draw(thermoCelsius)
	}
	c.reset = func() {
		for i := range c.channels {
			x := &c.channels[i]
			x.volts, x.low, x.amps, x.on = 0, 0, 0, false
			x.push()
		}
	}
	number := func(header string, least, most float64, pick func(*cyclerChannel) *float64) {
		c.on(header, func(args []string, channel int) error {
			v, err := strconv.ParseFloat(args[0], 64)
			if err != nil {
				return errParameter
			}
			if v < least || v > most {
				return errRange
			}
			return c.with(channel, func(x *cyclerChannel) { *pick(x) = v; x.push() })
		}, c.ask(func(x *cyclerChannel) string { return strconv.FormatFloat(*pick(x), 'f', 4, 64) }))
	}
	number("VOLTage[:LEVel]", 0, mostCyclerVolts, func(x *cyclerChannel) *float64 { return &x.volts })
	number("VOLTage:LOW", 0, mostCyclerVolts, func(x *cyclerChannel) *float64 { return &x.low })
	number("CURRent[:LEVel]", -mostCyclerAmps, mostCyclerAmps, func(x *cyclerChannel) *float64 { return &x.amps })
	c.on("OUTPut[:STATe]", func(args []string, channel int) error {
		on, err := parseSwitch(args[0])
		if err != nil {
			return err
		}
		if on && c.health.now() == OpenInterlock {
			return scpiError{-200, "Execution error;interlock open"}
		}
		return c.with(channel, func(x *cyclerChannel) {
			if !c.health.stuck(x.on, on) {
				x.on = on
				x.push()
			}
		})
	}, c.ask(func(x *cyclerChannel) string { return showSwitch(x.on) }))
	c.on("OUTPut:LIMit[:STATe]", nil,
		c.ask(func(x *cyclerChannel) string { return showSwitch(x.on && x.feed.operating().Line.Limited) }))
	c.on("INTerlock[:STATe]", nil, func(int) (string, error) { return showSwitch(c.health.now() == OpenInterlock), nil })
	c.on("MEASure:VOLTage", nil,
		c.ask(func(x *cyclerChannel) string { return c.shown(x.readVolts, c.health.volts(x.measuredVolts())) }))
	c.on("MEASure:CURRent", nil, c.ask(func(x *cyclerChannel) string {
		return c.shown(x.readAmps, x.feed.operating().Line.Amps-x.drain.operating().Output.Amps)
	}))
	c.on("MEASure:TEMPerature", nil, c.ask(func(x *cyclerChannel) string { return c.shown(x.celsius, x.celsiusNow()) }))
	c.watchdogCommands(func() {
		for i := range c.channels {
			c.channels[i].on = false
			c.channels[i].push()
		}
	})
	return c
}

func (c *cycler) with(channel int, do func(*cyclerChannel)) error {
	if channel < 1 || channel > len(c.channels) {
		return errRange
	}
	do(&c.channels[channel-1])
	return nil
}

func (c *cycler) ask(answer func(*cyclerChannel) string) func(int) (string, error) {
	return func(channel int) (text string, err error) {
		err = c.with(channel, func(x *cyclerChannel) { text = answer(x) })
		return text, err
	}
}

// sinks tells which side of the channel works.
func (x *cyclerChannel) sinks() bool { return x.amps < 0 || x.feed == nil }

func (x *cyclerChannel) push() {
	x.feed.set(plant.Source{On: x.on && !x.sinks(), Volts: x.setVolts.set(x.volts), Amps: x.setAmps.set(x.amps)})
	level := 0.0
	if x.amps < 0 {
		level = x.setAmps.set(-x.amps)
	}
	x.drain.set(plant.Load{On: x.on && x.sinks(), Mode: plant.ConstantCurrent, Level: level, Lockout: x.low})
}

func (x *cyclerChannel) measuredVolts() float64 {
	if x.feed != nil {
		return x.feed.operating().Line.Volts
	}
	return x.drain.operating().Output.Volts
}

func (x *cyclerChannel) celsiusNow() float64 {
	switch {
	case x.feed != nil:
		return x.feed.fixture.operating().Celsius
	case x.drain != nil:
		return x.drain.fixture.operating().Celsius
	}
	return plant.Ambient
}
