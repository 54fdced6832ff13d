package condition

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"testing"

	"usherbench/core/trace"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/stat"
	"pgregory.net/rapid"
)

func compiled(t require.TestingT, text string) *Condition {
	c, err := Compile(text, scope)
	require.NoError(t, err, text)
	return c
}

func TestFunctionsLookBack(t *testing.T) {
	for text, want := range map[string]bool{
		"rate(load.volts, 1 s) > 0.99 V/s":        true,
		"rate(load.volts, 1 s) < 1.01 V/s":        true,
		"mean(load.volts, 2 s) < load.volts":      true,
		"min(load.volts, 1 s) > 8.9 V":            true,
		"max(load.volts, 1 s) >= load.volts":      true,
		"delta(load.volts, 2 s) > 1.99 V":         true,
		"rise(load.volts) > 6.9 V":                true, // the stage began at 3 s
		"rise(load.volts) > 7.1 V":                false,
		"drop(load.volts) > 0.1 V":                false,
		"drop(-load.volts) > 6.9 V":               true,
		"rate(2 * load.volts, 500 ms) > 1.9 V/s":  true,
		"load.volts > 9 V for 900 ms":             true,
		"mean(load.volts - cutoff, 1 s) > 6 V":    true,
		"rate(load.volts, 1 s) > 0.5 V/s for 2 s": true,
	} {
		c := compiled(t, text)
		var truth Truth
		for k := range 1001 {
			s := Sample{T: float64(k) / 100, Columns: []float64{float64(k) / 100, 1}}
			if s.T >= 3 {
				s.Entry, s.StageT = 1, s.T-3
			}
			truth = c.Evaluate(s)
		}
		assert.Equal(t, want, truth == True, text)
	}
}

func TestAWindowThatIsNotFullIsUnknownButNotMissing(t *testing.T) {
	c := compiled(t, "rate(load.volts, 1 s) > 1 V/s")
	assert.Equal(t, Unknown, c.Evaluate(sample(0, 1, 1)))
	assert.True(t, c.Filling())
	assert.Equal(t, Unknown, c.Evaluate(sample(0.5, math.NaN(), 1)))
	assert.False(t, c.Filling(), "a missing reading is missing")
	assert.Equal(t, True, c.Evaluate(sample(1, 3, 1)))
}

func TestMistakesInFunctionsAreExplained(t *testing.T) {
	for text, want := range map[string]string{
		"rate(load.volts) > 1 V/s":            "rate needs a window",
		"rate(load.volts, 2 V) > 1 V/s":       "the window of rate is a time",
		"rate(load.volts, 0 s) > 1 V/s":       "more than 0",
		"rate(load.volts, stage.elapsed) > 1": "the window of rate is a fixed time",
		"drop(load.volts, load.volts) > 1 V":  "the window of drop is a time",
		"spread(load.volts, 2 s) > 1 V": `"spread" is no function; ` +
			`known are delta, drop, gain, max, mean, min, rate, rise`,
		"rate(load.volts, 1 s) > 1 V":          "compares V·s^-1 with volts",
		"load.volts > 1 V for load.volts":      "after for comes a fixed time",
		"mean(load.volts, 1 s) + 1 A > 2 V":    "adds or subtracts volts and amperes",
		"min(load.volts < 3 V, 1 s) < 3 V":     "a condition reads like",
		"rate(nothing.volts, 1 s) > 1 V/s":     `"nothing.volts" is not known`,
		"rate(load.volts, 1 s, 2 s) > 1 V/s":   "a condition reads like",
		"delta(delta(load.volts), 1 s) > 10 V": "delta needs a window",
	} {
		_, err := Compile(text, scope)
		var mistake *Error
		require.True(t, errors.As(err, &mistake), "%s: %v", text, err)
		assert.Contains(t, mistake.Reason, want, text)
	}
}

// TestWindowsAgreeWithTheirDefinition compares the running computation with one from all frames, and a
// condition that is saved and restored on the way with one that is not.
func TestWindowsAgreeWithTheirDefinition(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		length := rapid.Float64Range(0.1, 5).Draw(t, "window")
		steps := rapid.SliceOfN(rapid.Float64Range(0.03, 0.14), 2, 400).Draw(t, "steps")
		xs := rapid.SliceOfN(rapid.Float64Range(-100, 100), len(steps), len(steps)).Draw(t, "values")
		stop := rapid.IntRange(0, len(steps)-1).Draw(t, "saved at")
		of := map[string]*Condition{}
		for name := range functions {
			of[name] = compiled(t, fmt.Sprintf("%s(load.amps, %.9f s) > 0 A%s", name, length,
				map[bool]string{true: "/s"}[functions[name].perTime]))
		}
		var ts []float64
		var now float64
		for k, dt := range steps {
			now += dt
			ts = append(ts, now)
			for name, c := range of {
				c.Evaluate(sample(now, 0, xs[k]))
				if k == stop {
					data, err := json.Marshal(c.State())
					require.NoError(t, err)
					var state State
					require.NoError(t, json.Unmarshal(data, &state))
					of[name] = compiled(t, c.Text)
					of[name].Restore(state)
				}
			}
		}
		first := 0
		for first+1 < len(ts) && ts[first+1] <= now-length {
			first++
		}
		if now-ts[first] < length {
			return
		}
		wt, wx := ts[first:], xs[first:]
		_, slope := stat.LinearRegression(wt, wx, nil, false)
		low, high, travel := math.Inf(1), math.Inf(-1), 0.0
		for k, x := range wx {
			low, high = math.Min(low, x), math.Max(high, x)
			if k > 0 {
				travel += math.Abs(x - wx[k-1])
			}
		}
		for name, want := range map[string]float64{"rate": slope, "mean": weightedMean(wt, wx), "min": low, "max": high,
			"delta": wx[len(wx)-1] - wx[0], "travel": travel} {
			require.InDelta(t, want, of[name].windows[0].value, 1e-6*math.Max(1, math.Abs(want)), name)
		}
	})
}

// weightedMean is the mean of a straight line through every two neighbours.
func weightedMean(t, x []float64) (sum float64) {
	for k := 1; k < len(t); k++ {
		sum += 0.5 * (x[k-1] + x[k]) * (t[k] - t[k-1])
	}
	return sum / (t[len(t)-1] - t[0])
}

// What is not known is not the past: after an outage a window fills anew, and "for" counts from then.
func TestAnOutageIsNotThePast(t *testing.T) {
	c := compiled(t, "mean(load.volts, 1 s) > 1 V")
	now := 0.0
	for range 100 {
		now += 0.02
		c.Evaluate(sample(now, 5, 1))
	}
	assert.Equal(t, True, c.Evaluate(sample(now+0.02, 5, 1)))
	assert.Equal(t, Unknown, c.Evaluate(sample(now+3600, 0, 1)), "an hour later")
	assert.True(t, c.Filling())
	slow := compiled(t, "mean(load.volts, 1 s) > 1 V")
	for k := range 10 {
		slow.Evaluate(sample(2*float64(k), 5, 1))
	}
	assert.Equal(t, True, slow.Evaluate(sample(20, 5, 1)), "an instrument that reads every two seconds has no outages")
}

// "For" counts what was known, at whatever rate an instrument reads: an outage does not count, and breaks nothing.
func TestForDoesNotCountAnOutage(t *testing.T) {
	for _, every := range []float64{0.02, 0.5} {
		c := compiled(t, "load.volts < 14 V for 10 s")
		now := 1.0
		for ; now < 5; now += every {
			require.Equal(t, False, c.Evaluate(sample(now, 13, 1)))
			require.Equal(t, Unknown, c.Evaluate(sample(now+every/2, math.NaN(), 1)), "a slow instrument has none now")
		}
		for past := 0.0; past < 30; past += every {
			require.Equal(t, Unknown, c.Evaluate(sample(now+past, math.NaN(), 1)))
		}
		now += 30
		require.Equal(t, False, c.Evaluate(sample(now, 13, 1)), "half a minute of nothing is not 10 s of low volts")
		for end := now + 5.4; now < end; now += every {
			require.Equal(t, False, c.Evaluate(sample(now, 13, 1)), "4 s before and 5 s after")
		}
		truth := False
		for end := now + 1.5; now < end; now += every {
			truth = c.Evaluate(sample(now, 13, 1))
		}
		assert.Equal(t, True, truth)
	}
}

// What is read by several instruments is known in pieces: a moment apart, and then nothing for a whole interval.
// However short the moments, and whichever comes first, that is no outage.
func TestPiecesAreNoOutages(t *testing.T) {
	for _, moment := range []float64{1e-6, 0.001, 0.01} {
		for _, every := range []float64{0.02, 0.08, 0.5} {
			for _, first := range []float64{0, moment} {
				held, mean := compiled(t, "load.volts < 14 V for 1 s"), compiled(t, "mean(load.volts, 1 s) < 14 V")
				tripped, known := false, false
				for k := 0.0; k*every < 4; k++ {
					for _, now := range []float64{1 + first + k*every, 1 + first + k*every + moment} {
						tripped = tripped || held.Evaluate(sample(now, 13, 1)) == True
						known = known || mean.Evaluate(sample(now, 13, 1)) == True
					}
				}
				assert.True(t, tripped, "held for 4 s, read every %g s, in pieces %g s apart", every, moment)
				assert.True(t, known, "mean over 4 s, read every %g s, in pieces %g s apart", every, moment)
			}
		}
	}
}

// A rhythm that changes for good is taken over soon, whether it becomes quicker or slower.
func TestAnotherRhythmIsNoOutage(t *testing.T) {
	c := compiled(t, "load.volts < 14 V for 10 s")
	now := 1.0
	for ; now < 20; now += 0.02 {
		c.Evaluate(sample(now, 15, 1))
	}
	began := now
	for c.Evaluate(sample(now, 13, 1)) != True {
		now += 1
		require.Less(t, now-began, 16.0)
	}
}

// A rule that looks back begins where it is told: a top of the first minutes is none, and a gain counts from a mean.
func TestWhatLooksBackBeginsWhereItIsTold(t *testing.T) {
	drop, gain := compiled(t, "drop(load.volts, 5 min) > 1 V"), compiled(t, "gain(load.volts, 30 s) >= 2 V")
	volts := func(past float64) float64 {
		switch {
		case past < 60:
			return 9 // a false top
		case past < 600:
			return 4 + past/600
		}
		return 3.9
	}
	for past := 0.0; past < 900; past++ {
		s := Sample{T: 1000 + past, StageT: past, Columns: []float64{volts(past), 1}}
		want := False
		if past < 300 {
			want = Unknown
		} else if past >= 600 {
			want = True
		}
		require.Equal(t, want, drop.Evaluate(s), "%g s", past)
		s.Columns[0] = 5 + past/100
		want = False // from 5.15 V, the mean of the first half minute
		if past < 30 {
			want = Unknown
		} else if past >= 215 {
			want = True
		}
		require.Equal(t, want, gain.Evaluate(s), "%g s", past)
	}
}

// A missing reading is missing, also while another window still fills.
func TestAFillingWindowHidesNoMissingReading(t *testing.T) {
	c := compiled(t, "mean(load.volts, 60 s) > 5 V or load.amps > 3 A")
	assert.Equal(t, Unknown, c.Evaluate(sample(1, 3, 1)))
	assert.True(t, c.Filling())
	assert.Equal(t, Unknown, c.Evaluate(sample(2, 3, math.NaN())))
	assert.False(t, c.Filling())
}

// A trend is the line through the frames of its window, and survives a snapshot unchanged.
func TestATrendIsTheLineOfItsWindow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		xs := rapid.SliceOfN(rapid.Float64Range(-10, 10), 60, 200).Draw(t, "values")
		trend := NewTrend(4)
		var ts []float64
		for k, x := range xs {
			at := 0.1 * float64(k)
			ts = append(ts, at)
			line, full := trend.Push(at, x)
			if k == len(xs)/2 {
				data, err := json.Marshal(trend.State())
				require.NoError(t, err)
				var state TrendState
				require.NoError(t, json.Unmarshal(data, &state))
				trend = NewTrend(4)
				trend.Restore(state)
			}
			if !full {
				continue
			}
			first := 0
			for ts[first+1] <= at-4 {
				first++
			}
			want, err := trace.Fit(ts[first:], xs[first:k+1])
			require.NoError(t, err)
			require.InDelta(t, want.Slope, line.Slope, 1e-6)
			require.InDelta(t, want.SlopeSD, line.SlopeSD, 1e-6)
		}
	})
}

func BenchmarkAFrameCostsTheSameInAnyWindow(b *testing.B) {
	for _, window := range []string{"1 s", "1 min", "1 h"} {
		b.Run(window, func(b *testing.B) {
			c := compiled(b, "rate(load.volts, "+window+") < 1 V/s and max(load.volts, "+window+") < 90 V")
			t := 0.0
			for b.Loop() {
				t += 0.02
				c.Evaluate(sample(t, math.Sin(t), 1))
			}
		})
	}
}
