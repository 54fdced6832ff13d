package capture_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/figure/capture"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/waveform"
)

var figures = figure.NewCatalogue(capture.Figures)

// taken makes a waveform of a course over time, in steps of a converter.
func taken(channel string, t0, step float64, n int, quantum float64,
	course func(t float64) float64) *waveform.Waveform {
	w := &waveform.Waveform{Channel: channel, Unit: "V", T0: t0, Step: step, Codes: make([]int16, n), Lowest: -32000,
		Highest: 32000, Stated: true}
	least, most := math.Inf(1), math.Inf(-1)
	x := make([]float64, n)
	for i := range x {
		x[i] = course(t0 + float64(i)*step)
		least, most = min(least, x[i]), max(most, x[i])
	}
	w.Zero, w.Scale = math.Round((least+most)/2/quantum)*quantum, quantum
	for i := range x {
		w.Codes[i] = int16(math.Round((x[i] - w.Zero) / quantum))
	}
	return w
}

// through goes through values at equal steps from t0 on, and stands at the last.
func through(t0, step float64, values ...float64) func(float64) float64 {
	return func(t float64) float64 {
		k := (t - t0) / step
		i := int(math.Floor(k + 1e-9))
		switch {
		case i < 0:
			return values[0]
		case i >= len(values)-1:
			return values[len(values)-1]
		}
		return values[i] + (values[i+1]-values[i])*math.Max(k-float64(i), 0)
	}
}

// of is a record with one capture of a stage.
func of(waves ...*waveform.Waveform) *record.Record {
	rec := &record.Record{Ratings: map[string]quantity.Quantity{"rated_volts": {Value: 15, Dim: quantity.Voltage}}}
	c := record.Capture{Stage: "step", Of: 1}
	for _, w := range waves {
		c.Channels = append(c.Channels, record.ChannelOf(w))
	}
	rec.Captures = []record.Capture{c}
	rec.Samples = func(_ record.Capture, channel string) (*waveform.Waveform, error) {
		for _, w := range waves {
			if w.Channel == channel {
				return w, nil
			}
		}
		return nil, waveform.ErrNoData
	}
	return rec
}

func ask(rec *record.Record, req figure.Request) figure.Result {
	if req.Channel == "" {
		req.Channel = "output"
	}
	req.Stage = "step"
	return figures.Compute(rec, req)
}

func TestWorkedExamplesOfRipple(t *testing.T) {
	w := &waveform.Waveform{Step: 1e-6, Scale: 1e-3, Codes: []int16{-12, -9, -5, -2, 0, 1, 4, 6, 9, 28}}
	h := w.Histogram()
	assert.InDelta(t, 40.0, h.Quantile(1)-h.Quantile(0), 1e-9)
	assert.InDelta(t, 20.2, h.Quantile(0.9)-h.Quantile(0.1), 1e-9)
	w.Codes = []int16{0, 5, 10, 5, 0, -5, -10, -5}
	assert.InDelta(t, 6.12e-3, w.Deviation(), 5e-6)
	w = &waveform.Waveform{Step: 1 / 2.56e6, Scale: 1e-4, Codes: make([]int16, 256)}
	for i := range w.Codes {
		w.Codes[i] = int16(math.Round(10000 * math.Sin(2*math.Pi*203e3*w.Time(i))))
	}
	line, _, err := w.Dominant(0, 0)
	require.NoError(t, err)
	assert.Equal(t, 20, line.Bin)
	assert.InDelta(t, 203.16e3, line.Frequency, 10)
	assert.InDelta(t, 1, line.Amplitude, 0.1)
}

func TestWorkedExamplesOfTransients(t *testing.T) {
	course := through(0, 10e-6, 15.010, 14.640, 14.9, 15.110, 15.05, 15.0)
	rec := of(taken("output", -1e-3, 10e-6, 500, 1e-4, course))
	under := ask(rec, figure.Request{ID: "transient-undershoot"})
	assert.InDelta(t, 0.360, under.Value, 1e-9)
	assert.InDelta(t, 2.40, ask(rec, figure.Request{ID: "transient-undershoot-percent"}).Value, 1e-9)
	over := ask(rec, figure.Request{ID: "transient-overshoot"})
	assert.InDelta(t, 0.110, over.Value, 1e-9)
	assert.InDelta(t, 0.733, ask(rec, figure.Request{ID: "transient-overshoot-percent"}).Value, 1e-3)
	before := figure.Request{ID: "transient-undershoot", Choices: map[string]string{"against": "before"}}
	assert.InDelta(t, 0.370, ask(rec, before).Value, 1e-9)

	settles := through(10e-6, 10e-6, 14.700, 14.850, 14.940, 14.960, 15.060, 15.020, 15.010, 15.000)
	rec = of(taken("output", -0.5e-3, 10e-6, 200, 1e-4, func(t float64) float64 {
		if t < 5e-6 {
			return 15
		}
		return settles(t)
	}))
	band := map[string]float64{"band": 0.05}
	assert.InDelta(t, 52.5e-6, ask(rec, figure.Request{ID: "recovery-time", Args: band}).Value, 1e-12)
	assert.Equal(t, record.WrongConditions, ask(rec, figure.Request{ID: "recovery-time"}).Undetermined.Code)
	never := ask(rec, figure.Request{ID: "recovery-time", Args: map[string]float64{"band": 1}})
	assert.Zero(t, never.Value)
	assert.Contains(t, never.Remarks, "never left")
}

func TestWorkedExamplesOfAStart(t *testing.T) {
	up := func(t float64) float64 { // 6 V/ms about 10 % and 90 %, 15.45 V at the most
		switch {
		case t < 0.9e-3:
			return 0
		case t < 1.20e-3:
			return 6e3 * (t - 0.9e-3)
		case t < 3.50e-3:
			return 1.8 + 11.4*(t-1.2e-3)/2.3e-3
		case t < 3.875e-3:
			return 13.2 + 6e3*(t-3.5e-3)
		case t < 4.25e-3:
			return 15.45 - 1.2e3*(t-3.875e-3)
		}
		return 15
	}
	in := taken("input", -1e-3, 12.5e-6, 1000, 1e-3, func(t float64) float64 {
		return 48 * math.Min(math.Max(t/0.25e-3*0.9, 0), 1)
	})
	rec := of(taken("output", -1e-3, 12.5e-6, 1000, 1e-3, up), in)
	assert.InDelta(t, 2.40e-3, ask(rec, figure.Request{ID: "rise-time"}).Value, 1e-6)
	assert.InDelta(t, 0.90e-3, ask(rec, figure.Request{ID: "startup-delay", Since: "input"}).Value, 1e-6)
	assert.InDelta(t, 3.00, ask(rec, figure.Request{ID: "startup-overshoot"}).Value, 1e-3)
	assert.InDelta(t, 5e3, ask(rec, figure.Request{ID: "slew"}).Value, 5)
	steepest := figure.Request{ID: "slew", Args: map[string]float64{"steepest": 5}}
	assert.InDelta(t, 6e3, ask(rec, steepest).Value, 10)
	edge := ask(rec, figure.Request{ID: "edge-time"})
	assert.InDelta(t, 1.2e-3+2.3e-3*5.7/11.4, edge.Value, 1e-6, "7.5 V")
	delay := ask(rec, figure.Request{ID: "edge-delay", Since: "input"})
	assert.InDelta(t, edge.Value-0.25e-3*0.5/0.9, delay.Value, 1e-6)
	third := figure.Request{ID: "edge-time", Args: map[string]float64{"number": 3}}
	assert.Equal(t, record.NotReached, ask(rec, third).Undetermined.Code)
}

func TestWorkedExampleOfInrush(t *testing.T) {
	w := taken("current", -200e-6, 50e-6, 40, 1e-3, through(0, 50e-6, 0, 20, 38, 30, 18, 9, 3, 0))
	rec := of(w)
	peak := ask(rec, figure.Request{ID: "inrush", Channel: "current"})
	assert.InDelta(t, 38, peak.Value, 1e-9)
	assert.Contains(t, peak.Remarks, "coarse")
	assert.InDelta(t, 0.158, ask(rec, figure.Request{ID: "inrush-i2t", Channel: "current"}).Value, 5e-4)
}

// What makes a figure of a capture undetermined.
func TestWhatCannotBeTold(t *testing.T) {
	flat := func(float64) float64 { return 15 }
	ripple := func(t float64) float64 { return 0.02 * math.Sin(2*math.Pi*200e3*t) }
	clipped := taken("output", -1e-4, 1e-7, 1000, 1e-4, ripple)
	clipped.Highest = 150
	narrow := taken("output", -1e-4, 1e-7, 10_000, 1e-5, ripple)
	narrow.Bandwidth = 1e6
	step := func(t float64) float64 { return math.Max(math.Min(t*1e6, 1), 0) }
	for _, c := range []struct {
		name, code string
		w          *waveform.Waveform
		req        figure.Request
	}{
		{"clipped", record.Clipped, clipped, figure.Request{ID: "ripple-pp"}},
		{"few periods", record.TooFew, taken("output", 0, 1e-7, 400, 1e-5, ripple), figure.Request{ID: "ripple-pp"}},
		{"few samples a period", record.TooFew, taken("output", 0, 1e-6, 4000, 1e-5, ripple),
			figure.Request{ID: "ripple-rms"}},
		{"little bandwidth", record.Limited, narrow,
			figure.Request{ID: "ripple-pp", Args: map[string]float64{"bandwidth": 20e6}}},
		{"no such channel", record.NoData, taken("output", 0, 1e-6, 100, 1e-3, flat),
			figure.Request{ID: "ripple-pp", Channel: "input"}},
		{"drift", record.NotSettled, taken("output", -1e-4, 1e-6, 1000, 1e-4, func(t float64) float64 { return 1e3 * t }),
			figure.Request{ID: "transient-undershoot"}},
		{"no pre-trigger", record.NoData, taken("output", 0, 1e-6, 1000, 1e-4, step), figure.Request{ID: "rise-time"}},
		{"no step", record.BelowFloor, taken("output", -1e-4, 1e-6, 1000, 1e-4, flat), figure.Request{ID: "rise-time"}},
		{"coarse", record.TooFew, taken("output", -1e-4, 1e-6, 1000, 1e-4, step), figure.Request{ID: "rise-time"}},
		{"still outside", record.NotSettled, taken("output", -1e-4, 1e-6, 1000, 1e-4,
			func(t float64) float64 { return 15 - 0.5*math.Max(1-t/0.88e-3, 0)*math.Min(math.Max(t*1e7, 0), 1) }),
			figure.Request{ID: "recovery-time", Args: map[string]float64{"band": 0.01}}},
		{"band in the ripple", record.BelowFloor, taken("output", -1e-4, 1e-6, 1000, 1e-4,
			func(t float64) float64 { return 15 + 0.02*math.Sin(2*math.Pi*50e3*t) }),
			figure.Request{ID: "recovery-time", Args: map[string]float64{"band": 0.01}}},
		{"one tone", record.TooFew, taken("output", 0, 1e-6, 20, 1e-4, ripple), figure.Request{ID: "dominant-frequency"}},
		{"two tones", record.Ambiguous, taken("output", 0, 1e-6, 4000, 1e-5, func(t float64) float64 {
			return math.Sin(2*math.Pi*50e3*t) + 0.95*math.Sin(2*math.Pi*120e3*t)
		}), figure.Request{ID: "dominant-frequency"}},
		{"flat", record.NotFound, taken("output", 0, 1e-6, 4000, 1e-5, func(t float64) float64 {
			return rand.New(rand.NewPCG(uint64(t*1e9), 5)).NormFloat64() * 1e-3
		}), figure.Request{ID: "dominant-frequency"}},
		{"begins in the rush", record.NoData, taken("current", -1e-4, 1e-6, 1000, 1e-3, func(float64) float64 { return 5 }),
			figure.Request{ID: "inrush", Channel: "current"}},
		{"nothing to count from", record.WrongConditions, taken("output", -1e-4, 1e-6, 1000, 1e-4,
			func(t float64) float64 { return math.Max(math.Min(t*1e4, 1), 0) }), figure.Request{ID: "startup-delay"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := ask(of(c.w), c.req)
			require.NotNil(t, r.Undetermined, "%g", r.Value)
			assert.Equal(t, c.code, r.Undetermined.Code, r.Undetermined.Sentence)
		})
	}
}

// A shorted tip tells how much of the ripple is noise.
func TestTheNoiseOfTheShortedTip(t *testing.T) {
	draw := rand.New(rand.NewPCG(1, 2))
	noisy := func(rms float64) func(t float64) float64 {
		return func(t float64) float64 { return rms*math.Sqrt2*math.Sin(2*math.Pi*100e3*t) + 3e-3*draw.NormFloat64() }
	}
	rec := of(taken("output", 0, 1e-7, 20_000, 1e-5, noisy(4e-3)))
	tip := taken("output", 0, 1e-7, 20_000, 1e-5, noisy(0))
	samples := rec.Samples
	rec.Captures = append(rec.Captures, record.Capture{Stage: "tip", Of: 1, Channels: []record.Channel{{Name: "output"}}})
	rec.Samples = func(c record.Capture, channel string) (*waveform.Waveform, error) {
		if c.Stage == "tip" {
			return tip, nil
		}
		return samples(c, channel)
	}
	whole := ask(rec, figure.Request{ID: "ripple-rms"})
	assert.InDelta(t, 5e-3, whole.Value, 0.05e-3)
	corrected := ask(rec, figure.Request{ID: "ripple-rms", Against: "tip"})
	assert.InDelta(t, 4e-3, corrected.Value, 0.06e-3)
	assert.Contains(t, corrected.Remarks, "corrected")
	low := ask(rec, figure.Request{ID: "ripple-pp", Against: "tip"})
	assert.Equal(t, record.BelowFloor, low.Undetermined.Code, "the noise is as high")
}

// covered is how often the stated interval holds the truth, of a thousand captures by instruments whose errors are
// drawn from their accuracy.
func covered(t *testing.T, req figure.Request, truth float64, course func(t float64) float64, t0, step float64, n int,
	noise float64) {
	const captures = 1000
	const gain, offset = 0.01, 0.005
	quantum := noise * 0.7
	draw := rand.New(rand.NewPCG(7, 11))
	held := 0
	var off, u float64
	for range captures {
		g, o := 1+gain*(2*draw.Float64()-1), offset*(2*draw.Float64()-1)
		shift := draw.Float64() * step
		w := taken("output", t0, step, n, quantum, func(t float64) float64 {
			return g*course(t+shift) + o + noise*draw.NormFloat64()
		})
		w.T0 += shift
		w.Gain, w.Offset = gain, offset
		r := ask(of(w), req)
		require.Nil(t, r.Undetermined, "%v", r.Undetermined)
		if math.Abs(r.Value-truth) <= r.U {
			held++
		}
		off, u = off+r.Value-truth, u+r.U
	}
	share := float64(held) / captures
	assert.True(t, share >= 0.93 && share <= 0.97,
		"%s: the interval holds the truth in %.1f %%; off by %.3g on the average, U %.3g", req.ID, 100*share,
		off/captures, u/captures)
}

func TestIntervalsHoldTheTruth(t *testing.T) {
	triangle := func(t float64) float64 {
		x := math.Mod(t*100e3+1000, 1)
		return 15 + 0.02*(4*math.Abs(x-0.5)-1)
	}
	t.Run("ripple-pp", func(t *testing.T) {
		t.Parallel()
		covered(t, figure.Request{ID: "ripple-pp"}, 0.04, triangle, -20e-6, 50e-9, 4000, 0.3e-3)
	})
	t.Run("ripple-rms", func(t *testing.T) {
		t.Parallel()
		covered(t, figure.Request{ID: "ripple-rms"}, 0.02/math.Sqrt(3), triangle, -20e-6, 50e-9, 4000, 0.3e-3)
	})
	dip := func(t float64) float64 { // sets in within some µs, rings, and dies away
		if t < 0 {
			return 15
		}
		return 15 - 0.4*math.Exp(-2000*t)*math.Sin(2*math.Pi*2e3*t)
	}
	least, most, back := 15.0, 15.0, 0.0
	for t := 0.0; t < 4e-3; t += 1e-8 {
		x := dip(t)
		least, most = min(least, x), max(most, x)
		if math.Abs(x-15) > 0.03 {
			back = t
		}
	}
	t.Run("undershoot", func(t *testing.T) {
		t.Parallel()
		covered(t, figure.Request{ID: "transient-undershoot"}, 15-least, dip, -1e-3, 2e-6, 4500, 0.3e-3)
	})
	t.Run("overshoot", func(t *testing.T) {
		t.Parallel()
		covered(t, figure.Request{ID: "transient-overshoot"}, most-15, dip, -1e-3, 2e-6, 4500, 0.3e-3)
	})
	t.Run("recovery", func(t *testing.T) {
		t.Parallel()
		band := map[string]float64{"band": 0.03}
		covered(t, figure.Request{ID: "recovery-time", Args: band}, back, dip, -1e-3, 2e-6, 4500, 0.3e-3)
	})
	rise := func(t float64) float64 { return 15 * math.Min(math.Max(t/2e-3, 0), 1) }
	t.Run("rise", func(t *testing.T) {
		t.Parallel()
		covered(t, figure.Request{ID: "rise-time"}, 1.6e-3, rise, -1e-3, 5e-6, 1200, 3e-3)
	})
	rush := func(t float64) float64 {
		if t < 0 {
			return 0
		}
		return 40 * math.Exp(-t/200e-6) * (1 - math.Exp(-t/5e-6))
	}
	peak := 0.0
	for t := 0.0; t < 1e-3; t += 1e-9 {
		peak = max(peak, rush(t))
	}
	t.Run("inrush", func(t *testing.T) {
		t.Parallel()
		covered(t, figure.Request{ID: "inrush"}, peak, rush, -0.1e-3, 0.5e-6, 4000, 50e-3)
	})
}
