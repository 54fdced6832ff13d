package population

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/outcome"
	"usherbench/core/record"
)

func codeOf(t *testing.T, err error) string {
	var why *record.Undetermined
	require.ErrorAs(t, err, &why)
	return why.Code
}

// ten are the values of the worked examples, V.
var ten = []float64{15.00, 15.01, 15.02, 15.01, 15.03, 15.04, 15.03, 15.05, 15.06, 15.05}

// 96 units: 84 pass at once, 5 on a second attempt, 7 fail twice.
func harbour() (units []Tested) {
	for k := range 96 {
		u := Tested{Attempts: []Attempt{{Outcome: outcome.Pass}}}
		if k >= 84 {
			first := []string{"ripple-pp", "efficiency", "inrush"}[k%3]
			failed := Attempt{Outcome: outcome.Fail, Failing: []string{first, "loss"}}
			u.Attempts = []Attempt{failed, {Outcome: outcome.Marginal}}
			if k >= 89 {
				u.Attempts[1] = failed
			}
		}
		units = append(units, u)
	}
	return units
}

func TestYields(t *testing.T) {
	units := harbour()
	y, err := Yield(units, false)
	require.NoError(t, err)
	assert.InDelta(t, 92.7, y.Value, 0.05)
	assert.InDelta(t, 85.7, y.Low, 0.05)
	assert.InDelta(t, 96.4, y.High, 0.05)
	first, err := FirstPass(units, false)
	require.NoError(t, err)
	assert.InDelta(t, 87.5, first.Value, 1e-9)
	again, err := Retest(units)
	require.NoError(t, err)
	assert.InDelta(t, 12.5, again.Value, 1e-9)
	strict, err := Yield(units, true)
	require.NoError(t, err)
	assert.InDelta(t, 87.5, strict.Value, 1e-9, "marginal is no pass then")
	_, err = Yield(nil, false)
	assert.Equal(t, record.TooFew, codeOf(t, err))
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 500).Draw(t, "n")
		k := rapid.IntRange(0, n).Draw(t, "k")
		s, err := Wilson(k, n)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, s.Value, s.Low-1e-9)
		assert.LessOrEqual(t, s.Value, s.High+1e-9)
		assert.GreaterOrEqual(t, s.Low, 0.0)
		assert.LessOrEqual(t, s.High, 100.0)
		assert.Greater(t, s.High-s.Low, 0.0, "nothing is certain")
	})
}

func TestPareto(t *testing.T) {
	var units []Tested
	for id, n := range map[string]int{"ripple-pp": 4, "inrush": 2, "efficiency": 1} {
		for range n {
			units = append(units, Tested{Attempts: []Attempt{{Outcome: outcome.Fail, Failing: []string{id, "loss"}}}})
		}
	}
	units = append(units, Tested{Attempts: []Attempt{{Outcome: outcome.Pass}}})
	causes, err := Pareto(units, false)
	require.NoError(t, err)
	var shares []float64
	for _, c := range causes {
		shares = append(shares, c.Cumulative)
	}
	assert.InDeltaSlice(t, []float64{57.1, 85.7, 100}, shares, 0.05)
	assert.Equal(t, "ripple-pp", causes[0].Figure)
	all, err := Pareto(units, true)
	require.NoError(t, err)
	assert.Equal(t, Cause{"loss", 7, 50, 50}, all[0], "every failing figure counts then")
	_, err = Pareto(units[7:], false)
	assert.Equal(t, record.TooFew, codeOf(t, err))
}

func TestCapability(t *testing.T) {
	c, err := CapabilityOf(ten, 14.85, 15.15, 0.001)
	require.NoError(t, err)
	assert.InDelta(t, 15.03, c.Mean, 1e-9)
	assert.InDelta(t, 10.84e-3, c.Within, 5e-6)
	assert.InDelta(t, 20.0e-3, c.Overall, 5e-5)
	assert.InDelta(t, 4.61, c.Cp.Value, 0.005)
	assert.InDelta(t, 3.69, c.Cpk.Value, 0.005)
	assert.InDelta(t, 2.50, c.Pp.Value, 0.005)
	assert.InDelta(t, 2.00, c.Ppk.Value, 0.005)
	assert.InDelta(t, 1.05, c.Ppk.Low, 0.005)
	assert.InDelta(t, 2.95, c.Ppk.High, 0.005)
	assert.InDelta(t, 1.52, c.Cpk.Low, 0.01)
	assert.InDelta(t, 5.86, c.Cpk.High, 0.01)
	assert.True(t, c.Wide)
	one, err := CapabilityOf(ten, 14.85, math.Inf(1), 0)
	require.NoError(t, err)
	assert.Nil(t, one.Cp, "with one limit there is no band")
	outside, err := CapabilityOf(ten, 15.1, 15.2, 0)
	require.NoError(t, err)
	assert.Negative(t, outside.Ppk.Value, "the mean lies outside")
	for code, in := range map[string]struct {
		values          []float64
		low, high, step float64
	}{
		record.TooFew:      {ten[:7], 14, 16, 0},
		record.NoRating:    {ten, math.Inf(-1), math.Inf(1), 0},
		record.BelowFloor:  {ten, 14, 16, 0.1},
		record.ZeroDivisor: {slices.Repeat([]float64{5}, 9), 4, 6, 0},
	} {
		_, err := CapabilityOf(in.values, in.low, in.high, in.step)
		assert.Equal(t, code, codeOf(t, err))
	}
}

func TestDriftHistogramAndOutliers(t *testing.T) {
	d, err := DriftOf(ten)
	require.NoError(t, err)
	assert.InDelta(t, 6.18e-3, d.Value, 5e-6)
	assert.InDelta(t, 1.90e-3, d.U, 5e-6)
	bins, err := Bins(ten, 0.001)
	require.NoError(t, err)
	require.Len(t, bins, 2)
	assert.Equal(t, 10, bins[0].Units+bins[1].Units)
	far, ties, err := Outliers([]float64{15.02, 15.03, 15.03, 15.04, 15.05, 15.21})
	require.NoError(t, err)
	require.Len(t, far, 1)
	assert.False(t, ties)
	assert.Equal(t, 5, far[0].Index)
	assert.InDelta(t, 11.8, far[0].Z, 0.05)
	far, ties, err = Outliers([]float64{1, 1, 1, 1, 1, 1, 1, 9})
	require.NoError(t, err)
	assert.True(t, ties)
	assert.Len(t, far, 1)
	far, _, err = Outliers(slices.Repeat([]float64{2}, 6))
	require.NoError(t, err)
	assert.Empty(t, far)
	for _, f := range []func() error{
		func() error { _, err := DriftOf(ten[:4]); return err },
		func() error { _, err := Bins(ten[:1], 0); return err },
		func() error { _, _, err := Outliers(ten[:4]); return err },
	} {
		assert.Equal(t, record.TooFew, codeOf(t, f()))
	}
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.SliceOfN(rapid.Float64Range(-1e3, 1e3), 2, 300).Draw(t, "values")
		bins, err := Bins(values, 0.01)
		require.NoError(t, err)
		sum := 0
		for _, b := range bins {
			sum += b.Units
		}
		assert.Equal(t, len(values), sum, "every unit is in one bin")
		assert.LessOrEqual(t, len(bins), mostBins)
	})
}

func TestPace(t *testing.T) {
	var attempts []Attempt
	for k, began := range []float64{0, 62, 121, 183} {
		attempts = append(attempts, Attempt{Began: began, Ended: []float64{48, 109, 171, 232}[k]})
	}
	p, err := PaceOf(attempts, 600)
	require.NoError(t, err)
	assert.InDelta(t, 48.5, p.Test, 1e-9)
	assert.InDelta(t, 12, p.Idle, 1e-9)
	assert.InDelta(t, 62, p.PerUnit, 1e-9)
	slices.Reverse(attempts)
	again, err := PaceOf(append(attempts, Attempt{Began: 2000, Ended: 2048}), 600)
	require.NoError(t, err)
	assert.InDelta(t, 2000-232, again.Paused, 1e-9, "a pause is summed apart")
	assert.InDelta(t, 12, again.Idle, 1e-9)
	_, err = PaceOf([]Attempt{{Began: 0, Ended: 50}, {Began: 40, Ended: 90}}, 600)
	assert.Equal(t, record.TimeOrder, codeOf(t, err))
	_, err = PaceOf(nil, 600)
	assert.Equal(t, record.TooFew, codeOf(t, err))
	alone, err := PaceOf(attempts[:1], 600)
	require.NoError(t, err)
	assert.True(t, math.IsNaN(alone.Idle))
}
