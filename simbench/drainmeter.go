package simbench

import (
	"fmt"
	"slices"
	"strconv"

	"usherbench/simbench/plant"
)

var drainMeterKind = standIn{"drain-meter", slices.Concat(anyFault, textFault, leadFault, outputFault)}

// drainMeter feeds a device and measures what it takes, from microamperes to amperes. It changes its range by itself,
// and counts the charge through that without a gap.
type drainMeter struct {
	interpreter
	volts, amps float64
	live        bool
	setVolts    drawn
	readVolts   drawn
	ranges      []drawn // of amps, the finest first
	counts      float64 // by which share it counts too much
	feed        *feed
	// seen is what the unit had taken when it was looked at last, A·s; at is when that was; charge is what was counted.
	seen, at, charge float64
}

// drainRanges are the upper ends of the ranges in which it measures amps, A.
var drainRanges = []float64{20e-6, 2e-3, 200e-3, 2}

const mostDrainVolts, mostDrainAmps, drainCounts = 20.0, 2.0, 4e-4

func newDrainMeter(serial string, ideal bool) *drainMeter {
	d := &drainMeter{}
	d.health = newHealth()
	d.identity = "Usher Bench,SIM-Q1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	d.setVolts, d.readVolts = errors.draw(drainSetVolts), errors.draw(drainVolts)
	for _, most := range drainRanges {
		d.ranges = append(d.ranges, errors.draw(channelModel{gain: 4e-4, offset: 1e-4 * most, noise: 2e-5 * most,
			resolution: 1e-6 * most}))
	}
	if !ideal {
		d.counts = errors.draw(channelModel{gain: drainCounts}).gain
	}
	d.reset = func() { d.volts, d.amps, d.live = 0, 0, false; d.push() }
	number := func(header string, most float64, to *float64) {
		d.on(header, func(args []string, _ int) error {
			x, err := parseLevel(args[0], most)
			if err == nil {
				*to = x
				d.push()
			}
			return err
		}, func(int) (string, error) { return strconv.FormatFloat(*to, 'f', 6, 64), nil })
	}
	number("[SOURce:]VOLTage[:LEVel][:IMMediate]", mostDrainVolts, &d.volts)
	number("[SOURce:]CURRent[:LEVel][:IMMediate]", mostDrainAmps, &d.amps)
	d.on("OUTPut[:STATe]", func(args []string, _ int) error {
		on, err := parseSwitch(args[0])
		if err == nil && !d.health.stuck(d.live, on) {
			d.live = on
			d.push()
		}
		return err
	}, func(int) (string, error) { return showSwitch(d.live), nil })
	d.on("OUTPut:LIMit[:STATe]", nil, func(int) (string, error) {
		return showSwitch(d.live && d.feed.operating().Line.Limited), nil
	})
	d.on("MEASure:VOLTage", nil, func(int) (string, error) {
		return d.shown(d.readVolts, d.health.volts(d.feed.operating().Line.Volts)), nil
	})
	d.on("MEASure:CURRent", nil, func(int) (string, error) {
		truth := d.takes()
		return d.shown(d.ranges[rangeOf(drainRanges, truth)], truth), nil
	})
	d.on("[SENSe:]CURRent:RANGe", nil, func(int) (string, error) {
		return strconv.FormatFloat(drainRanges[rangeOf(drainRanges, d.takes())], 'e', 3, 64), nil
	})
	d.on("COUNt:STARt", func([]string, int) error {
		d.count()
		d.charge = 0
		return nil
	}, nil)
	d.on("COUNt:CHARge", nil, func(int) (string, error) {
		d.count()
		return strconv.FormatFloat(d.charge*(1+d.counts)/3600, 'e', 9, 64), nil
	})
	d.watchdogCommands(func() { d.live = false; d.push() })
	return d
}

func (d *drainMeter) takes() float64 {
	if !d.live {
		return 0
	}
	return d.feed.operating().Line.Amps
}

// count adds what was taken since it looked last.
func (d *drainMeter) count() {
	if d.feed == nil {
		return
	}
	f := d.feed.fixture
	now := f.plantTime()
	taken, exact := f.drawn()
	switch {
	case !exact:
		d.charge += d.takes() * (now - d.at)
	case taken >= d.seen: // less is another unit
		d.charge += taken - d.seen
	}
	d.seen, d.at = taken, now
}

func (d *drainMeter) push() {
	d.count()
	d.feed.set(plant.Source{On: d.live, Volts: d.setVolts.set(d.volts), Amps: d.amps})
}

func (b *Bench) addDrainMeter(j joint) error {
	d := newDrainMeter(fmt.Sprintf("Q1-%04d", 1900+j.number), b.options.Ideal)
	d.feed, j.fixture.setVolts = j.fixture.newFeed(), d.setVolts.set
	name := fmt.Sprintf("drainmeter%d", j.number)
	j.wiring.Seats["source"] = []Channel{{name, 1}}
	return b.listen(name, drainMeterKind, d.health, &d.interpreter)
}
