package trace

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// However readings lie between the pulses of a current, what its instrument counts by itself is what is counted: also
// where totals are missing meanwhile, and where somebody sets them back.
func TestTotalsOfAnInstrumentAreCounted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		columns := Columns{"meter.volts", "meter.amps", "meter.watts", "meter.charge", "meter.energy"}
		c := NewCounters(columns, []string{"meter"})
		c.Totalled("meter.charge")
		c.Totalled("meter.energy")
		n := rapid.IntRange(2, 60).Draw(t, "frames")
		restart := rapid.IntRange(2, 90).Draw(t, "restart")
		base := rapid.SampledFrom([]float64{-1e3, -200, 300, 1e4}).Draw(t, "base")
		truth, total := 0.0, base
		slack, missing := 0.0, false
		var last Frame
		for k := range n {
			amps := 2.0 // what readings see; the truth is less, since they fall on the pulses
			if k > 0 {
				truth += 1.5
				total += 1.5
			}
			if k == restart && !missing { // it starts again with what flowed since
				total = 1.5
				slack += 0.5
			}
			q := total
			missing = k > 0 && k < n-1 && k+1 != restart && k != restart && rapid.Bool().Draw(t, "missing")
			if missing {
				q = Missing
			}
			last = Frame{T: float64(k), Values: []float64{10, amps, 0, q, 10 * q}}
			c.Fill(last)
		}
		assert.InDelta(t, truth, last.Values[3], slack+1e-6)
		assert.InDelta(t, 10*truth, last.Values[4], 10*slack+1e-5)
	})
}

func TestCountingGoesOnFromWhatWasCounted(t *testing.T) {
	columns := Columns{"meter.volts", "meter.amps", "meter.watts", "meter.charge", "meter.energy"}
	c := NewCounters(columns, []string{"meter"})
	c.Totalled("meter.charge")
	c.Continue(map[string]Counted{"meter.charge": {Charge: 100}})
	first := Frame{T: 5, Values: []float64{10, 2, 0, 7000, 0}}
	c.Fill(first)
	assert.InDelta(t, 100, first.Values[3], 1e-9, "what the instrument counted while nobody looked is not known here")
	second := Frame{T: 6, Values: []float64{10, 2, 0, 7001.25, 0}}
	c.Fill(second)
	assert.InDelta(t, 101.25, second.Values[3], 1e-9)
	assert.InDelta(t, 20, second.Values[4], 1e-9, "its energy goes by its readings")
}

// A total with coarse steps is followed to within a step; one that stands still for good, as of an instrument that was
// off meanwhile, stops nothing from being counted.
func TestATotalThatStandsStill(t *testing.T) {
	columns := Columns{"meter.volts", "meter.amps", "meter.watts", "meter.charge", "meter.energy"}
	c := NewCounters(columns, []string{"meter"})
	c.Totalled("meter.charge")
	truth, last := 0.0, Frame{}
	for k := range 400 {
		if k > 0 {
			truth += 1.9 // readings see 2
		}
		total := 3.6 * math.Floor(truth/3.6)
		if k >= 200 {
			total = 0 // it was switched off and on, and does not count any more
		}
		last = Frame{T: float64(k), Values: []float64{10, 2, 0, 5000 + total, 0}}
		if k >= 200 {
			last.Values[3] = 0
		}
		c.Fill(last)
		if k > 0 && k < 200 {
			assert.InDelta(t, truth, last.Values[3], 4, "at %d s", k)
		}
	}
	assert.InDelta(t, 199*1.9+200*2, last.Values[3], 4, "by its readings from then on")
}

func TestWhatIsNotCountedByTheInstrumentIsByItsReadings(t *testing.T) {
	columns := Columns{"meter.volts", "meter.amps", "meter.watts", "meter.charge", "meter.energy"}
	c := NewCounters(columns, []string{"meter"})
	c.Totalled("meter.charge")
	c.ByReadings("meter")
	var last Frame
	for k := range 5 {
		last = Frame{T: float64(k), Values: []float64{10, 2, 0, 77, 0}} // its total stands still
		c.Fill(last)
	}
	assert.InDelta(t, 8, last.Values[3], 1e-9)
}
