package trace

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var steps = Series{T: []float64{0, 1, 2, 4}, X: []float64{2, 2, 1, 1}}

func TestMeanAndRMSAreWeightedByTime(t *testing.T) {
	mean, err := steps.Mean()
	require.NoError(t, err)
	assert.InDelta(t, 1.375, mean, 1e-12)
	rms, err := steps.RMS()
	require.NoError(t, err)
	assert.InDelta(t, 1.458, rms, 5e-4)
	_, err = Series{}.Mean()
	assert.ErrorIs(t, err, ErrNoData)
	_, err = Series{T: []float64{1}, X: []float64{1}}.Mean()
	assert.ErrorIs(t, err, ErrTooFew)
}

func TestIntegralOfTheWorkedExample(t *testing.T) {
	assert.InDelta(t, 5.5, steps.Integral(), 1e-12)
	volts := []float64{12.0, 12.0, 12.2, 12.2}
	power := Series{T: steps.T, X: make([]float64, 4)}
	for k := range volts {
		power.X[k] = volts[k] * steps.X[k]
	}
	assert.InDelta(t, 66.5, power.Integral(), 1e-9)
}

func TestIntegralIsSplitAtACommand(t *testing.T) {
	s := Series{T: []float64{0, 1, 2}, X: []float64{0, 0, 4}}
	assert.InDelta(t, 2.0, s.Integral(), 1e-12)
	assert.InDelta(t, 4*0.75, s.IntegralSplit([]float64{1.25}), 1e-12)
	assert.InDelta(t, s.Integral(), s.IntegralSplit(nil), 1e-12)
}

func TestCrossingInterpolatesAndHonoursHold(t *testing.T) {
	s := Series{T: []float64{17990, 18000}, X: []float64{21.030, 20.980}}
	c, err := s.Cross(21, Falling, 0)
	require.NoError(t, err)
	assert.InDelta(t, 17996, c.T, 1e-6)

	dip := Series{T: []float64{0, 1, 2, 3, 4, 5, 6}, X: []float64{3, 1, 3, 1, 1, 1, 1}}
	c, err = dip.Cross(2, Falling, 2)
	require.NoError(t, err)
	assert.InDelta(t, 2.5, c.T, 1e-12, "the short dip does not count, and the time is the crossing's")

	_, err = dip.Cross(0.5, Falling, 0)
	assert.ErrorIs(t, err, ErrNotReached)
	_, err = dip.Cross(4, Falling, 0)
	assert.ErrorIs(t, err, ErrAlreadyBeyond)
	assert.InDelta(t, 2.5125, ChargeAt(0, 5, 5.1, 1, 0.5), 1e-12)
}

func TestSettledAverageTakesAutocorrelationIntoAccount(t *testing.T) {
	s := Series{}
	for k, mv := range []float64{0, 0.3, 0.5, 0.2, -0.2, -0.4, -0.3, -0.1} {
		s.T, s.X = append(s.T, float64(k)), append(s.X, 15.001+mv*1e-3)
	}
	a, err := SettledAverage(s, 0)
	require.NoError(t, err)
	assert.InDelta(t, 15.0010, a.Mean, 5e-5)
	assert.InDelta(t, 0.312e-3, a.SD, 1e-6)
	assert.InDelta(t, 0.647, a.R1, 1e-3)
	assert.InDelta(t, 0.238e-3, a.SE, 1e-6)

	a, err = SettledAverage(s, 10e-3)
	require.NoError(t, err)
	assert.InDelta(t, 10e-3/math.Sqrt(12), a.SE, 1e-9, "never below the resolution")
	_, err = SettledAverage(Series{T: s.T[:2], X: s.X[:2]}, 0)
	assert.ErrorIs(t, err, ErrTooFew)
}

func TestSlopeOfTheWorkedExample(t *testing.T) {
	s := Series{T: []float64{0, 60, 120, 180, 240}, X: []float64{40.00, 40.03, 40.05, 40.06, 40.07}}
	line, err := s.Slope()
	require.NoError(t, err)
	assert.InDelta(t, 1.02, line.Slope*3600, 5e-3)
	assert.InDelta(t, 0.151, line.SlopeSD*3600, 1e-3)
	assert.True(t, line.Stable(2.0/3600))
	assert.False(t, line.Stable(1.2/3600))
}

func TestWindowTellsMissingDataFromAbsentData(t *testing.T) {
	s := Series{}
	for k := range 100 {
		x := float64(k)
		if k >= 40 && k < 80 {
			x = math.NaN()
		}
		s.T, s.X = append(s.T, float64(k)), append(s.X, x)
	}
	w, err := s.Window(10.5, 20.5)
	require.NoError(t, err)
	assert.Equal(t, 10.5, w.T[0])
	assert.InDelta(t, 10.5, w.X[0], 1e-12)
	_, err = s.Window(0, 99)
	assert.ErrorIs(t, err, ErrMissing)
	_, err = s.Window(200, 300)
	assert.ErrorIs(t, err, ErrNoData)
	_, err = Series{T: []float64{1, 1}, X: []float64{1, 1}}.Window(0, 2)
	assert.ErrorIs(t, err, ErrOrder)
}

func TestCountersIntegrateEveryFrame(t *testing.T) {
	columns := Columns{"source.volts", "source.amps", "source.watts", "source.charge", "source.energy"}
	c := NewCounters(columns, []string{"source"})
	var last, gap Frame
	for k, amps := range []float64{2, 2, math.NaN(), 1} {
		last = Frame{T: float64(k), Values: []float64{10, amps, 0, 0, 0}}
		c.Fill(last)
		if k == 2 {
			gap = last
		}
	}
	assert.True(t, math.IsNaN(gap.Values[3]), "while readings are missing, so is the counter")
	assert.InDelta(t, 10, last.Values[2], 1e-12)
	// The frame with the missing reading is bridged by a straight line from t = 1 to t = 3.
	assert.InDelta(t, 2+3, last.Values[3], 1e-9)
	assert.InDelta(t, 50, last.Values[4], 1e-9)
}

func TestDecimationKeepsEveryExtreme(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		xs := rapid.SliceOfN(rapid.Float64Range(-100, 100), 1, 500).Draw(t, "values")
		n := rapid.IntRange(1, 50).Draw(t, "buckets")
		in := make([]Bucket, len(xs))
		all := Bucket{Min: math.NaN(), Max: math.NaN()}
		for k, x := range xs {
			in[k] = Bucket{T: float64(k), Min: x, Max: x}
			all.Extend(x)
		}
		out := Decimate(in, 0, float64(len(xs)), n)
		kept := Bucket{Min: math.NaN(), Max: math.NaN()}
		for _, b := range out {
			kept.Merge(b)
		}
		require.LessOrEqual(t, len(out), max(n, 1))
		require.Equal(t, all.Min, kept.Min)
		require.Equal(t, all.Max, kept.Max)
	})
}

// A parabola is met exactly, wherever in it one asks; noise of it is averaged, and what is said of it is true.
func TestAnInstantIsThatOfASmoothCurve(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	var s Series
	for k := range 10 {
		x := 1e5 + float64(k)
		s.T, s.X = append(s.T, x), append(s.X, 21+0.01*(x-1e5)-2e-4*(x-1e5)*(x-1e5))
	}
	for _, past := range []float64{0, 4.3, 9, 10} {
		x, sd := s.Instant(1e5+past, Bent)
		assert.InDelta(t, 21+0.01*past-2e-4*past*past, x, 1e-9)
		assert.InDelta(t, 0, sd, 1e-9)
	}
	var sum, said float64
	const times = 2000
	for range times {
		noisy := Series{T: s.T}
		for _, x := range s.X {
			noisy.X = append(noisy.X, x+1e-3*rng.NormFloat64())
		}
		x, sd := noisy.Instant(1e5+4.5, Bent)
		off := x - (21 + 0.01*4.5 - 2e-4*4.5*4.5)
		sum, said = sum+off*off/times, said+sd*sd/times
	}
	assert.InEpsilon(t, math.Sqrt(sum), math.Sqrt(said), 0.05)
	x, sd := Series{T: []float64{0, 1}, X: []float64{3, 4}}.Instant(0.8, Straight)
	assert.Equal(t, 4.0, x)
	assert.True(t, math.IsNaN(sd), "two samples say nothing of their noise")
}

// A record that is thick at one end has the slope of its course, not that of its thick end.
func TestTheSlopeOfAnUnevenRecordIsThatOfItsCourse(t *testing.T) {
	var s Series
	for x := 0.0; x < 100; {
		s.T, s.X = append(s.T, x), append(s.X, math.Abs(x-50)) // down, then up: no slope in all
		if x < 20 {
			x += 0.05
		} else {
			x += 2
		}
	}
	plain, err := Fit(s.T, s.X)
	require.NoError(t, err)
	even, err := s.Slope()
	require.NoError(t, err)
	assert.Less(t, plain.Slope, -0.3, "the thick end rules")
	assert.InDelta(t, 0, even.Slope, 0.05)
	steady := Series{T: []float64{0, 1, 2, 3, 4}, X: []float64{0, 2, 4, 6, 8}}
	line, err := steady.Slope()
	require.NoError(t, err)
	assert.InDelta(t, 2, line.Slope, 1e-12)
	assert.Equal(t, 5, line.N, "an even record is left as it is")
}

// Charges of picoamperes are counted: what is small keeps every digit.
func TestSmallChargesAreCounted(t *testing.T) {
	columns := Columns{"meter.volts", "meter.amps", "meter.watts", "meter.charge", "meter.energy"}
	c := NewCounters(columns, []string{"meter"})
	var f Frame
	for k := 0; k <= 3600; k++ {
		f = Frame{T: float64(k), Values: []float64{100, 1e-12, 0, 0, 0}}
		c.Fill(f)
	}
	assert.InEpsilon(t, 3.6e-9, f.Values[3], 1e-9, "1 pA for an hour")
	assert.InEpsilon(t, 3.6e-7, f.Values[4], 1e-9)
}
