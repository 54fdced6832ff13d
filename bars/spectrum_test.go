package bars

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/core/waveform"
)

// BenchmarkSpectrum transforms a million samples and takes from them what all figures of an amplifier need: a tone, its
// harmonics, the noise of a band flat and weighted, and the products of two tones.
func BenchmarkSpectrum(b *testing.B) {
	const n, step = 1 << 20, 1.0 / 192e3
	w := &waveform.Waveform{Channel: "output", Unit: "V", Step: step, Scale: 1e-3, Lowest: math.MinInt16,
		Highest: math.MaxInt16, Codes: make([]int16, n)}
	for i := range w.Codes {
		t := float64(i) * step
		w.Codes[i] = int16(20_000*math.Sin(2*math.Pi*997*t) + 20*math.Sin(2*math.Pi*1994*t) + float64(i%7))
	}
	for b.Loop() {
		began := time.Now()
		bands := w.Bands(waveform.BlackmanHarris)
		tone, err := bands.Strongest(20, 80e3)
		require.NoError(b, err)
		require.InDelta(b, 997, tone.Frequency, 0.1)
		require.Len(b, bands.Harmonics(tone, 10), 9)
		require.Positive(b, bands.RMS(20, 20e3, nil))
		require.Positive(b, bands.RMS(20, 20e3, waveform.Weighing))
		for _, product := range []float64{6003, 7997, 5006, 8994, 1003} {
			bands.Near(product)
		}
		atMost("spectrum of a million samples with all figures, s", time.Since(began).Seconds(), 0.2, "%.3f")
	}
}
