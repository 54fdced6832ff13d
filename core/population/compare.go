package population

import (
	"errors"
	"fmt"
	"math"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Spread is 100·(max − min)/mean and its standard deviation 100·s/mean with n − 1, in %.
type Spread struct{ Range, SD float64 }

// Errors that say why a number of several units does not exist.
var (
	ErrFewUnits    = errors.New("too few units")
	ErrZeroDivisor = errors.New("the mean is not told from zero")
)

// SpreadOf is the spread of one figure of several units. SD is NaN under three units.
func SpreadOf(values []float64) (Spread, error) {
	if len(values) < 2 {
		return Spread{}, fmt.Errorf("%w: %d; two are needed", ErrFewUnits, len(values))
	}
	low, high := values[0], values[0]
	for _, x := range values {
		low, high = math.Min(low, x), math.Max(high, x)
	}
	mean, sd := stat.MeanStdDev(values, nil)
	if mean == 0 {
		return Spread{}, ErrZeroDivisor
	}
	s := Spread{Range: 100 * (high - low) / math.Abs(mean), SD: math.NaN()}
	if len(values) > 2 {
		s.SD = 100 * sd / math.Abs(mean)
	}
	return s, nil
}

// Difference is how far the mean of the values after lies from that before, with its 95 % interval ± U.
type Difference struct {
	Before, After, Value, U float64
	// Differs is true when 0 lies outside the interval.
	Differs bool
	// By says what the interval was made from: "scatter" of several units (Welch), or "uncertainty" of single figures.
	By string
}

// Welch compares two sets of values by their scatter: x̄_B − x̄_A ± t₀.₉₇₅(ν)·√(q_A + q_B), q
// = s²/n, with the degrees of freedom of Welch and Satterthwaite.
func Welch(before, after []float64) (Difference, error) {
	if len(before) < 2 || len(after) < 2 {
		return Difference{}, fmt.Errorf("%w: %d before, %d after; two of each are needed", ErrFewUnits, len(before),
			len(after))
	}
	ma, sa := stat.MeanStdDev(before, nil)
	mb, sb := stat.MeanStdDev(after, nil)
	na, nb := float64(len(before)), float64(len(after))
	qa, qb := sa*sa/na, sb*sb/nb
	if qa+qb == 0 {
		return Difference{}, ErrZeroDivisor
	}
	nu := (qa + qb) * (qa + qb) / (qa*qa/(na-1) + qb*qb/(nb-1))
	u := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: nu}.Quantile(0.975) * math.Sqrt(qa+qb)
	return Difference{Before: ma, After: mb, Value: mb - ma, U: u, Differs: math.Abs(mb-ma) > u, By: "scatter"}, nil
}

// Single compares two figures by their expanded uncertainties, taken as independent: where one instrument
// measured both, its gain cancels and the true interval is narrower.
func Single(before, ub, after, ua float64) Difference {
	u := math.Hypot(ub, ua)
	return Difference{Before: before, After: after, Value: after - before, U: u, Differs: math.Abs(after-before) > u,
		By: "uncertainty"}
}
