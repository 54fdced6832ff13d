package population

import (
	"math"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"usherbench/core/record"
)

// Bounds of what is said of few units.
const (
	leastCapable = 8
	wideUnder    = 25
	// movingRange is the mean range of two values of a normal distribution over its standard deviation.
	movingRange = 1.128
	// movingFreedom is how many degrees of freedom a moving range has, as a share of those of s.
	movingFreedom = 0.62
	// skewedBeyond is a skewness that is none of a normal distribution.
	skewedBeyond = 1
)

// Index is a capability with its 95 % interval: C ± 1.96·√(1/(9·n) + C²/(2·ν)).
type Index struct{ Value, Low, High float64 }

func indexOf(c float64, n int, freedom float64) Index {
	u := normal95 * math.Sqrt(1/(9*float64(n))+c*c/(2*freedom))
	return Index{c, c - u, c + u}
}

// Capability is how well values lie within their limits (terms of ISO 22514): Cp and Cpk by how much a value differs
// from the one before, Pp and Ppk by the scatter of all. Cp and Pp are nil where there is one limit only.
type Capability struct {
	N            int
	Mean         float64
	Within       float64 // σ_w = mean|x_i − x_{i−1}|/1.128
	Overall      float64 // s of all values
	Cp, Pp       *Index
	Cpk, Ppk     Index
	Skewed, Wide bool
}

// CapabilityOf judges values in the sequence in which they were measured; a limit that is not given is infinite, step
// is the resolution of a value. It fails with too-few, no-rating, below-floor or zero-divisor.
func CapabilityOf(values []float64, low, high, step float64) (Capability, error) {
	n := len(values)
	switch {
	case n < leastCapable:
		return Capability{}, record.Because(record.TooFew, "%d units have the figure; %d are needed", n, leastCapable)
	case math.IsInf(low, -1) && math.IsInf(high, 1):
		return Capability{}, record.Because(record.NoRating, "the figure has no limit")
	}
	c := Capability{N: n, Wide: n < wideUnder}
	c.Mean, c.Overall = stat.MeanStdDev(values, nil)
	for i := 1; i < n; i++ {
		c.Within += math.Abs(values[i]-values[i-1]) / float64(n-1) / movingRange
	}
	if math.Max(c.Overall, c.Within) < step {
		return c, record.Because(record.BelowFloor, "the values spread by less than a step of their resolution, %.3g", step)
	}
	if c.Within == 0 || c.Overall == 0 {
		return c, record.Because(record.ZeroDivisor, "the values are all equal")
	}
	c.Skewed = math.Abs(stat.Skew(values, nil)) > skewedBeyond
	nearest := math.Min(high-c.Mean, c.Mean-low)
	all := float64(n - 1)
	c.Cpk = indexOf(nearest/(3*c.Within), n, movingFreedom*all)
	c.Ppk = indexOf(nearest/(3*c.Overall), n, all)
	if band := high - low; !math.IsInf(band, 0) {
		cp, pp := indexOf(band/(6*c.Within), n, movingFreedom*all), indexOf(band/(6*c.Overall), n, all)
		c.Cp, c.Pp = &cp, &pp
	}
	return c, nil
}

// Drift is b of the line through values over their sequence, per unit, with t₀.₉₇₅(n − 2)·s_b.
type Drift struct{ Value, U float64 }

// DriftOf is how much a figure goes up or down from unit to unit. It fails with too-few.
func DriftOf(values []float64) (Drift, error) {
	n := len(values)
	if n < leastDrift {
		return Drift{}, record.Because(record.TooFew, "%d units have the figure; %d are needed", n, leastDrift)
	}
	xs := make([]float64, n)
	for i := range xs {
		xs[i] = float64(i)
	}
	a, b := stat.LinearRegression(xs, values, nil, false)
	rest, spread := 0.0, 0.0
	mean := stat.Mean(xs, nil)
	for i, x := range xs {
		r := values[i] - a - b*x
		rest += r * r
		spread += (x - mean) * (x - mean)
	}
	freedom := float64(n - 2)
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: freedom}.Quantile(0.975)
	return Drift{b, t * math.Sqrt(rest/freedom/spread)}, nil
}

const leastDrift = 5
