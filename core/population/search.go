package population

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"usherbench/core/quantity"
)

// search looks for the grouping of cells with the least J.
type search struct {
	Match
	cells    []Cell
	distance [][]float64 // of the curves of two cells
	groups   int
}

// order says who is where: indexes of cells, group after group, then those that are left.
type order []int

// least is by how much J must fall for a change to count.
const least = 1e-12

func newSearch(m Match, cells []Cell) *search {
	s := &search{Match: m, cells: cells, groups: len(cells) / m.Size, distance: make([][]float64, len(cells))}
	if m.Groups > 0 {
		s.groups = min(s.groups, m.Groups)
	}
	for i := range s.distance {
		s.distance[i] = make([]float64, len(cells))
		for j := range i {
			s.distance[i][j] = CurveDistance(cells[i].Curve, cells[j].Curve)
			s.distance[j][i] = s.distance[i][j]
		}
	}
	return s
}

// group are the members of a group in an order, left those that are in none.
func (s *search) group(o order, k int) []int { return o[k*s.Size : (k+1)*s.Size] }

func (s *search) left(o order) []int { return o[s.groups*s.Size:] }

// total is J of an order.
func (s *search) total(o order) (sum float64) {
	for k := range s.groups {
		sum += s.score(s.group(o, k)).Score
	}
	return sum
}

// sorted cuts the sorted cells into groups: the run of neighbours that leaves out whom to leave out at the
// cheapest end.
func (s *search) sorted() order {
	taken := s.groups * s.Size
	var best order
	score := math.Inf(1)
	for skip := range len(s.cells) - taken + 1 {
		o := make(order, 0, len(s.cells))
		for i := skip; i < skip+taken; i++ {
			o = append(o, i)
		}
		for i := range s.cells {
			if i < skip || i >= skip+taken {
				o = append(o, i)
			}
		}
		if x := s.total(o); x < score {
			best, score = o, x
		}
	}
	return best
}

// best improves an order, then again and again from random changes of the best so far.
func (s *search) best(begin order) (best order, score float64) {
	best = slices.Clone(begin)
	score = s.improve(best)
	rng := rand.New(rand.NewPCG(s.Seed, 0x3a7c))
	for range s.Restarts {
		trial := slices.Clone(best)
		if rng.IntN(2) == 0 {
			rng.Shuffle(len(trial), trial.swap)
		} else { // disturb the best a little
			for range 2 + rng.IntN(6) {
				trial.swap(rng.IntN(len(trial)), rng.IntN(len(trial)))
			}
		}
		if x := s.improve(trial); x < score-least {
			best, score = trial, x
		}
	}
	return best, score
}

func (o order) swap(i, j int) { o[i], o[j] = o[j], o[i] }

// improve swaps cells between groups, and with those that are left, while J falls. It changes the order and gives J.
func (s *search) improve(o order) (total float64) {
	// One more than there are groups: who is left costs nothing.
	scores := make([]float64, s.groups+1)
	for k := range s.groups {
		scores[k] = s.score(s.group(o, k)).Score
	}
	for s.improveOnce(o, scores) {
	}
	for _, x := range scores {
		total += x
	}
	return total
}

// improveOnce tries every swap once and tells whether one was for the better.
func (s *search) improveOnce(o order, scores []float64) (improved bool) {
	cost := func(k int) float64 {
		if k == s.groups {
			return 0
		}
		return s.score(s.group(o, k)).Score
	}
	for i := range s.groups * s.Size {
		one := i / s.Size
		for j := (one + 1) * s.Size; j < len(o); j++ {
			other := min(j/s.Size, s.groups)
			o.swap(i, j)
			a, b := cost(one), cost(other)
			if a+b < scores[one]+scores[other]-least {
				scores[one], scores[other] = a, b
				improved = true
			} else {
				o.swap(i, j)
			}
		}
	}
	return improved
}

// Scales of the three spreads, at which each counts 1.
const (
	capacityScale   = 0.01
	resistanceScale = 0.05
	curveScale      = 5e-3
)

// extent is how far values lie apart.
type extent struct{ low, high, sum, n float64 }

func newExtent() extent { return extent{low: math.Inf(1), high: math.Inf(-1)} }

func (e *extent) add(x float64) {
	e.low, e.high, e.sum, e.n = math.Min(e.low, x), math.Max(e.high, x), e.sum+x, e.n+1
}

// spread is the extent over the mean.
func (e *extent) spread() float64 { return (e.high - e.low) / (e.sum / e.n) }

// score is how far the members of a group spread, and its part of J. It names no cells.
func (s *search) score(members []int) (g Group) {
	capacity, resistance := newExtent(), newExtent()
	for i, a := range members {
		capacity.add(s.cells[a].Capacity)
		resistance.add(s.cells[a].Resistance)
		for _, b := range members[:i] {
			g.CurveDistance = math.Max(g.CurveDistance, s.distance[a][b])
		}
	}
	add := func(weight, spread, scale float64) {
		if weight > 0 && !math.IsNaN(spread) {
			g.Score += weight * (spread / scale) * (spread / scale)
		}
	}
	add(s.Capacity, capacity.spread(), capacityScale)
	add(s.Resistance, resistance.spread(), resistanceScale)
	add(s.Curve, g.CurveDistance, curveScale)
	g.CapacitySpread, g.ResistanceSpread = 100*capacity.spread(), 100*resistance.spread()
	return g
}

// describe is the group of some cells, by serial number.
func (s *search) describe(members []int) Group {
	g := s.score(members)
	for _, i := range members {
		g.Cells = append(g.Cells, s.cells[i])
	}
	slices.SortFunc(g.Cells, func(a, b Cell) int { return cmp.Compare(a.Serial, b.Serial) })
	return g
}

// whyLeft words what a cell that fits no group costs: J of the group in which it would cost least, in place of
// the best member of it.
func (s *search) whyLeft(groups []Group, left int) string {
	cost, part := math.Inf(1), ""
	for _, before := range groups {
		members := s.membersOf(before)
		for k := range members {
			trial := slices.Clone(members)
			trial[k] = left
			after := s.score(trial)
			if x := after.Score - before.Score; x < cost {
				cost, part = x, s.grewMost(before, after)
			}
		}
	}
	return quantity.Sprintf("fits no group as well as those in them: at best it adds %.3g to the score, most by %s", cost,
		part)
}

// membersOf finds the cells of a group again.
func (s *search) membersOf(g Group) []int {
	var members []int
	for _, c := range g.Cells {
		members = append(members, slices.IndexFunc(s.cells, func(x Cell) bool { return x.Serial == c.Serial }))
	}
	return members
}

// grewMost names the part of a group's score that grew most.
func (s *search) grewMost(before, after Group) string {
	square := func(x float64) float64 { return x * x }
	gained := func(before, after, scale float64) float64 { return square(after/scale) - square(before/scale) }
	parts := []struct {
		name  string
		grown float64
	}{
		{"capacity", s.Capacity * gained(before.CapacitySpread, after.CapacitySpread, 100*capacityScale)},
		{"resistance", s.Resistance * gained(before.ResistanceSpread, after.ResistanceSpread, 100*resistanceScale)},
		{"its curve's course", s.Curve * gained(before.CurveDistance, after.CurveDistance, curveScale)},
	}
	most := parts[0]
	for _, p := range parts[1:] {
		if p.grown > most.grown {
			most = p
		}
	}
	return most.name
}
