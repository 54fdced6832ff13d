package population

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// flat is a curve at one voltage, so that distances are differences.
func flat(volts float64) []float64 {
	c := make([]float64, Places)
	for i := range c {
		c[i] = volts
	}
	return c
}

func TestFourCellsInPairs(t *testing.T) {
	cells := []Cell{
		{Serial: "A", Capacity: 4.80, Resistance: 0.0200, Curve: flat(0)}, {Serial: "B", Capacity: 4.82, Resistance: 0.0204,
			Curve: flat(-0.001)},
		{Serial: "C", Capacity: 4.70, Resistance: 0.0210, Curve: flat(0.006)},
		{Serial: "D", Capacity: 4.71, Resistance: 0.0206, Curve: flat(0.004)},
	}
	g, err := NewMatch(2).Of(cells)
	require.NoError(t, err)
	require.Len(t, g.Groups, 2)
	assert.Equal(t, "A", g.Groups[0].Cells[0].Serial)
	assert.Equal(t, "B", g.Groups[0].Cells[1].Serial)
	assert.InDelta(t, 0.370, g.Groups[0].Score, 5e-4)
	assert.InDelta(t, 0.353, g.Groups[1].Score, 5e-4)
	assert.InDelta(t, 0.723, g.Score, 1e-3)
	s := newSearch(NewMatch(2), cells)
	assert.InDelta(t, 13.19, s.total(order{0, 2, 1, 3}), 0.005, "pairs that do not belong together")
}

// lotOf is a seeded lot in which capacity and resistance go their own ways.
func lotOf(n int, seed uint64) []Cell {
	rng := rand.New(rand.NewPCG(seed, 1))
	var cells []Cell
	for i := range n {
		r := 0.036 * (1 + 0.05*rng.NormFloat64())
		c := Cell{Serial: fmt.Sprintf("GC-%03d", i+1), Capacity: 4.8 * (1 + 0.011*rng.NormFloat64()), Resistance: r,
			Curve: make([]float64, Places)}
		for k := range c.Curve {
			c.Curve[k] = 4.1 - 1.0*float64(k)/Places - 0.96*r
		}
		cells = append(cells, c)
	}
	return cells
}

func TestMatchingIsBetterThanSortingByCapacity(t *testing.T) {
	for seed := range uint64(8) {
		g, err := NewMatch(7).Of(lotOf(24, seed))
		require.NoError(t, err)
		assert.Len(t, g.Groups, 3)
		assert.Len(t, g.Rejects, 3)
		assert.Less(t, g.Score, g.Sorted, "seed %d", seed)
		again, err := NewMatch(7).Of(lotOf(24, seed))
		require.NoError(t, err)
		assert.Equal(t, g, again, "the same lot gives the same groups")
		t.Logf("lot %d: %.2f, sorted by capacity %.2f", seed, g.Score, g.Sorted)
	}
}

func TestCellsThatCannotBeMatched(t *testing.T) {
	cells := lotOf(8, 1)
	cells[0].Resistance = math.NaN()
	cells[1].Curve = nil
	cells[2].Why = "capacity 4.1 Ah is below 4.65 Ah"
	g, err := NewMatch(2).Of(cells)
	require.NoError(t, err)
	assert.Len(t, g.Groups, 2)
	var why []string
	for _, r := range g.Rejects {
		why = append(why, r.Why)
	}
	assert.Contains(t, why, "its resistance is not known")
	assert.Contains(t, why, "its discharge curve is not known")
	assert.Contains(t, why, "capacity 4.1 Ah is below 4.65 Ah")
	_, err = NewMatch(7).Of(cells)
	assert.ErrorIs(t, err, ErrTooFew)
}

// A curve of which a place is not known is none: the cell is not matched by the rest of it.
func TestACellWhoseCurveHasAHoleIsNotMatched(t *testing.T) {
	cells := lotOf(7, 1)
	cells[3].Curve = slices.Clone(cells[3].Curve)
	cells[3].Curve[50] = math.NaN()
	g, err := NewMatch(2).Of(cells)
	require.NoError(t, err)
	require.Len(t, g.Rejects, 1)
	assert.Equal(t, "its discharge curve is not known", g.Rejects[0].Why)
	assert.False(t, math.IsNaN(g.Score))
	m := NewMatch(2)
	m.Curve = 0
	g, err = m.Of(cells)
	require.NoError(t, err)
	require.Len(t, g.Rejects, 1, "one of seven is left over")
	assert.NotContains(t, g.Rejects[0].Why, "not known", "where curves do not count it is one of them")
}

func TestSpread(t *testing.T) {
	s, err := SpreadOf([]float64{4.80, 4.82, 4.70, 4.71})
	require.NoError(t, err)
	assert.InDelta(t, 2.52, s.Range, 0.005)
	assert.InDelta(t, 1.29, s.SD, 0.005)
	_, err = SpreadOf([]float64{1})
	assert.ErrorIs(t, err, ErrFewUnits)
}

func TestTwoLotsDiffer(t *testing.T) {
	// Values with the means and deviations of the worked example: 15.030 V, s 20 mV, n 10; 15.048 V, s 12 mV, n 8.
	with := func(mean, sd float64, n int) []float64 {
		xs := make([]float64, n)
		for i := range xs {
			xs[i] = float64(2*(i%2) - 1)
		}
		if n%2 == 0 {
			scale := sd / math.Sqrt(float64(n)/float64(n-1))
			for i := range xs {
				xs[i] = mean + scale*xs[i]
			}
		}
		return xs
	}
	d, err := Welch(with(15.030, 0.020, 10), with(15.048, 0.012, 8))
	require.NoError(t, err)
	assert.InDelta(t, 0.0180, d.Value, 1e-6)
	assert.InDelta(t, 0.0162, d.U, 1e-4)
	assert.True(t, d.Differs)
	_, err = Welch([]float64{1}, []float64{2, 3})
	assert.ErrorIs(t, err, ErrFewUnits)
	assert.False(t, Single(9.30, 0.02, 9.31, 0.02).Differs)
	assert.True(t, Single(8.60, 0.02, 9.31, 0.02).Differs)
}

// No exchange of two cells makes a grouping better, and every cell is somewhere exactly once.
func TestNoExchangeOfTwoCellsIsBetter(t *testing.T) {
	for seed := range uint64(6) {
		cells := lotOf(17, seed)
		s := newSearch(NewMatch(3), cells)
		best, score := s.best(s.sorted())
		require.InDelta(t, s.total(best), score, 1e-9)
		seen := map[int]bool{}
		for _, i := range best {
			require.False(t, seen[i])
			seen[i] = true
		}
		require.Len(t, seen, len(cells))
		for i := range best {
			for j := range i {
				best.swap(i, j)
				require.Greater(t, s.total(best), score-1e-9, "seed %d, %d and %d", seed, i, j)
				best.swap(i, j)
			}
		}
	}
}
