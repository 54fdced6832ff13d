package trace

import (
	"math"

	"gonum.org/v1/gonum/mat"
)

// fewestForInstant is the number of samples from which a curve through them says more than the nearest one does.
const fewestForInstant = 6

// The curves that Instant fits.
const (
	Straight = 1 // where one asks at an end, beyond which a parabola runs away
	Bent     = 2 // in the middle, where a straight line would cut the corner of what bends
)

// Instant is what a smooth trace was at a time: a curve of the given degree through the samples around it, by least
// squares, with the standard deviation of its value there. Of fewer than six samples it is the nearest one, whose
// deviation is not known: sd is then NaN.
func (s Series) Instant(at float64, degree int) (x, sd float64) {
	n := s.Len()
	if n < fewestForInstant {
		return s.Nearest(at), math.NaN()
	}
	// In units of the window, so that the powers of times keep their digits.
	unit := math.Max(s.T[n-1]-s.T[0], math.SmallestNonzeroFloat64)
	terms := mat.NewDense(n, degree+1, nil)
	for k, t := range s.T {
		for p := range degree + 1 {
			terms.Set(k, p, math.Pow((t-at)/unit, float64(p)))
		}
	}
	var fit mat.VecDense
	if err := fit.SolveVec(terms, mat.NewVecDense(n, s.X)); err != nil {
		return s.Nearest(at), math.NaN()
	}
	var back, normal, inverse mat.Dense
	back.Mul(terms, &fit)
	rest := 0.0
	for k, x := range s.X {
		rest += (x - back.At(k, 0)) * (x - back.At(k, 0))
	}
	normal.Mul(terms.T(), terms)
	if err := inverse.Inverse(&normal); err != nil {
		return fit.AtVec(0), math.NaN()
	}
	return fit.AtVec(0), math.Sqrt(rest / float64(n-degree-1) * math.Max(inverse.At(0, 0), 0))
}
