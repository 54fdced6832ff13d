package trace

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Dips and spikes of known size are found in noise on a slope, the furthest first, and nothing else is.
func TestExcursionsAreFound(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		buckets := make([]Bucket, 2000)
		for i := range buckets {
			x := 15 - 1e-4*float64(i) + 2e-3*rng.NormFloat64()
			buckets[i] = Bucket{T: float64(i), Min: x - 3e-3, Max: x + 3e-3}
		}
		planted := map[int]float64{}
		for _, at := range rapid.SliceOfNDistinct(rapid.IntRange(1, 19), 1, 5, rapid.ID).Draw(rt, "at") {
			size := float64(rapid.IntRange(100, 900).Draw(rt, "size")) / 1000
			i := 100 * at
			planted[i] = size
			if at%2 == 0 {
				buckets[i].Min -= size
			} else {
				buckets[i].Max += size
			}
		}
		found := Excursions(buckets, 10, 30, func(float64) bool { return false })
		require.Len(rt, found, len(planted))
		for k, e := range found {
			size := planted[int(e.T)]
			require.NotZero(rt, size, "nothing was planted at %g", e.T)
			assert.InDelta(rt, size, math.Abs(e.Value-e.Usual), 0.03)
			if k > 0 {
				assert.LessOrEqual(rt, e.Unlike, found[k-1].Unlike)
			}
		}
		assert.Len(rt, Excursions(buckets, 1, 30, func(float64) bool { return false }), 1)
	})
}

func TestWhatIsNoExcursion(t *testing.T) {
	never := func(float64) bool { return false }
	flat := make([]Bucket, 100)
	for i := range flat {
		flat[i] = Bucket{T: float64(i), Min: 12, Max: 12}
	}
	assert.Empty(t, Excursions(flat, 5, 1, never), "nothing happens")
	assert.Empty(t, Excursions(nil, 5, 1, never))
	flat[50].Min, flat[50].Max = 11, 11
	assert.Len(t, Excursions(flat, 5, 1, never), 1, "without scatter a dip is one too")
	assert.Empty(t, Excursions(flat, 5, 1, func(t float64) bool { return t == 50 }), "what was commanded is none")
	flat[20] = Bucket{T: 20, Min: math.NaN(), Max: math.NaN()}
	assert.Len(t, Excursions(flat, 5, 1, never), 1, "what is missing is none")
	flat[53].Min = 11.5
	assert.Len(t, Excursions(flat, 5, 10, never), 1, "of places near each other the furthest")
	assert.Len(t, Excursions(flat, 5, 1, never), 2)
}

// The last digit of a display that comes and goes is no excursion.
func TestALastDigitIsNoExcursion(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	buckets := make([]Bucket, 500)
	for i := range buckets {
		x := 47.997
		switch rng.IntN(20) {
		case 0:
			x = 47.996
		case 1:
			x = 47.998
		}
		buckets[i] = Bucket{T: float64(i), Min: x, Max: x}
	}
	never := func(float64) bool { return false }
	assert.Empty(t, Excursions(buckets, 5, 1, never))
	buckets[300].Min, buckets[300].Max = 47.97, 47.97
	found := Excursions(buckets, 5, 1, never)
	require.Len(t, found, 1)
	assert.Equal(t, 300.0, found[0].T)
}
