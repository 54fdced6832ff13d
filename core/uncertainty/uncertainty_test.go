package uncertainty

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestSpecificationOfTheWorkedExample(t *testing.T) {
	// 15.000 V on a 20 V range, 0.05 % of reading + 0.02 % of range + 2 counts of 1 mV.
	spec := Spec{{To: 20, Reading: 0.0005, Offset: 0.0002*20 + 2e-3, Resolution: 1e-3},
		{To: 80, Reading: 0.001, Offset: 0.02}}
	r, ok := spec.Find(15)
	require.True(t, ok)
	assert.InDelta(t, 13.5e-3, r.Bound(15), 1e-9)
	assert.InDelta(t, 7.79e-3, r.Standard(15), 1e-5)
	r, ok = spec.Find(-90)
	assert.False(t, ok, "beyond the largest range a reading is clipped")
	assert.Equal(t, 80.0, r.To)
	assert.InDelta(t, 0.289e-3, Resolution(1e-3), 1e-6)
}

func TestCombinationsOfTheWorkedExamples(t *testing.T) {
	difference := func(r float64) float64 {
		u, err := Combined([]float64{1, -1}, []float64{7.79e-3, 7.79e-3}, func(int, int) float64 { return r })
		require.NoError(t, err)
		return u
	}
	assert.InDelta(t, 11.02e-3, difference(0), 1e-5)
	assert.InDelta(t, 2.46e-3, difference(0.95), 1e-5)
	assert.InDelta(t, 86.5e-3, Product(15, 7.79e-3, 8, 4e-3, 0), 1e-4)
	assert.InDelta(t, 0.101, 100*Ratio(120, 120*0.000721, 128, 128*0.0008, 0), 1e-3)
	assert.InDelta(t, 0.0074, 100*Ratio(120, 120*0.000721, 128, 128*0.0008, 1), 1e-4)

	_, err := Combined([]float64{1, 1}, []float64{1, 1}, func(int, int) float64 { return 2 })
	assert.ErrorIs(t, err, ErrImplausible)
	_, err = Combined([]float64{1}, []float64{math.NaN()}, nil)
	assert.ErrorIs(t, err, ErrMissing)
}

func TestCoverageFactors(t *testing.T) {
	for name, c := range map[string]struct {
		rectangles, normal []float64
		want               float64
	}{
		"normal":                     {nil, []float64{1}, 1.960},
		"one rectangle":              {[]float64{1}, nil, 1.645},
		"two equal rectangles":       {[]float64{1, 1}, nil, 1.902},
		"two rectangles, one half":   {[]float64{1, 0.5}, nil, 1.834},
		"rectangle as wide as noise": {[]float64{math.Sqrt(3)}, []float64{1}, 1.917},
		"rectangle at ρ = 5":         {[]float64{5 * math.Sqrt(3)}, []float64{1}, 1.685},
	} {
		assert.InDelta(t, c.want, CoverageFactor(c.rectangles, c.normal), 2e-3, name)
	}
}

func TestGainCancelsInARatioAndOffsetInADifference(t *testing.T) {
	readings := []Reading{{Value: 15.012, Group: "m", Gain: 0.001}, {Value: 15.003, Group: "m", Gain: 0.001}}
	ratio := Propagate(func(x []float64) float64 { return x[0] / x[1] }, readings)
	assert.Less(t, ratio.U, 1e-9)
	for i := range readings {
		readings[i].Gain, readings[i].Offset = 0, 0.01
	}
	assert.Less(t, Propagate(func(x []float64) float64 { return x[0] - x[1] }, readings).U, 1e-9)
	readings[1].Group = "n"
	assert.InDelta(t, 1.902*0.01*math.Sqrt(2.0/3), Propagate(func(x []float64) float64 { return x[0] - x[1] }, readings).U,
		1e-4)
}

func TestFewReadingsWidenTheInterval(t *testing.T) {
	assert.InDelta(t, 2.262, Expand(nil, []Normal{{1, 9}}).U, 1e-3, "Student's t for 9 degrees of freedom")
	assert.InDelta(t, 1.960, Expand(nil, []Normal{{1, 100}}).U, 1e-3)
	assert.InDelta(t, 1.960*math.Sqrt2, Expand(nil, []Normal{{1, 0}, {1, 200}}).U, 1e-3)
	assert.InDelta(t, 1.645, Expand([]float64{math.Sqrt(3)}, []Normal{{1e-3, 2}}).U, 2e-2,
		"what hardly counts does not widen")
}

// The stated interval must hold the truth in about 95 % of cases when errors are drawn from the specification.
func TestIntervalsHoldTheTruth(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	truth := []float64{48.02, 2.680, 15.010, 8.000}
	specs := []Reading{{Gain: 3e-4, Offset: 5e-3, Noise: 1e-3}, {Gain: 8e-4, Offset: 1e-3, Noise: 4e-4},
		{Gain: 2e-4, Offset: 2e-3, Noise: 5e-4}, {Gain: 5e-4, Offset: 2e-3, Noise: 1e-3}}
	efficiency := func(x []float64) float64 { return 100 * x[2] * x[3] / (x[0] * x[1]) }
	want, held := efficiency(truth), 0
	const runs = 4000
	for range runs {
		readings := make([]Reading, 4)
		x := make([]float64, 4)
		for i, s := range specs {
			gain, offset := (2*rng.Float64()-1)*s.Gain, (2*rng.Float64()-1)*s.Offset
			x[i] = truth[i]*(1+gain) + offset + rng.NormFloat64()*s.Noise
			readings[i] = Reading{Value: x[i], Group: string(rune('a' + i)), Gain: s.Gain, Offset: s.Offset, Noise: s.Noise}
		}
		if math.Abs(efficiency(x)-want) <= Propagate(efficiency, readings).U {
			held++
		}
	}
	share := float64(held) / runs
	// Gain and offset add linearly by design, so the intervals are on the wide side.
	assert.Greater(t, share, 0.93)
}

func TestRatiosAndProductsHoldAtTheirEnds(t *testing.T) {
	assert.InDelta(t, 0.05, Ratio(0, 0.1, 2, 0.3, 0.5), 1e-15, "u1/|x2| where there is nothing to divide")
	assert.InDelta(t, math.Abs(3./2)*math.Sqrt(0.01*0.01/9+0.02*0.02/4), Ratio(3, 0.01, 2, 0.02, 0), 1e-15)
	assert.Zero(t, Ratio(2, 0.02, 4, 0.04, 1), "one gain error cancels")
	assert.True(t, math.IsNaN(Ratio(1, 0.1, 0, 0.1, 0)))
	for _, r := range []float64{-1, 1} {
		assert.False(t, math.IsNaN(Product(0.1, 0.3, 0.7, 2.1, r)), "rounding makes no root of a negative number")
	}
	assert.Zero(t, Product(2, 0.02, 4, 0.04, -1))
}

// Equal readings are known to half a step of the instrument: never worse, however few they are.
func TestEqualReadingsAreKnownToHalfAStep(t *testing.T) {
	one := func(x []float64) float64 { return x[0] }
	for _, n := range []int{1, 3, 5, 30} {
		e := Propagate(one, []Reading{{Value: 12, Group: "v", Noise: 0, Resolution: 0.01, N: n}})
		assert.InDelta(t, 0.95*0.005, e.U, 1e-5, "%d readings", n)
		e = Propagate(one, []Reading{{Value: 12, Group: "v", Noise: Resolution(0.01), Resolution: 0.01, N: n}})
		assert.LessOrEqual(t, e.U, 0.005, "%d readings", n)
	}
}

// In whatever order the readings of a group come, the figure is known as well.
func TestTheOrderOfReadingsDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		readings := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Reading {
			return Reading{Value: rapid.Float64Range(-10, 10).Draw(t, "value"),
				Group: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "group"), Gain: rapid.Float64Range(0, 0.1).Draw(t, "gain"),
				Offset: rapid.Float64Range(0, 0.1).Draw(t, "offset"), Noise: rapid.Float64Range(0, 0.1).Draw(t, "noise"),
				Resolution: rapid.Float64Range(0, 0.1).Draw(t, "step")}
		}), 2, 6).Draw(t, "readings")
		sum := func(x []float64) (sum float64) {
			for _, v := range x {
				sum += v
			}
			return sum
		}
		want := Propagate(sum, readings).U
		assert.InEpsilon(t, want+1, Propagate(sum, rapid.Permutation(readings).Draw(t, "order")).U+1, 1e-6)
	})
}
