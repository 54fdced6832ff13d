package population

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheBenchIsToldFromTheUnits(t *testing.T) {
	r, err := RepeatOf([]Measured{{"A", "bay1", []float64{1, 3}}, {"B", "bay1", []float64{5, 5, 5}}, {"C", "bay2",
		[]float64{9}}})
	require.NoError(t, err)
	assert.InDelta(t, 0.816497, r.SD, 1e-6, "√(2/3): one group with s² = 2 and n − 1 = 1, one with 0 and 2")
	assert.Equal(t, 3, r.Freedom)
	_, err = RepeatOf([]Measured{{"A", "bay1", []float64{1}}, {"A", "bay2", []float64{1}}})
	assert.ErrorContains(t, err, "measured twice")
}

// Of units that scatter by 4 and a bench that scatters by 1, each measured three times, both are found again.
func TestBothScattersAreFoundAgain(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 11))
	var groups []Measured
	for range 400 {
		truth := 4 * rng.NormFloat64()
		g := Measured{Unit: "u", Bay: "bay1"}
		for range 3 {
			g.Values = append(g.Values, truth+rng.NormFloat64())
		}
		groups = append(groups, g)
	}
	r, err := RepeatOf(groups)
	require.NoError(t, err)
	assert.InDelta(t, 1, r.SD, 0.05)
	assert.InDelta(t, 4, r.Units, 0.4)
}
