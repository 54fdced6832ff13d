package uncertainty

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// Peak is what noise does to the largest of some readings: it is too large by Bias on the average, and scatters by
// Deviation.
type Peak struct{ Bias, Deviation float64 }

// PeakOf is the peak of n readings of one value with normal noise: its mean by Blom's plotting position, its
// deviation by a fit to the tables of order statistics, within 3 %.
func PeakOf(n, noise float64) Peak {
	n = math.Max(n, 1)
	return Peak{Bias: noise * distuv.UnitNormal.Quantile((n-0.375)/(n+0.25)),
		Deviation: noise / math.Sqrt(1+0.85*math.Log(n))}
}

// Skewed is the expanded uncertainty of a value that is off by a bias which is not taken away, beside peaks that
// scatter and what else is known: the half-width about the value that holds the truth 95 times in a hundred.
func Skewed(rest Expanded, peaks ...Peak) Expanded {
	bias, variance := 0.0, math.Pow(rest.U/normalFactor, 2)
	for _, p := range peaks {
		bias += p.Bias
		variance += p.Deviation * p.Deviation
	}
	s := math.Sqrt(variance)
	if s == 0 {
		return Expanded{U: math.Abs(bias), K: rest.K, Parts: rest.Parts + len(peaks)}
	}
	covers := func(u float64) float64 {
		return distuv.UnitNormal.CDF((u-bias)/s) - distuv.UnitNormal.CDF((-u-bias)/s)
	}
	low, high := 0.0, math.Abs(bias)+4*s
	for range 60 {
		if middle := (low + high) / 2; covers(middle) < 0.95 {
			low = middle
		} else {
			high = middle
		}
	}
	return Expanded{U: high, K: high / math.Hypot(s, bias), Parts: rest.Parts + len(peaks)}
}
