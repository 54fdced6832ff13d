package waveform_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/waveform"
)

// sampled is a waveform in fine codes.
func sampled(n int, step float64, at func(t float64) float64) *waveform.Waveform {
	w := &waveform.Waveform{Channel: "output", Unit: "V", Step: step, Lowest: -32768, Highest: 32767,
		Codes: make([]int16, n)}
	most := 0.0
	for i := range n {
		most = math.Max(most, math.Abs(at(float64(i)*step)))
	}
	w.Scale = most / 32_000
	for i := range n {
		w.Codes[i] = int16(math.Round(at(float64(i)*step) / w.Scale))
	}
	return w
}

// Coherent gain and noise bandwidth of the windows are those that are printed of them.
func TestWindowsAreAsTheyArePrinted(t *testing.T) {
	for _, w := range []struct {
		waveform.Window
		gain, bandwidth float64
	}{{waveform.Rectangular, 1, 1}, {waveform.Hann, 0.5, 1.5}, {waveform.BlackmanHarris, 0.35875, 2.0044}} {
		assert.InDelta(t, w.gain, w.Gain(), 1e-12, w.Name)
		assert.InDelta(t, w.bandwidth, w.NoiseBandwidth(), 5e-5, w.Name)
	}
}

// One normalisation holds for tones, wherever they lie between the bins, and for noise.
func TestOneNormalisationHoldsForTonesAndNoise(t *testing.T) {
	const n, step = 1 << 14, 1.0 / 96e3
	rng := rand.New(rand.NewPCG(10, 1))
	for _, window := range []waveform.Window{waveform.Hann, waveform.BlackmanHarris} {
		for _, between := range []float64{0, 0.25, 0.5} {
			f := (170 + between) / (n * step)
			b := sampled(n, step, func(t float64) float64 { return math.Sqrt2 * math.Sin(2*math.Pi*f*t+0.3) }).Bands(window)
			tone, err := b.Strongest(20, 40e3)
			require.NoError(t, err)
			assert.InEpsilon(t, 1, tone.RMS, 5e-4, "%s %g", window.Name, between)
			assert.InDelta(t, f, tone.Frequency, 0.02*b.Width)
			assert.InEpsilon(t, 1, b.RMS(0, 48e3, nil), 5e-4)
		}
		noise := make([]float64, n)
		for i := range noise {
			noise[i] = rng.NormFloat64()
		}
		b := sampled(n, step, func(t float64) float64 { return noise[min(int(math.Round(t/step)), n-1)] }).Bands(window)
		half := b.RMS(0, 24e3, nil)
		assert.InDelta(t, math.Sqrt(0.5), half, 4*b.UnsureOfNoise(0, 24e3)*math.Sqrt(0.5), window.Name)
	}
}

// Few periods and no tone are said.
func TestATonePutsItsConditions(t *testing.T) {
	const n, step = 4096, 1.0 / 48e3
	slow := sampled(n, step, func(t float64) float64 { return math.Sin(2 * math.Pi * 60 * t) })
	_, err := slow.Bands(waveform.Hann).Strongest(20, 20e3)
	require.ErrorIs(t, err, waveform.ErrTooFew)
	flat := &waveform.Waveform{Step: step, Scale: 1, Codes: make([]int16, n), Lowest: -10, Highest: 10}
	_, err = flat.Bands(waveform.Hann).Strongest(20, 20e3)
	require.ErrorIs(t, err, waveform.ErrNotFound)
}

// The weighting is 1 at 1 kHz, and what the standard says elsewhere.
func TestTheWeightingIsThatOfTheStandard(t *testing.T) {
	for hertz, decibels := range map[float64]float64{31.623: -39.4, 100: -19.1, 1000: 0, 2500: 1.3, 10e3: -2.5} {
		assert.InDelta(t, decibels, 20*math.Log10(waveform.Weighing(hertz)), 0.06, hertz)
	}
}
