package population

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestValuesOfTwoBaysAgree(t *testing.T) {
	a := Agree(Known{94.0, 0.3}, Known{94.4, 0.4})
	assert.InDelta(t, 0.4, a.Difference, 1e-12)
	assert.InDelta(t, 0.5, a.U, 1e-12, "√(0.3² + 0.4²)")
	assert.False(t, a.Differ)
	assert.True(t, Agree(Known{94.0, 0.3}, Known{94.6, 0.4}).Differ)
	assert.True(t, Agree(Known{1, 0}, Known{1.01, 0}).Differ, "without uncertainty every difference is one")
	assert.False(t, Agree(Known{1, 0}, Known{1, 0}).Differ)
	i, j := Farthest([]Known{{1, 0.1}, {5, 10}, {2, 0.1}})
	assert.Equal(t, [2]int{0, 2}, [2]int{i, j}, "the one far off with a large uncertainty says less")
	i, j = Farthest([]Known{{1, 0}, {1, 0}})
	assert.Equal(t, [2]int{0, 1}, [2]int{i, j})
}

// Two bays that measure one truth with the uncertainties that they state are said to differ about as often as 95 %
// allow.
func TestAgreementIsRarelyDenied(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	denied := 0
	const n = 20000
	for range n {
		a, b := 0.1+rng.Float64(), 0.1+rng.Float64() // standard uncertainties
		if Agree(Known{a * rng.NormFloat64(), 1.96 * a}, Known{b * rng.NormFloat64(), 1.96 * b}).Differ {
			denied++
		}
	}
	assert.InDelta(t, 0.05, float64(denied)/n, 0.005)
}
