package trace

import (
	"cmp"
	"math"
	"slices"
)

// Excursion is a place where a trace goes far from where it usually is around there.
type Excursion struct {
	T      float64 // of the bucket
	Value  float64 // the extreme
	Usual  float64 // the median of the neighbourhood
	Unlike float64 // how many times its usual scatter it is away
}

// The neighbourhood of a bucket, and what scatter is taken for at least: the least step of the readings, and since a
// trace may have none, a share of the largest departure and of its value, below which nobody sees anything.
const (
	neighbours   = 20 // on each side
	leastScatter = 1e-3
	leastShare   = 1e-6
	// unlikeAtLeast is from how many times its scatter on a trace is away from where it usually is.
	unlikeAtLeast = 6.0
)

// Excursions finds where a trace goes furthest from the median of its neighbourhood, at most so many, the furthest
// first; of places within apart of each other, s, only the furthest. What skip holds for is left out.
func Excursions(buckets []Bucket, most int, apart float64, skip func(t float64) bool) []Excursion {
	middle := make([]float64, len(buckets))
	for i, b := range buckets {
		middle[i] = (b.Min + b.Max) / 2
	}
	found := make([]Excursion, 0, len(buckets))
	var distances []float64
	furthest := 0.0
	for i, b := range buckets {
		usual := median(slices.Clone(middle[max(i-neighbours, 0):min(i+neighbours+1, len(middle))]))
		if math.IsNaN(b.Min) || math.IsNaN(usual) {
			continue
		}
		e := Excursion{T: b.T, Value: b.Max, Usual: usual}
		if usual-b.Min > b.Max-usual {
			e.Value = b.Min
		}
		e.Unlike = math.Abs(e.Value - usual)
		distances = append(distances, e.Unlike)
		if !skip(b.T) {
			furthest = math.Max(furthest, e.Unlike)
			found = append(found, e)
		}
	}
	scatter := 1.4826 * median(slices.Clone(distances)) // of a normal distribution it is the standard deviation
	scatter = math.Max(scatter, leastStep(buckets))
	for i := range found {
		least := math.Max(leastScatter*furthest, leastShare*math.Abs(found[i].Usual))
		found[i].Unlike /= math.Max(math.Max(scatter, least), math.SmallestNonzeroFloat64)
	}
	slices.SortStableFunc(found, func(a, b Excursion) int { return cmp.Compare(b.Unlike, a.Unlike) })
	var out []Excursion
	for _, e := range found {
		near := func(o Excursion) bool { return math.Abs(o.T-e.T) < apart }
		if e.Unlike < unlikeAtLeast || len(out) == most {
			break
		}
		if !slices.ContainsFunc(out, near) {
			out = append(out, e)
		}
	}
	return out
}

// leastStep is by how much neighbours differ at least, where that is the step of an instrument's display: many do not
// differ at all, and of those that do many differ by it.
func leastStep(buckets []Bucket) float64 {
	var steps []float64
	for i := 1; i < len(buckets); i++ {
		if step := math.Abs(buckets[i].Max - buckets[i-1].Max); step > 0 {
			steps = append(steps, step)
		}
	}
	if len(steps) == 0 || 4*len(steps) > 3*len(buckets) {
		return 0
	}
	least := slices.Min(steps)
	small := len(slices.DeleteFunc(steps, func(step float64) bool { return step > 1.5*least }))
	if small < max(5, len(buckets)/50) {
		return 0
	}
	return least
}

// median of what is present; NaN if nothing is. It sorts what it is given.
func median(xs []float64) float64 {
	xs = slices.DeleteFunc(xs, math.IsNaN)
	if len(xs) == 0 {
		return math.NaN()
	}
	slices.Sort(xs)
	return (xs[(len(xs)-1)/2] + xs[len(xs)/2]) / 2
}
