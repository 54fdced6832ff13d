package amplifier_test

import (
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/waveform"
)

// wave is one channel of a capture: what it is at a time, in steps of a fine converter.
type wave struct {
	n     int
	step  float64
	scale float64 // 0: as fine as codes can be
	gain  float64 // bound
	at    func(t float64) float64
}

func (x wave) taken(channel string) *waveform.Waveform {
	w := &waveform.Waveform{Channel: channel, Unit: "V", Step: x.step, Lowest: -32768, Highest: 32767,
		Codes: make([]int16, x.n), Stated: true, Gain: x.gain, Scale: x.scale}
	if w.Scale == 0 {
		for i := range x.n {
			w.Scale = math.Max(w.Scale, math.Abs(x.at(float64(i)*x.step))/32_000)
		}
	}
	for i := range x.n {
		w.Codes[i] = int16(math.Round(x.at(float64(i)*x.step) / w.Scale))
	}
	return w
}

// captured is a run with a capture for each stage, of an output and, where there is one, an input.
func captured(stages map[string]map[string]wave) *record.Record {
	rec := &record.Record{Stages: []record.Span{{Name: "idle", T0: 0, T1: 2}}}
	waves := map[string]*waveform.Waveform{}
	for stage, channels := range stages {
		c := record.Capture{Index: len(rec.Captures), Stage: stage, Of: 1}
		for name, x := range channels {
			w := x.taken(name)
			waves[stage+" "+name] = w
			c.Channels = append(c.Channels, record.ChannelOf(w))
		}
		rec.Captures = append(rec.Captures, c)
	}
	rec.Trace = func(string, float64, float64) (trace.Series, error) { return trace.Series{}, trace.ErrNoData }
	rec.Samples = func(c record.Capture, channel string) (*waveform.Waveform, error) {
		return waves[c.Stage+" "+channel], nil
	}
	return rec
}

func only(w wave) *record.Record { return captured(map[string]map[string]wave{"take": {"output": w}}) }

func compute(rec *record.Record, id string, args map[string]float64, more ...func(*figure.Request)) figure.Result {
	req := figure.Request{ID: id, Stage: "take", Channel: "output", Args: args}
	for _, change := range more {
		change(&req)
	}
	return catalogue.Figures().Compute(rec, req)
}

func against(stage string) func(*figure.Request) {
	return func(r *figure.Request) { r.Against = stage }
}

// lines is a sum of tones: effective value by bin.
func lines(n int, step float64, tones map[float64]float64) wave {
	bins := slices.Sorted(maps.Keys(tones))
	return wave{n: n, step: step, at: func(t float64) float64 {
		x := 0.0
		for _, bin := range bins {
			x += math.Sqrt2 * tones[bin] * math.Sin(2*math.Pi*bin*t/(float64(n)*step)+bin)
		}
		return x
	}}
}

const rate = 48e3

func TestGainAndLevelByTheirWorkedExamples(t *testing.T) {
	const n = 4096
	rec := captured(map[string]map[string]wave{"take": {"input": lines(n, 1/rate, map[float64]float64{85.3: 0.6}),
		"output": lines(n, 1/rate, map[float64]float64{85.3: 12})}})
	r := compute(rec, "voltage-gain", nil)
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 26.02, r.Value, 0.005)
	assert.InDelta(t, 21.58, compute(rec, "output-level", nil).Value, 0.005)
	high := only(lines(n, 1/rate, map[float64]float64{0.4 * n: 12}))
	r = compute(high, "output-level", nil)
	assert.InDelta(t, 21.58, r.Value, 0.005, "a tone near the end of the band is no noise")
	dead := only(lines(n, 1/rate, map[float64]float64{85.3: 0}))
	assert.NotNil(t, compute(dead, "voltage-gain", nil).Undetermined)
}

func TestImpedanceOfTwoLoadsByItsWorkedExample(t *testing.T) {
	const n = 4096
	rec := captured(map[string]map[string]wave{"take": {"output": lines(n, 1/rate, map[float64]float64{85: 11.88})},
		"lighter": {"output": lines(n, 1/rate, map[float64]float64{85: 12})}})
	args := map[string]float64{"load": 4, "other": 8}
	r := compute(rec, "output-impedance", args, against("lighter"))
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 81.6e-3, r.Value, 0.2e-3)
	assert.InDelta(t, 49.0, compute(rec, "damping-factor", args, against("lighter")).Value, 0.1)
	args["load"] = 8
	assert.Equal(t, record.WrongSign, compute(rec, "output-impedance", map[string]float64{"load": 8},
		func(r *figure.Request) { r.Stage, r.Against = "lighter", "take" }).Undetermined.Code)
	assert.Equal(t, record.NoData, compute(rec, "output-impedance", nil, against("lighter")).Undetermined.Code)
}

func TestDistortionByItsWorkedExample(t *testing.T) {
	rec := only(lines(4096, 1/4096., map[float64]float64{31: 1, 62: 3e-3, 93: 4e-3, 200: 12e-3}))
	r := compute(rec, "harmonic-distortion", nil)
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 0.5, r.Value, 0.002)
	band := map[string]float64{"from": 10, "to": 2000}
	assert.InDelta(t, 1.3, compute(rec, "distortion-plus-noise", band).Value, 0.003)
	relative := func(r *figure.Request) { r.Choices = map[string]string{"relative-to": "total"} }
	assert.InDelta(t, 1.2999, compute(rec, "distortion-plus-noise", band, relative).Value, 0.003)
	slow := only(lines(4096, 1/4096., map[float64]float64{6: 1}))
	assert.Equal(t, record.TooFew, compute(slow, "harmonic-distortion", map[string]float64{"frequency": 6}).
		Undetermined.Code)
}

// What the bench itself has may add to a distortion or cancel it: above a third of it both ends are said.
func TestTheBenchsOwnDistortionIsSaid(t *testing.T) {
	const n = 8192
	rec := captured(map[string]map[string]wave{
		"take": {"output": lines(n, 1/rate, map[float64]float64{171: 1, 342: 2e-3})},
		"loop": {"output": lines(n, 1/rate, map[float64]float64{171: 1, 342: 1e-3})}})
	r := compute(rec, "harmonic-distortion", nil, against("loop"))
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 0.2, r.Value, 0.002)
	assert.GreaterOrEqual(t, r.U, 0.09)
	assert.Contains(t, r.Remarks[len(r.Remarks)-1], "between 0.1 % and 0.3 %")
}

func TestProductsOfTwoTonesByTheirWorkedExamples(t *testing.T) {
	const n = 48_000 // bins of 1 Hz
	rec := only(lines(n, 1/rate, map[float64]float64{60: 4, 7000: 1, 7060: 3e-3, 6940: 3e-3, 7120: 4e-3, 6880: 4e-3}))
	r := compute(rec, "modulation-distortion", map[string]float64{"first": 60, "second": 7000})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1, r.Value, 0.005)
	assert.Contains(t, r.Remarks[0], "second order 0.6 %, third 0.8 %")
	rec = only(lines(n, 1/rate, map[float64]float64{13e3: 5, 14e3: 5, 1000: 3e-3, 12e3: 2e-3, 15e3: 2e-3}))
	close := compute(rec, "difference-distortion", map[string]float64{"first": 13e3, "second": 14e3})
	require.Nil(t, close.Undetermined)
	assert.InDelta(t, 0.05, close.Value, 0.001)
	assert.Equal(t, record.Ambiguous, compute(rec, "difference-distortion",
		map[string]float64{"first": 1000, "second": 1500}).Undetermined.Code, "1,500 − 1,000 Hz is a third harmonic's")
	assert.Equal(t, record.NoData, compute(rec, "difference-distortion", nil).Undetermined.Code)
}

func TestNoiseByItsWorkedExample(t *testing.T) {
	const n = 1 << 15
	rng := rand.New(rand.NewPCG(10, 4))
	white := func(inBand float64) wave { // of 20 Hz to 20 kHz
		x := make([]float64, n)
		for i := range x {
			x[i] = inBand * math.Sqrt(0.5*rate/(20e3-20)) * rng.NormFloat64()
		}
		return wave{n: n, step: 1 / rate, at: func(t float64) float64 { return x[min(int(math.Round(t*rate)), n-1)] }}
	}
	rec := captured(map[string]map[string]wave{"take": {"output": white(130e-6)}, "floor": {"output": white(50e-6)}})
	r := compute(rec, "output-noise", nil, against("floor"))
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 120e-6, r.Value, 3e-6)
	sn := compute(rec, "signal-to-noise", map[string]float64{"level": 12}, against("floor"))
	assert.InDelta(t, 100, sn.Value, 0.2)
	assert.Equal(t, record.NoRating, compute(rec, "signal-to-noise", nil).Undetermined.Code)
	rec.Ratings = map[string]quantity.Quantity{"rated_power": quantity.Of(36, "W"), "rated_load": quantity.Of(4, "Ω")}
	assert.InDelta(t, sn.Value, compute(rec, "signal-to-noise", nil, against("floor")).Value, 1e-9)
	weighted := compute(rec, "output-noise", nil, func(r *figure.Request) {
		r.Choices = map[string]string{"weighting": "a"}
	})
	assert.Less(t, weighted.Value, 0.8*130e-6)
	quiet := captured(map[string]map[string]wave{"take": {"output": white(60e-6)}, "floor": {"output": white(50e-6)}})
	bound := compute(quiet, "output-noise", nil, against("floor")).Undetermined
	require.NotNil(t, bound)
	assert.Equal(t, record.BelowFloor, bound.Code)
	assert.InDelta(t, 60e-6, *bound.AtMost, 3e-6)
}

func TestEfficiencyAndIdleCurrentByTheirWorkedExamples(t *testing.T) {
	rec := only(lines(4800, 1/rate, map[float64]float64{100: 12}))
	series := map[string]trace.Series{"source.volts": {T: []float64{-1, 0.03, 0.06, 0.09}, X: []float64{24, 24, 24, 24}},
		"source.amps": {T: []float64{0, 1, 2}, X: []float64{41.8e-3, 42.2e-3, 42e-3}}}
	rec.Trace = func(c string, from, to float64) (trace.Series, error) { return series[c].Between(from, to), nil }
	quiet := series["source.amps"]
	series["source.amps"] = trace.Series{T: []float64{-1, 0.03, 0.06, 0.09}, X: []float64{2.4, 2.4, 2.4, 2.4}}
	r := compute(rec, "amplifier-efficiency", map[string]float64{"load": 4})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 62.5, r.Value, 0.05)
	series["source.amps"] = quiet
	idle := compute(rec, "idle-current", nil, func(r *figure.Request) { r.Stage, r.Channel = "idle", "" })
	require.Nil(t, idle.Undetermined)
	assert.InDelta(t, 42.05e-3, idle.Value, 1e-6)
	series["source.amps"] = trace.Series{T: []float64{0, 0.5, 1, 1.5, 2}, X: []float64{40e-3, 45e-3, 50e-3, 55e-3, 60e-3}}
	moving := compute(rec, "idle-current", nil, func(r *figure.Request) { r.Stage, r.Channel = "idle", "" })
	assert.Equal(t, record.NotSettled, moving.Undetermined.Code)
}

// Gain, noise, distortion and output impedance lie within their uncertainty of the truth, in as many of 1,000 runs as
// they say.
func TestIntervalsHoldTheTruth(t *testing.T) {
	rng := rand.New(rand.NewPCG(20, 10))
	const n, bound, white = 2048, 1e-3, 400e-6
	held := map[string]int{}
	for range 1000 {
		phase := rng.Float64()
		noisy := func(gain float64, tones map[float64]float64) wave {
			of := lines(n, 1/rate, tones)
			x := make([]float64, n)
			most := 0.0
			for i := range x {
				x[i] = (1 + gain) * (of.at(float64(i)/rate+phase) + white*rng.NormFloat64())
				most = math.Max(most, math.Abs(x[i]))
			}
			return wave{n: n, step: 1 / rate, gain: bound, scale: most / 32_000,
				at: func(t float64) float64 { return x[min(int(math.Round(t*rate)), n-1)] }}
		}
		even := func() float64 { return (2*rng.Float64() - 1) * bound }
		out, in, f := even(), even(), 85+20*rng.Float64()
		rec := captured(map[string]map[string]wave{
			"take": {"output": noisy(out, map[float64]float64{f: 11.88, 2 * f: 24e-3, 3 * f: 18e-3}),
				"input": noisy(in, map[float64]float64{f: 0.6})},
			"lighter": {"output": noisy(out, map[float64]float64{f: 12})},
			"silent":  {"output": noisy(out, nil)}})
		holds := func(id string, truth float64, args map[string]float64, more ...func(*figure.Request)) {
			r := compute(rec, id, args, more...)
			require.Nil(t, r.Undetermined, id)
			if math.Abs(r.Value-truth) <= r.U {
				held[id]++
			}
		}
		holds("voltage-gain", 20*math.Log10(11.88/0.6), nil)
		holds("harmonic-distortion", 100*30e-3/11.88, map[string]float64{"orders": 3})
		holds("output-impedance", 0.12/(11.88/4-12./8), map[string]float64{"load": 4, "other": 8}, against("lighter"))
		silent := func(r *figure.Request) { r.Stage = "silent" }
		holds("output-noise", white*math.Sqrt((20e3-50)/(rate/2)), map[string]float64{"from": 50}, silent)
	}
	for id, times := range held {
		t.Logf("%s: %.1f %%", id, float64(times)/10)
		assert.GreaterOrEqual(t, times, 930, id)
		assert.LessOrEqual(t, times, 975, id)
	}
}

// What is drawn of a distortion is the rest when the tone is taken off, wherever the tone lies between two bins.
func TestTheResidualIsWhatIsLeftOfATone(t *testing.T) {
	for _, f := range []float64{1000, 1003.7, 60.3} {
		w := wave{n: 48_000, step: 1 / 96e3, at: func(t float64) float64 {
			return 0.2 + 10*math.Sin(2*math.Pi*f*t+0.7) + 0.05*math.Cos(2*math.Pi*3*f*t)
		}}
		d := compute(only(w), "distortion-plus-noise", nil).Drawing
		require.NotNil(t, d, f)
		assert.Equal(t, "Residual of take", d.Title)
		line := d.Lines[0]
		assert.InDelta(t, 5/f, line.X[len(line.X)-1]-line.X[0], 0.1/f, "five periods")
		largest := 0.0
		for k, x := range line.X {
			largest = math.Max(largest, math.Abs(line.Y[k]))
			assert.InDelta(t, 0.05*math.Cos(2*math.Pi*3*f*x), line.Y[k], 0.012, "%g Hz at %g s", f, x)
		}
		assert.InDelta(t, 0.05, largest, 0.012)
		assert.LessOrEqual(t, len(line.X), 1000)
	}
	short := wave{n: 600, step: 1 / 96e3, at: func(t float64) float64 { return math.Sin(2 * math.Pi * 1000 * t) }}
	assert.Nil(t, compute(only(short), "distortion-plus-noise", nil).Drawing, "too few periods are not drawn")
}
