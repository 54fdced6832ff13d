package waveform

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// sine is a sine of 1000 codes at 12.5 kHz and one of 10 at 400 kHz, 2 ms of it at 1 MHz, a code being 1 mV.
func sine() *Waveform {
	w := &Waveform{Step: 1e-6, Scale: 1e-3, Codes: make([]int16, 2000)}
	for i := range w.Codes {
		t := float64(i) * w.Step
		w.Codes[i] = int16(math.Round(1000*math.Sin(2*math.Pi*12.5e3*t) + 10*math.Sin(2*math.Pi*400e3*t)))
	}
	return w
}

func TestNoLineOfASpectrumIsLostInAPicture(t *testing.T) {
	hertz, amplitudes := sine().Spectrum().Reduced(40)
	assert.LessOrEqual(t, len(hertz), 41)
	assert.True(t, slices.IsSorted(hertz))
	at := slices.Index(amplitudes, slices.Max(amplitudes))
	assert.InDelta(t, 12.5e3, hertz[at], 1)
	assert.InDelta(t, 1, amplitudes[at], 1e-3, "volts of the sine")
	weak := slices.IndexFunc(hertz, func(f float64) bool { return math.Abs(f-400e3) < 1 })
	require.GreaterOrEqual(t, weak, 0)
	assert.InDelta(t, 0.010, amplitudes[weak], 2e-4)
}

func TestTheBarsOfAHistogramHoldEverySample(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := &Waveform{Zero: 1, Scale: rapid.Float64Range(1e-4, 1e-2).Draw(t, "scale"),
			Codes: rapid.SliceOfN(rapid.Int16(), 1, 300).Draw(t, "codes")}
		n := rapid.IntRange(1, 400).Draw(t, "bars")
		values, shares := w.Bars(n)
		require.LessOrEqual(t, len(values), n)
		sum := 0.0
		for _, x := range shares {
			sum += x
		}
		assert.InDelta(t, 1, sum, 1e-9)
		assert.True(t, slices.IsSorted(values))
	})
	values, shares := (&Waveform{Scale: 1, Codes: []int16{0, 0, 1, 2, 2, 2, 3}}).Bars(2)
	assert.Equal(t, []float64{0.5, 2.5}, values)
	assert.InDeltaSlice(t, []float64{3.0 / 7, 4.0 / 7}, shares, 1e-12)
}
