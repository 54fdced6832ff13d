package store_test

import (
	"math"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/record"
	"usherbench/core/waveform"
	"usherbench/store"
)

// A capture comes back as it was, whole and in any window, with the extremes of what a window leaves out.
func TestCaptures(t *testing.T) {
	s, err := store.Open(filepath.Join(t.TempDir(), store.File))
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	require.NoError(t, s.CreateRun(&store.Run{ID: "A", State: store.Live, Columns: []string{"load.volts"}}))
	const n = 300_001
	draw := rand.New(rand.NewPCG(3, 4))
	w := &waveform.Waveform{Channel: "output", Unit: "V", T0: -1e-3, Step: 1e-8, Zero: 15, Scale: 1e-3, Lowest: -32768,
		Highest: 32767, Codes: make([]int16, n), Gain: 0.01, Stated: true, Bandwidth: 2e7}
	for i := range w.Codes {
		w.Codes[i] = int16(20_000*math.Sin(float64(i)/3000) + 30*draw.NormFloat64())
	}
	w.Codes[123_456] = 32767 // one sample that no picture may miss
	other := &waveform.Waveform{Channel: "current", Unit: "A", T0: -1e-3, Step: 1e-8, Scale: -2e-3,
		Codes: []int16{1, -32768, 32767, 5}}
	r := s.NewRecorder("A", []string{"load.volts"})
	c := record.Capture{Stage: "step", Of: 1, T: 4.5, Channels: []record.Channel{record.ChannelOf(w),
		record.ChannelOf(other)}}
	require.NoError(t, r.Capture(c, []store.PackedWave{store.PackWave(w), store.PackWave(other)}))
	require.NoError(t, r.Finish(nil))

	listed, err := s.Captures("A")
	require.NoError(t, err)
	assert.Equal(t, []record.Capture{c}, listed)
	for _, want := range []*waveform.Waveform{w, other} {
		back, err := s.Waveform(t.Context(), "A", 0, want.Channel)
		require.NoError(t, err)
		assert.Equal(t, want, back)
	}
	_, err = s.Waveform(t.Context(), "A", 0, "input")
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Waveform(t.Context(), "A", 1, "output")
	assert.ErrorIs(t, err, store.ErrNotFound)

	for _, points := range []int{50, 500, 5000} {
		for _, window := range [][2]float64{{-1, 1}, {-1e-3, 2e-3}, {0.1e-3, 0.5e-3}, {0.2e-3, 0.24e-3}} {
			_, channels, err := s.CaptureWindow(t.Context(), "A", 0, window[0], window[1], points)
			require.NoError(t, err)
			require.Len(t, channels, 2)
			buckets := channels[0].Buckets
			assert.LessOrEqual(t, len(buckets), points+2)
			low, high := math.Inf(1), math.Inf(-1)
			for _, b := range buckets {
				low, high = min(low, b.Min), max(high, b.Max)
			}
			from, to := w.Index(window[0]), w.Index(window[1])
			least, most, _, _ := w.Between(from, to).Extremes(0)
			assert.LessOrEqual(t, low, least+1e-12)
			assert.GreaterOrEqual(t, high, most-1e-12)
			if window[0] == 0.2e-3 && points == 5000 {
				assert.True(t, channels[0].Exact)
			}
		}
	}
}
