// Package overlay lays curves of several runs over each other: aligned at an instant or a threshold, on a
// common axis, with the band in which they lie and how far each is from another.
package overlay

import (
	"errors"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Curve is one line of a picture: x rises.
type Curve struct {
	// Label names it at its end, Group says which of several sets it belongs to.
	Label, Group string
	X, Y         []float64
}

// ErrNoCommonRange says that the curves share no part of the x axis.
var ErrNoCommonRange = errors.New("the curves have no part of the axis in common")

// At is y at x by linear interpolation; NaN outside.
func (c Curve) At(x float64) float64 {
	n := len(c.X)
	if n == 0 || x < c.X[0] || x > c.X[n-1] {
		return math.NaN()
	}
	k := sort.SearchFloat64s(c.X, x)
	if c.X[k] == x || k == 0 {
		return c.Y[k]
	}
	share := (x - c.X[k-1]) / (c.X[k] - c.X[k-1])
	return c.Y[k-1] + share*(c.Y[k]-c.Y[k-1])
}

// Shifted is the curve with its x counted from an origin.
func (c Curve) Shifted(origin float64) Curve {
	x := make([]float64, len(c.X))
	for k := range x {
		x[k] = c.X[k] - origin
	}
	return Curve{c.Label, c.Group, x, c.Y}
}

// Crosses is the first x at which y goes through a level, in either direction; ok is false if it never does.
func (c Curve) Crosses(level float64) (x float64, ok bool) {
	for k := 1; k < len(c.Y); k++ {
		a, b := c.Y[k-1]-level, c.Y[k]-level
		if a == 0 {
			return c.X[k-1], true
		}
		if a*b < 0 || b == 0 {
			return c.X[k-1] + (c.X[k]-c.X[k-1])*a/(a-b), true
		}
	}
	return 0, false
}

// Rising drops what does not go on along x, so that a curve over charge can be interpolated.
func (c Curve) Rising() Curve {
	out := Curve{Label: c.Label, Group: c.Group}
	for k, x := range c.X {
		if math.IsNaN(x) || math.IsNaN(c.Y[k]) || len(out.X) > 0 && x <= out.X[len(out.X)-1] {
			continue
		}
		out.X, out.Y = append(out.X, x), append(out.Y, c.Y[k])
	}
	return out
}

// besideEnd is the share of the range of a curve by which a place may lie beyond its end and still be at it: two
// measurements of one place are never quite at it.
const besideEnd = 0.01

// Deviation is how far the curve lies from another, where both are.
func (c Curve) Deviation(from Curve) Curve {
	out := Curve{Label: c.Label, Group: c.Group}
	if len(from.X) == 0 {
		return out
	}
	first, last := from.X[0], from.X[len(from.X)-1]
	for k, x := range c.X {
		near := x
		if beside := besideEnd * (last - first); x >= first-beside && x <= last+beside {
			near = min(max(x, first), last)
		}
		if y := c.Y[k] - from.At(near); !math.IsNaN(y) {
			out.X, out.Y = append(out.X, x), append(out.Y, y)
		}
	}
	return out
}

// Thinned keeps about n places: of each of n/2 parts the least and the greatest y, and both ends, so that
// nothing that stands out is lost.
func (c Curve) Thinned(n int) Curve {
	if len(c.X) <= n || n < 4 {
		return c
	}
	out := Curve{Label: c.Label, Group: c.Group}
	keep := func(k int) { out.X, out.Y = append(out.X, c.X[k]), append(out.Y, c.Y[k]) }
	keep(0)
	parts := n/2 - 1
	for p := range parts {
		from, to := 1+p*(len(c.X)-2)/parts, 1+(p+1)*(len(c.X)-2)/parts
		if from >= to {
			continue
		}
		low, high := from, from
		for k := from; k < to; k++ {
			if c.Y[k] < c.Y[low] {
				low = k
			}
			if c.Y[k] > c.Y[high] {
				high = k
			}
		}
		first, second := min(low, high), max(low, high)
		keep(first)
		if second != first {
			keep(second)
		}
	}
	keep(len(c.X) - 1)
	return out
}

// Band is where the curves lie, at equal places of their common range.
type Band struct {
	X, Min, Max, Mean []float64
	// Widest is the largest max − min, and At its place.
	Widest, At float64
}

// common is the range of x that all curves have.
func common(curves []Curve) (from, to float64, err error) {
	from, to = math.Inf(-1), math.Inf(1)
	for _, c := range curves {
		if len(c.X) < 2 {
			continue
		}
		from, to = math.Max(from, c.X[0]), math.Min(to, c.X[len(c.X)-1])
	}
	if !(from < to) || math.IsInf(from, 0) || math.IsInf(to, 0) {
		return 0, 0, ErrNoCommonRange
	}
	return from, to, nil
}

// BandOf is the band of several curves at n places.
func BandOf(curves []Curve, n int) (Band, error) {
	from, to, err := common(curves)
	if err != nil {
		return Band{}, err
	}
	var b Band
	for i := range n {
		x := from + (to-from)*float64(i)/float64(n-1)
		if i == n-1 {
			x = to
		}
		low, high, sum, count := math.Inf(1), math.Inf(-1), 0.0, 0.0
		for _, c := range curves {
			if y := c.At(x); !math.IsNaN(y) {
				low, high, sum, count = math.Min(low, y), math.Max(high, y), sum+y, count+1
			}
		}
		if count == 0 {
			continue
		}
		b.X, b.Min, b.Max, b.Mean = append(b.X, x), append(b.Min, low), append(b.Max, high), append(b.Mean, sum/count)
		if high-low > b.Widest {
			b.Widest, b.At = high-low, x
		}
	}
	return b, nil
}

// Difference is how far a curve lies from the reference over what both have in common.
type Difference struct {
	Label string
	// Mean, RMS and Largest (with its sign and place) are of y − reference.
	Mean, RMS, Largest, At float64
	// End is how much further the curve reaches along x.
	End float64
}

// Differences compares each curve with the reference at 201 equal places of what both have in common.
func Differences(reference Curve, curves []Curve) []Difference {
	var all []Difference
	for _, c := range curves {
		d := Difference{Label: c.Label, Mean: math.NaN(), RMS: math.NaN(), Largest: math.NaN(), End: math.NaN()}
		from, to, err := common([]Curve{reference, c})
		if err == nil && len(c.X) > 1 && len(reference.X) > 1 {
			const places = 201
			var sum, squares float64
			d.Largest = 0
			for i := range places {
				x := from + (to-from)*float64(i)/(places-1)
				y := c.At(math.Min(x, to)) - reference.At(math.Min(x, to))
				sum, squares = sum+y, squares+y*y
				if math.Abs(y) > math.Abs(d.Largest) {
					d.Largest, d.At = y, x
				}
			}
			d.Mean, d.RMS = sum/places, math.Sqrt(squares/places)
			d.End = c.X[len(c.X)-1] - reference.X[len(reference.X)-1]
		}
		all = append(all, d)
	}
	return all
}

// Sample chooses at most n labels for a picture that would be too full: spread evenly over the sorted labels,
// the first and last included. Labels that end in numbers are sorted by them.
func Sample(labels []string, n int) []string {
	sorted := slices.Clone(labels)
	slices.SortFunc(sorted, compareLabels)
	sorted = slices.Compact(sorted)
	if n <= 0 || len(sorted) <= n {
		return sorted
	}
	if n == 1 {
		return sorted[:1]
	}
	var chosen []string
	for i := range n {
		chosen = append(chosen, sorted[i*(len(sorted)-1)/(n-1)])
	}
	return chosen
}

// compareLabels sorts GC-9 before GC-10.
func compareLabels(a, b string) int {
	cut := func(s string) (string, int) {
		i := len(s)
		for i > 0 && s[i-1] >= '0' && s[i-1] <= '9' {
			i--
		}
		n, err := strconv.Atoi(s[i:])
		if err != nil {
			return s, 0
		}
		return s[:i], n
	}
	wa, na := cut(a)
	wb, nb := cut(b)
	if c := strings.Compare(wa, wb); c != 0 || na == nb {
		if c == 0 {
			return strings.Compare(a, b)
		}
		return c
	}
	return na - nb
}
