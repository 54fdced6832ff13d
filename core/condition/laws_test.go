package condition

import (
	"encoding/json"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawCondition writes a condition of comparisons, holds, windows and what looks back to the beginning of a stage.
// Levels and windows lie between the values and times that drawFrames gives, so that rounding decides nothing.
func drawCondition(r *rapid.T, depth int) string {
	if depth > 0 {
		switch rapid.IntRange(0, 3).Draw(r, "form") {
		case 0:
			return fmt.Sprintf("(%s) and (%s)", drawCondition(r, depth-1), drawCondition(r, depth-1))
		case 1:
			return fmt.Sprintf("(%s) or (%s)", drawCondition(r, depth-1), drawCondition(r, depth-1))
		case 2:
			return fmt.Sprintf("not (%s)", drawCondition(r, depth-1))
		}
	}
	number := rapid.SampledFrom([]string{"load.volts", "mean(load.volts, 1030 ms)", "min(load.volts, 730 ms)",
		"max(load.volts, 2030 ms)", "delta(load.volts, 530 ms)", "travel(load.volts, 470 ms)",
		"drop(load.volts)", "drop(load.volts, 1030 ms)",
		"rise(load.volts)", "gain(load.volts, 1030 ms)"}).Draw(r, "number")
	text := fmt.Sprintf("%s %s %d.0437 V", number, rapid.SampledFrom([]string{"<", ">"}).Draw(r, "op"),
		rapid.IntRange(0, 4).Draw(r, "level"))
	if rapid.Bool().Draw(r, "lasting") {
		text += fmt.Sprintf(" for %d ms", 150+100*rapid.IntRange(0, 9).Draw(r, "for"))
	}
	return text
}

// drawFrames draws the frames of two stages, of which readings may be missing, and now and then some seconds.
func drawFrames(r *rapid.T) (samples []Sample) {
	t, entered := 0.0, 0.0
	turn := rapid.IntRange(5, 100).Draw(r, "turn")
	for k := range rapid.IntRange(20, 120).Draw(r, "frames") {
		t += 0.1
		if rapid.IntRange(0, 40).Draw(r, "pause") == 40 {
			t += float64(rapid.IntRange(1, 5).Draw(r, "seconds"))
		}
		volts := float64(rapid.IntRange(0, 5).Draw(r, "volts"))
		if rapid.IntRange(0, 20).Draw(r, "missing") == 20 {
			volts = math.NaN()
		}
		s := Sample{T: t, Columns: []float64{volts, 1}}
		if k >= turn {
			if s.Entry = 1; k == turn {
				entered = t
			}
		}
		s.StageT = t - entered
		samples = append(samples, s)
	}
	return samples
}

type verdict struct {
	Truth   Truth
	Filling bool
}

func (c *Condition) verdicts(samples []Sample) (all []verdict) {
	for _, s := range samples {
		truth := c.Evaluate(s)
		all = append(all, verdict{truth, c.Filling()})
	}
	return all
}

// Levels, windows and holds that were saved and taken up again say the same as those that nobody disturbed.
func TestAConditionThatIsTakenUpAgainSaysTheSame(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		text, samples := drawCondition(r, 2), drawFrames(r)
		kill := rapid.IntRange(0, len(samples)-1).Draw(r, "kill")
		want := compiled(r, text).verdicts(samples)
		before := compiled(r, text)
		got := before.verdicts(samples[:kill])
		data, err := json.Marshal(before.State())
		require.NoError(r, err, text)
		var state State
		require.NoError(r, json.Unmarshal(data, &state), text)
		after := compiled(r, text)
		after.Restore(state)
		require.Equal(r, want, append(got, after.verdicts(samples[kill:])...), text)
	})
}

// A pause in which nothing was watched moves everything by its length: what is later by the same time says the same.
func TestAConditionDoesNotKnowTheHour(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		text, samples := drawCondition(r, 2), drawFrames(r)
		pause := rapid.IntRange(0, len(samples)-1).Draw(r, "pause at")
		long := float64(rapid.IntRange(1, 100_000).Draw(r, "long"))
		want := compiled(r, text).verdicts(samples)
		shifted := compiled(r, text)
		got := shifted.verdicts(samples[:pause])
		shifted.Shift(long)
		for k := pause; k < len(samples); k++ {
			samples[k].T += long
		}
		require.Equal(r, want, append(got, shifted.verdicts(samples[pause:])...), text)
	})
}

// The three truths obey De Morgan, and a condition that was reset has no past.
func TestConditionsObeyTheLawsOfLogic(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		a, b, samples := drawCondition(r, 1), drawCondition(r, 1), drawFrames(r)
		truths := func(text string) (all []Truth) {
			for _, v := range compiled(r, text).verdicts(samples) {
				all = append(all, v.Truth)
			}
			return all
		}
		require.Equal(r, truths(a), truths(fmt.Sprintf("not (not (%s))", a)), a)
		require.Equal(r, truths(fmt.Sprintf("not ((%s) and (%s))", a, b)),
			truths(fmt.Sprintf("not (%s) or not (%s)", a, b)), "%s, %s", a, b)
		require.Equal(r, truths(fmt.Sprintf("(%s) or (%s)", a, b)), truths(fmt.Sprintf("(%s) or (%s)", b, a)))
		again := compiled(r, a)
		want := again.verdicts(samples)
		again.Reset()
		require.Equal(r, want, again.verdicts(samples), a)
	})
}
