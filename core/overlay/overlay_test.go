package overlay

import (
	"fmt"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func line(label string, from, to, slope, offset float64) Curve {
	c := Curve{Label: label}
	for x := from; x <= to+1e-9; x += 0.1 {
		c.X, c.Y = append(c.X, x), append(c.Y, offset+slope*x)
	}
	return c
}

func TestCurvesAreAlignedAtAThreshold(t *testing.T) {
	c := line("a", 0, 10, -0.1, 4)
	x, ok := c.Crosses(3.55)
	require.True(t, ok)
	assert.InDelta(t, 4.5, x, 1e-9)
	assert.InDelta(t, 3.55, c.Shifted(x).At(0), 1e-9)
	_, ok = c.Crosses(2)
	assert.False(t, ok)
}

func TestTheBandOfCurves(t *testing.T) {
	b, err := BandOf([]Curve{line("a", 0, 10, 0, 1), line("b", 2, 8, 0.1, 1)}, 7)
	require.NoError(t, err)
	assert.InDeltaSlice(t, []float64{2, 3, 4, 5, 6, 7, 8}, b.X, 1e-9)
	assert.InDelta(t, 0.8, b.Widest, 1e-9)
	assert.InDelta(t, 8, b.At, 1e-9)
	_, err = BandOf([]Curve{line("a", 0, 1, 0, 1), line("b", 2, 8, 0.1, 1)}, 7)
	assert.ErrorIs(t, err, ErrNoCommonRange)
}

func TestDifferences(t *testing.T) {
	d := Differences(line("a", 0, 10, 0, 1), []Curve{line("b", 0, 12, 0.1, 1), {Label: "c"}})
	assert.InDelta(t, 0.5, d[0].Mean, 1e-6)
	assert.InDelta(t, 1, d[0].Largest, 1e-9)
	assert.InDelta(t, 10, d[0].At, 1e-6)
	assert.InDelta(t, 2, d[0].End, 1e-9)
	assert.True(t, math.IsNaN(d[1].Mean))
}

func TestThinningKeepsWhatStandsOut(t *testing.T) {
	c := line("a", 0, 1000, 0, 1)
	c.Y[4321] = 7
	thin := c.Thinned(100)
	assert.LessOrEqual(t, len(thin.X), 100)
	assert.Contains(t, thin.Y, 7.0)
	assert.Equal(t, c.X[len(c.X)-1], thin.X[len(thin.X)-1])
	assert.Equal(t, []string{"GC-1", "GC-4", "GC-10"}, Sample([]string{"GC-10", "GC-2", "GC-1", "GC-9", "GC-4"}, 3))
	assert.Equal(t, []float64{0, 1, 2}, Curve{X: []float64{0, 1, 1, 0.5, 2, math.NaN()},
		Y: []float64{1, 1, 1, 1, 1, 1}}.Rising().X)
}

// Whatever curves have in common, their labels differ, and none says more than it must.
func TestLabelsDiffer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "curves")
		word := rapid.SampledFrom([]string{"", "a", "b"})
		var parts [][]string
		for i := range n {
			parts = append(parts, []string{rapid.SampledFrom([]string{"TN-1", "TN-2"}).Draw(t, "unit"), word.Draw(t, "set"),
				word.Draw(t, "time"), fmt.Sprintf("#%d", i)})
		}
		part := func(k int) func(int) string { return func(i int) string { return parts[i][k] } }
		labels := Distinct(n, part(0), []func(int) string{part(1), part(2), part(3)})
		alone := map[string]int{}
		for _, p := range parts {
			alone[p[0]]++
		}
		for i, l := range labels {
			assert.Equal(t, slices.Index(labels, l), i, "%q: %q", l, parts)
			if alone[parts[i][0]] == 1 {
				assert.Equal(t, parts[i][0], l)
			}
		}
	})
}
