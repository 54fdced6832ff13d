package condition

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"testing"

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
		"rate(load.volts) > 1 V/s":             "rate needs a window",
		"rate(load.volts, 2 V) > 1 V/s":        "the window of rate is a time",
		"rate(load.volts, 0 s) > 1 V/s":        "more than 0",
		"rate(load.volts, stage.elapsed) > 1":  "the window of rate is a fixed time",
		"drop(load.volts, 2 s) > 1 V":          "takes no window",
		"spread(load.volts, 2 s) > 1 V":        `"spread" is no function; known are delta, drop, max, mean, min, rate, rise`,
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
		steps := rapid.SliceOfN(rapid.Float64Range(0.01, 0.2), 2, 400).Draw(t, "steps")
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
		low, high := math.Inf(1), math.Inf(-1)
		for _, x := range wx {
			low, high = math.Min(low, x), math.Max(high, x)
		}
		for name, want := range map[string]float64{"rate": slope, "mean": stat.Mean(wx, nil), "min": low, "max": high,
			"delta": wx[len(wx)-1] - wx[0]} {
			require.InDelta(t, want, of[name].windows[0].value, 1e-6*math.Max(1, math.Abs(want)), name)
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
