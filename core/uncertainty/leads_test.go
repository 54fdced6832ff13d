package uncertainty

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What leads are known to is one error for all readings behind them: it goes by the current, and cancels in a
// difference at one current.
func TestLeadsAreOneErrorForAllReadingsBehindThem(t *testing.T) {
	behind := func(volts, amps, within float64) Reading {
		return Range{To: 100, Leads: Leads{"load", 0.05, within}}.Input("volts", volts, amps)
	}
	difference := func(x []float64) float64 { return x[1] - x[0] }
	rapid.Check(t, func(t *rapid.T) {
		v1, v2 := rapid.Float64Range(1, 50).Draw(t, "v1"), rapid.Float64Range(1, 50).Draw(t, "v2")
		i1, i2 := rapid.Float64Range(-10, 10).Draw(t, "i1"), rapid.Float64Range(-10, 10).Draw(t, "i2")
		within := rapid.Float64Range(1e-4, 1e-2).Draw(t, "within")
		e := Propagate(difference, []Reading{behind(v1, i1, within), behind(v2, i2, within)})
		a := math.Abs(i2-i1) * within
		assert.InDelta(t, CoverageFactor([]float64{a}, nil)*a/math.Sqrt(3), e.U, 1e-6*(1+a))
		same := Propagate(difference, []Reading{behind(v1, i1, within), behind(v2, i1, within)})
		assert.InDelta(t, 0, same.U, 1e-9)
	})
	other := behind(10, 2, 1e-3)
	other.Leads.Of = "source"
	two := Propagate(difference, []Reading{behind(10, 2, 1e-3), other})
	assert.InDelta(t, math.Sqrt2*2e-3/math.Sqrt(3), two.U/two.K, 1e-9, "leads of two seats are two errors")
}
