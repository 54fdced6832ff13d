package simbench

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"usherbench/simbench/plant"
)

var supplyKind = standIn{"supply", slices.Concat(anyFault, textFault, leadFault, outputFault)}

// supply is the two-channel DC supply.
type supply struct {
	interpreter
	outputs [2]supplyOutput
}

type supplyOutput struct {
	in                  *interpreter
	volts, amps         float64
	overVolts, overAmps float64 // protections; they latch
	on, tripped, remote bool
	setVolts            drawn
	readVolts           drawn
	readAmps            drawn
	readFine            drawn
	feed                *feed // nil: nothing is connected
	list                program
}

// program is a list of levels that an output plays by itself, in wall time.
type program struct {
	levels, dwells []float64
	times          int
	stop           chan struct{} // closed to end it; nil: it does not run
}

const (
	mostOverVolts = 88
	mostOverAmps  = 11
	mostLevels    = 500
)

func newSupply(serial string, ideal bool) *supply {
	s := &supply{}
	s.health = newHealth()
	s.identity = "Usher Bench,SIM-S2," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for i := range s.outputs {
		o := &s.outputs[i]
		o.in = &s.interpreter
		o.setVolts, o.readVolts, o.readAmps, o.readFine = errors.draw(supplySetVolts), errors.draw(supplyVolts),
			errors.draw(supplyAmps), errors.draw(standbyAmps)
	}
	s.reset = func() {
		for i := range s.outputs {
			o := &s.outputs[i]
			o.halt()
			o.volts, o.amps, o.on, o.tripped, o.remote = 0, 0, false, false, false
			o.overVolts, o.overAmps = mostOverVolts, mostOverAmps
			o.push()
		}
	}
	s.reset()
	s.level("[SOURce:]VOLTage[:LEVel][:IMMediate]", mostSupplyVolts, func(o *supplyOutput) *float64 { return &o.volts })
	s.level("[SOURce:]CURRent[:LEVel][:IMMediate]", mostSupplyAmps, func(o *supplyOutput) *float64 { return &o.amps })
	s.level("[SOURce:]VOLTage:PROTection[:LEVel]", mostOverVolts, func(o *supplyOutput) *float64 { return &o.overVolts })
	s.level("[SOURce:]CURRent:PROTection[:LEVel]", mostOverAmps, func(o *supplyOutput) *float64 { return &o.overAmps })
	s.toggle("OUTPut[:STATe]", func(o *supplyOutput, on bool) {
		o.halt()
		if s.health.stuck(o.on, on) {
			return
		}
		o.on = on && !o.tripped
		o.push()
	}, func(o *supplyOutput) bool { return o.on })
	s.on("OUTPut:PROTection:TRIPped", nil, s.ask(func(o *supplyOutput) string { return showSwitch(o.tripped) }))
	s.on("OUTPut:PROTection:CLEar", s.act(func(o *supplyOutput) { o.tripped = false }), nil)
	s.on("OUTPut:LIMit[:STATe]", nil,
		s.ask(func(o *supplyOutput) string { return showSwitch(o.feed.operating().Line.Limited && o.on) }))
	s.on("[SOURce:]SENSe", func(args []string, channel int) error {
		if word := strings.ToUpper(args[0]); word != "REM" && word != "LOC" {
			return errParameter
		}
		return s.with(channel, func(o *supplyOutput) { o.remote = strings.EqualFold(args[0], "REM") })
	}, s.ask(func(o *supplyOutput) string { return map[bool]string{true: "REM", false: "LOC"}[o.remote] }))
	s.on("MEASure[:SCALar]:VOLTage[:DC]", nil, s.ask(func(o *supplyOutput) string {
		return s.shown(o.readVolts, s.health.volts(o.measured().Line.Volts))
	}))
	s.on("MEASure[:SCALar]:CURRent[:DC]", nil, s.ask(func(o *supplyOutput) string {
		truth := o.measured().Line.Amps
		if truth <= standbyRange {
			return s.shown(o.readFine, truth)
		}
		return s.shown(o.readAmps, truth)
	}))
	s.listCommands()
	s.watchdogCommands(func() {
		for i := range s.outputs {
			s.outputs[i].halt()
			s.outputs[i].on = false
			s.outputs[i].push()
		}
	})
	return s
}

// level adds the command that sets and asks a number of a channel.
func (s *supply) level(header string, most float64, pick func(*supplyOutput) *float64) {
	s.on(header, func(args []string, channel int) error {
		x, err := parseLevel(args[0], most)
		if err != nil {
			return err
		}
		return s.with(channel, func(o *supplyOutput) { *pick(o) = x; o.push() })
	}, s.ask(func(o *supplyOutput) string { return strconv.FormatFloat(*pick(o), 'f', 4, 64) }))
}

func (s *supply) toggle(header string, set func(*supplyOutput, bool), get func(*supplyOutput) bool) {
	s.on(header, func(args []string, channel int) error {
		on, err := parseSwitch(args[0])
		if err != nil {
			return err
		}
		return s.with(channel, func(o *supplyOutput) { set(o, on) })
	}, s.ask(func(o *supplyOutput) string { return showSwitch(get(o)) }))
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

// act is a command without parameters.
func (s *supply) act(do func(*supplyOutput)) func([]string, int) error {
	return func(_ []string, channel int) error { return s.with(channel, do) }
}

func (o *supplyOutput) push() {
	if o.on && (o.volts > o.overVolts || o.amps > o.overAmps) {
		o.on, o.tripped = false, true
	}
	o.feed.set(plant.Source{On: o.on, Volts: o.setVolts.set(o.volts), Amps: o.amps})
}

func (o *supplyOutput) measured() plant.Operating {
	switch {
	case o.feed != nil:
		return o.feed.operating()
	case o.on:
		return plant.Operating{Line: plant.Seen{Volts: o.setVolts.set(o.volts)}}
	}
	return plant.Operating{}
}

// listCommands add the program: levels with the time that each lasts, played without the computer.
func (s *supply) listCommands() {
	numbers := func(header string, pick func(*program) *[]float64, least, most float64) {
		s.on(header, func(args []string, channel int) error {
			if len(args) > mostLevels {
				return errRange
			}
			list := make([]float64, len(args))
			for i, a := range args {
				x, err := parseLevel(a, most)
				if err != nil || x < least {
					return errRange
				}
				list[i] = x
			}
			return s.with(channel, func(o *supplyOutput) { *pick(&o.list) = list })
		}, s.ask(func(o *supplyOutput) string { return strconv.Itoa(len(*pick(&o.list))) }))
	}
	numbers("LIST:VOLTage", func(p *program) *[]float64 { return &p.levels }, 0, mostSupplyVolts)
	numbers("LIST:DWELl", func(p *program) *[]float64 { return &p.dwells }, 0.001, 3600)
	s.on("LIST:COUNt", func(args []string, channel int) error {
		x, err := parseLevel(args[0], 10_000)
		if err != nil {
			return err
		}
		return s.with(channel, func(o *supplyOutput) { o.list.times = int(x) })
	}, s.ask(func(o *supplyOutput) string { return strconv.Itoa(max(o.list.times, 1)) }))
	s.on("LIST:RUN", s.act(func(o *supplyOutput) { o.play() }),
		s.ask(func(o *supplyOutput) string { return showSwitch(o.list.stop != nil) }))
	s.on("LIST:ABORt", s.act(func(o *supplyOutput) { o.halt() }), nil)
}

// play begins the program. The interpreter's lock is held.
func (o *supplyOutput) play() {
	o.halt()
	if len(o.list.levels) == 0 || len(o.list.levels) != len(o.list.dwells) || !o.on {
		return
	}
	stop := make(chan struct{})
	o.list.stop = stop
	levels, dwells, times := o.list.levels, o.list.dwells, max(o.list.times, 1)
	factor := 1.0
	if o.feed != nil {
		factor = o.feed.fixture.clock.factor
	}
	go func() {
		next := time.Now() // each level ends at its own time, however late the one before was set
		for range times {
			for i, level := range levels {
				o.in.mu.Lock()
				if o.list.stop != stop {
					o.in.mu.Unlock()
					return
				}
				o.volts = level
				o.push()
				o.in.mu.Unlock()
				next = next.Add(time.Duration(dwells[i] / factor * float64(time.Second)))
				select {
				case <-stop:
					return
				case <-time.After(time.Until(next)):
				}
			}
		}
		o.in.mu.Lock()
		defer o.in.mu.Unlock()
		if o.list.stop == stop {
			o.list.stop = nil
		}
	}()
}

func (o *supplyOutput) halt() {
	if o.list.stop != nil {
		close(o.list.stop)
		o.list.stop = nil
	}
}

// watchdog switches off when it was not fed for its time.
type watchdog struct {
	mu    sync.Mutex
	after time.Duration
	timer *time.Timer
}

// watchdogCommands add the watchdog: SYSTem:WATChdog takes seconds, 0 disarms, and SYSTem:WATChdog:FEED feeds.
func (in *interpreter) watchdogCommands(off func()) {
	w := &watchdog{}
	w.timer = time.AfterFunc(math.MaxInt64, func() {
		in.mu.Lock()
		defer in.mu.Unlock()
		off()
	})
	arm := func(seconds float64) {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.after = time.Duration(seconds * float64(time.Second))
		w.timer.Stop()
		if w.after > 0 {
			w.timer.Reset(w.after)
		}
	}
	in.on("SYSTem:WATChdog", func(args []string, _ int) error {
		x, err := parseLevel(args[0], 600)
		if err == nil {
			arm(x)
		}
		return err
	}, func(int) (string, error) { return strconv.FormatFloat(w.after.Seconds(), 'f', 3, 64), nil })
	in.on("SYSTem:WATChdog:FEED", func([]string, int) error { arm(w.after.Seconds()); return nil }, nil)
}
