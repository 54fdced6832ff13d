package kinds

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSweepsAreTidy(t *testing.T) {
	assert.Equal(t, []float64{0.1, 0.2, 0.3, 0.4}, linear(0.1, 0.4, 4))
	assert.Equal(t, []float64{0.01, 0.1, 1, 10}, logarithmic(0.01, 10, 4))
	a := Axis{Values: []float64{1, 2, 3}, BothWays: true}
	assert.Equal(t, []float64{1, 2, 3, 2, 1}, a.Sequence())
}
