package overlay

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A sweep goes up and down several times, with noise on x, and another y on the way back: every way is a leg of its
// own, in order, and gives the y of its way.
func TestASweepFallsIntoItsLegs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ways := rapid.IntRange(1, 5).Draw(t, "ways")
		down := rapid.IntRange(0, 1).Draw(t, "begins downwards")
		places := rapid.IntRange(30, 200).Draw(t, "places")
		noise := rapid.Float64Range(0, 0.01).Draw(t, "noise")
		y := func(x float64, falls bool) float64 {
			if falls {
				return 3*x + 1
			}
			return 3 * x
		}
		var c Curve
		for w := range ways {
			falls := (w+down)%2 == 1
			for k := range places {
				x := float64(k) / float64(places-1)
				if falls {
					x = 1 - x
				}
				c.X = append(c.X, x+noise*rapid.Float64Range(-1, 1).Draw(t, "off"))
				c.Y = append(c.Y, y(x, falls))
			}
		}
		legs := Legs(c)
		require.Len(t, legs, ways)
		for w, leg := range legs {
			assert.True(t, slices.IsSorted(leg.X))
			falls := (w+down)%2 == 1
			for _, x := range []float64{0.2, 0.5, 0.8} {
				assert.InDelta(t, y(x, falls), leg.At(x), 3*(2*noise+1/float64(places)), "at %g", x)
			}
		}
	})
}

func TestWhatDoesNotMoveHasNoLegs(t *testing.T) {
	assert.Empty(t, Legs(Curve{X: []float64{3, 3, 3}, Y: []float64{1, 2, 3}}))
	assert.Empty(t, Legs(Curve{X: []float64{1, math.NaN()}, Y: []float64{1, 2}}))
	legs := Legs(Curve{X: []float64{0, 1, 1, 2}, Y: []float64{0, 1, 3, 4}})
	require.Len(t, legs, 1)
	assert.Equal(t, []float64{0, 1, 2}, legs[0].X)
	assert.Equal(t, []float64{0, 2, 4}, legs[0].Y)
}
