package population

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"usherbench/core/record"
)

// median is that of values; NaN of none.
func median(values []float64) float64 { return quantile(slices.Sorted(slices.Values(values)), 0.5) }

// quantile is the value of sorted values below which a share of them lies, by a straight line between two; NaN of none.
func quantile(sorted []float64, share float64) float64 {
	if len(sorted) == 0 {
		return math.NaN()
	}
	at := share * float64(len(sorted)-1)
	k := min(int(at), max(len(sorted)-2, 0))
	if k+1 == len(sorted) {
		return sorted[k]
	}
	return sorted[k] + (at-float64(k))*(sorted[k+1]-sorted[k])
}

// Bin is one of a histogram: from Low to High, its upper end not in it but for the last.
type Bin struct {
	Low, High float64
	Units     int
}

// mostBins bounds a histogram.
const mostBins = 200

// Bins is the histogram of values, in equal bins from the least to the greatest: as wide as Freedman and Diaconis
// say, h = 2·(Q₃ − Q₁)/∛n, and no narrower than a step of the resolution. It fails with too-few.
func Bins(values []float64, step float64) ([]Bin, error) {
	n := len(values)
	if n < 2 {
		return nil, record.Because(record.TooFew, "%d units have the figure; two are needed", n)
	}
	sorted := slices.Sorted(slices.Values(values))
	low, high := sorted[0], sorted[n-1]
	count := 1
	switch between := quantile(sorted, 0.75) - quantile(sorted, 0.25); {
	case high == low:
	case between == 0:
		count = int(math.Ceil(math.Log2(float64(n)))) + 1
	default:
		h := math.Max(2*between/math.Cbrt(float64(n)), step)
		count = int(math.Ceil((high-low)/h - 1e-9))
	}
	count = min(max(count, 1), mostBins)
	bins, wide := make([]Bin, count), (high-low)/float64(count)
	for i := range bins {
		bins[i].Low, bins[i].High = low+float64(i)*wide, low+float64(i+1)*wide
	}
	bins[count-1].High = high
	for _, x := range sorted {
		k := count - 1
		if wide > 0 {
			k = min(int((x-low)/wide), count-1)
		}
		bins[k].Units++
	}
	return bins, nil
}

// Outlier is a value that lies far from the others, by its place among them and how far: z.
type Outlier struct {
	Index int
	Z     float64
}

// Bounds of an outlier.
const (
	leastOutlying = 5
	farOut        = 3.5
)

// Outliers finds values with |z| > 3.5, z = 0.6745·(x − x̃)/MAD; where half of the values are equal, MAD = 0, it
// goes by the mean deviation, z = (x − x̃)/(1.2533·mean|x − x̃|), and ties is true. Nothing is removed. It fails
// with too-few.
func Outliers(values []float64) (far []Outlier, ties bool, err error) {
	if len(values) < leastOutlying {
		return nil, false, record.Because(record.TooFew, "%d units have the figure; %d are needed", len(values),
			leastOutlying)
	}
	middle := median(values)
	off := make([]float64, len(values))
	for i, x := range values {
		off[i] = math.Abs(x - middle)
	}
	scale := median(off) / 0.6745
	if ties = scale == 0; ties {
		scale = 1.2533 * stat.Mean(off, nil)
	}
	if scale == 0 {
		return nil, true, nil // all are equal
	}
	for i, x := range values {
		if z := (x - middle) / scale; math.Abs(z) > farOut {
			far = append(far, Outlier{i, z})
		}
	}
	return far, ties, nil
}
