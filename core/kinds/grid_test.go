package kinds

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSweepsAreTidy(t *testing.T) {
	assert.Equal(t, []float64{0.1, 0.2, 0.3, 0.4}, linear(0.1, 0.4, 4))
	assert.Equal(t, []float64{0.01, 0.1, 1, 10}, logarithmic(0.01, 10, 4))
	a := Axis{Values: []float64{1, 2, 3}, BothWays: true}
	assert.Equal(t, []float64{1, 2, 3, 2, 1}, a.Sequence())
}

func TestStepsAreDenseAroundAValue(t *testing.T) {
	xs := denseAround(22, 17.5, 0, 40)
	require.Len(t, xs, 40)
	assert.Equal(t, []float64{22, 0}, []float64{xs[0], xs[39]})
	assert.Contains(t, xs, 17.5)
	least, most, closest := math.Inf(1), 0.0, 0.0
	for i := 1; i < len(xs); i++ {
		step := xs[i-1] - xs[i]
		require.Positive(t, step)
		if most = max(most, step); step < least {
			least, closest = step, xs[i]
		}
	}
	assert.InDelta(t, 17.5, closest, 1)
	assert.Greater(t, most, 3*least)
	assert.Equal(t, []float64{1e-9, 1.5e-9, 2e-9}, linear(1e-9, 2e-9, 3), "what is small is not rounded away")
}
