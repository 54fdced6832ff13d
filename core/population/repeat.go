package population

import (
	"math"

	"gonum.org/v1/gonum/stat"

	"usherbench/core/record"
)

// Repeat tells the bench apart from the units: how one unit scatters when it is measured again in the same bay, and
// how the units scatter without that.
type Repeat struct {
	// SD is the pooled standard deviation of repeated measurements, with Freedom degrees of freedom:
	// √(Σ(n_j − 1)·s_j²/Σ(n_j − 1)) over the groups of one unit in one bay.
	SD      float64
	Freedom int
	// Units is the standard deviation of the units without it: s² of the means of the groups less SD² times the mean of
	// 1/n_j; 0 where the bench alone explains the scatter.
	Units float64
}

// Measured are the values of one unit in one bay, measured again and again.
type Measured struct {
	Unit, Bay string
	Values    []float64
}

// RepeatOf tells the scatter of the bench from that of the units. It fails with too-few where no unit was measured
// twice in one bay.
func RepeatOf(groups []Measured) (Repeat, error) {
	squares, freedom := 0.0, 0
	var means []float64
	inverse := 0.0
	for _, g := range groups {
		means = append(means, stat.Mean(g.Values, nil))
		inverse += 1 / float64(len(g.Values))
		if len(g.Values) > 1 {
			squares += float64(len(g.Values)-1) * stat.Variance(g.Values, nil)
			freedom += len(g.Values) - 1
		}
	}
	if freedom < 1 {
		return Repeat{}, record.Because(record.TooFew, "no unit was measured twice in one bay")
	}
	r := Repeat{SD: math.Sqrt(squares / float64(freedom)), Freedom: freedom, Units: math.NaN()}
	if len(means) > 1 {
		left := stat.Variance(means, nil) - r.SD*r.SD*inverse/float64(len(means))
		r.Units = math.Sqrt(math.Max(left, 0))
	}
	return r, nil
}
