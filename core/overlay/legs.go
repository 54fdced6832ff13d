package overlay

import (
	"math"
	"slices"
	"sort"
)

// turned is the share of the range of x by which a curve must go back before that is a turn and no noise.
const turned = 0.05

// leastLeg is the share of the range that a leg must cover to be one.
const leastLeg = 0.2

// Legs are the stretches of a curve whose x goes one way, in the order in which they were taken: a sweep up and the
// sweep back are two, which hysteresis holds apart. Each is told with x rising; what noise did to its order is put
// right, and equal x have their mean y. Places without a number are left out.
func Legs(c Curve) (legs []Curve) {
	var xs, ys []float64
	for k, x := range c.X {
		if !math.IsNaN(x) && !math.IsNaN(c.Y[k]) {
			xs, ys = append(xs, x), append(ys, c.Y[k])
		}
	}
	if len(xs) < 2 {
		return nil
	}
	whole := slices.Max(xs) - slices.Min(xs)
	from, low, high := 0, 0, 0 // where the leg began, and its ends so far
	leg := func(to int) {
		if math.Abs(xs[to]-xs[from]) >= leastLeg*whole && whole > 0 {
			legs = append(legs, sorted(c, xs[from:to+1], ys[from:to+1]))
		}
		from, low, high = to, to, to
	}
	for k := range xs {
		if xs[k] < xs[low] {
			low = k
		}
		if xs[k] > xs[high] {
			high = k
		}
		switch { // it came back from the end that it had reached later
		case high > low && xs[high]-xs[k] > turned*whole:
			leg(high)
			low, high = k, from
		case low > high && xs[k]-xs[low] > turned*whole:
			leg(low)
			high, low = k, from
		}
	}
	leg(max(high, low))
	return legs
}

// sorted is a stretch with x rising; equal x have their mean y.
func sorted(of Curve, xs, ys []float64) Curve {
	order := make([]int, len(xs))
	for k := range order {
		order[k] = k
	}
	sort.SliceStable(order, func(a, b int) bool { return xs[order[a]] < xs[order[b]] })
	c := Curve{Label: of.Label, Group: of.Group}
	n := 0.0 // how many have the newest x
	for _, k := range order {
		if last := len(c.X) - 1; last >= 0 && c.X[last] == xs[k] {
			n++
			c.Y[last] += (ys[k] - c.Y[last]) / n
			continue
		}
		c.X, c.Y, n = append(c.X, xs[k]), append(c.Y, ys[k]), 1
	}
	return c
}
