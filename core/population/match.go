// Package population compares units with each other: how far they spread, which belong together, and whether
// one lot differs from another.
package population

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
)

// Places is the number of equal places of charge over own capacity at which curves of cells are compared.
const Places = 101

// Cell is what matching knows of one cell. What is missing is NaN or nil.
type Cell struct {
	Serial     string
	Capacity   float64   // Ah
	Resistance float64   // Ω
	Curve      []float64 // volts at Places equal places of charge over own capacity; nil: not compared
	// Why is a reason to leave it out that was found elsewhere, such as a limit of the nameplate.
	Why string
}

// Match says how cells are grouped.
type Match struct {
	// Size of a group, and how many groups at most; Groups 0: as many as there are cells for.
	Size, Groups int
	// Weights of the spreads of capacity (per 1 %), resistance (per 5 %) and the distance of curves (per 5 mV).
	Capacity, Resistance, Curve float64
	// Restarts of the search, and the seed that makes it repeatable.
	Restarts int
	Seed     uint64
}

// NewMatch has equal weights and 32 restarts.
func NewMatch(size int) Match {
	return Match{Size: size, Capacity: 1, Resistance: 1, Curve: 1, Restarts: 32, Seed: 1}
}

// Group is cells that belong together, and how far they spread.
type Group struct {
	Cells []Cell
	// Score is its part of J; the smaller the better.
	Score float64
	// CapacitySpread and ResistanceSpread in %, CurveDistance in V.
	CapacitySpread, ResistanceSpread, CurveDistance float64
}

// Reject is a cell that is in no group, and why.
type Reject struct {
	Serial, Why string
}

// Grouping is the result of matching.
type Grouping struct {
	Groups  []Group
	Rejects []Reject
	// Score is J, the sum over the groups; Sorted is J of the same number of groups cut from the list sorted by capacity.
	Score, Sorted float64
}

// ErrTooFew says that there are fewer eligible cells than a group needs.
var ErrTooFew = errors.New("too few cells")

// Scales of the three spreads, at which each counts 1.
const (
	capacityScale   = 0.01
	resistanceScale = 0.05
	curveScale      = 5e-3
)

// matching is a search under way: the eligible cells, their distances, and who is in which group.
type matching struct {
	Match
	cells    []Cell
	distance [][]float64 // of curves
	groups   int
}

// Of groups cells so that J = Σ [w_C·(ΔC/C̄/1 %)² + w_R·(ΔR/R̄/5 %)² + w_D·(D/5 mV)²] is small, with
// Δ = max − min, bar = mean, and D the largest pairwise root mean square distance of curves. It begins with
// the cells sorted by capacity and cut; cells are swapped between groups and rejects while J falls; then again
// from seeded random beginnings. Hence it is never worse than sorting alone.
func (m Match) Of(cells []Cell) (Grouping, error) {
	var g Grouping
	s := matching{Match: m}
	for _, c := range cells {
		if why := m.reason(c); why != "" {
			g.Rejects = append(g.Rejects, Reject{c.Serial, why})
			continue
		}
		s.cells = append(s.cells, c)
	}
	if m.Size < 2 {
		return g, fmt.Errorf("a group has two cells at least, not %d", m.Size)
	}
	if len(s.cells) < m.Size {
		return g, fmt.Errorf("%w: %d of %d are eligible, and a group needs %d", ErrTooFew, len(s.cells), len(cells), m.Size)
	}
	slices.SortFunc(s.cells, func(a, b Cell) int {
		switch {
		case a.Capacity != b.Capacity:
			return map[bool]int{true: -1, false: 1}[a.Capacity < b.Capacity]
		}
		return strings.Compare(a.Serial, b.Serial)
	})
	s.groups = len(s.cells) / m.Size
	if m.Groups > 0 {
		s.groups = min(s.groups, m.Groups)
	}
	s.measure()
	sorted, sortedScore := s.sorted()
	g.Sorted = sortedScore
	best, score := slices.Clone(sorted), s.improve(sorted)
	copy(best, sorted)
	rng := rand.New(rand.NewPCG(m.Seed, 0x3a7c))
	for range m.Restarts {
		trial := slices.Clone(best)
		if rng.IntN(2) == 0 {
			rng.Shuffle(len(trial), func(i, j int) { trial[i], trial[j] = trial[j], trial[i] })
		} else { // disturb the best a little
			for range 2 + rng.IntN(6) {
				i, j := rng.IntN(len(trial)), rng.IntN(len(trial))
				trial[i], trial[j] = trial[j], trial[i]
			}
		}
		if x := s.improve(trial); x < score-1e-12 {
			best, score = trial, x
		}
	}
	g.Score = score
	s.fill(&g, best)
	return g, nil
}

// reason says why a cell cannot be matched; empty if it can.
func (m Match) reason(c Cell) string {
	switch {
	case c.Why != "":
		return c.Why
	case m.Capacity > 0 && !(c.Capacity > 0):
		return "its capacity is not known"
	case m.Resistance > 0 && !(c.Resistance > 0):
		return "its resistance is not known"
	case m.Curve > 0 && len(c.Curve) != Places:
		return "its discharge curve is not known"
	}
	return ""
}

func (s *matching) measure() {
	n := len(s.cells)
	s.distance = make([][]float64, n)
	for i := range s.distance {
		s.distance[i] = make([]float64, n)
		for j := range i {
			s.distance[i][j] = CurveDistance(s.cells[i].Curve, s.cells[j].Curve)
			s.distance[j][i] = s.distance[i][j]
		}
	}
}

// CurveDistance is √(mean (U_i − U_j)²) of two curves at the same places; 0 if one is missing.
func CurveDistance(a, b []float64) float64 {
	if len(a) != len(b) || len(a) == 0 {
		return 0
	}
	var sum float64
	for k := range a {
		sum += (a[k] - b[k]) * (a[k] - b[k])
	}
	return math.Sqrt(sum / float64(len(a)))
}

// sorted cuts the sorted cells into groups: the run of neighbours that leaves out whom to leave out at the
// cheapest end. The order is a list of cell indexes, group after group, then the rejects.
func (s *matching) sorted() ([]int, float64) {
	spare := len(s.cells) - s.groups*s.Size
	var best []int
	score := math.Inf(1)
	for skip := range spare + 1 {
		order := make([]int, 0, len(s.cells))
		for i := skip; i < skip+s.groups*s.Size; i++ {
			order = append(order, i)
		}
		for i := range s.cells {
			if i < skip || i >= skip+s.groups*s.Size {
				order = append(order, i)
			}
		}
		if x := s.total(order); x < score {
			best, score = order, x
		}
	}
	return best, score
}

func (s *matching) total(order []int) (sum float64) {
	for g := range s.groups {
		sum += s.score(order[g*s.Size : (g+1)*s.Size]).Score
	}
	return sum
}

// score is the part of J that one group has.
func (s *matching) score(members []int) Group {
	var g Group
	lowC, highC, sumC := math.Inf(1), math.Inf(-1), 0.0
	lowR, highR, sumR := math.Inf(1), math.Inf(-1), 0.0
	for i, a := range members {
		c := &s.cells[a]
		lowC, highC, sumC = math.Min(lowC, c.Capacity), math.Max(highC, c.Capacity), sumC+c.Capacity
		lowR, highR, sumR = math.Min(lowR, c.Resistance), math.Max(highR, c.Resistance), sumR+c.Resistance
		for _, b := range members[:i] {
			g.CurveDistance = math.Max(g.CurveDistance, s.distance[a][b])
		}
	}
	n := float64(len(members))
	add := func(weight, spread, scale float64) {
		if weight > 0 && !math.IsNaN(spread) {
			g.Score += weight * (spread / scale) * (spread / scale)
		}
	}
	capacity, resistance := (highC-lowC)/(sumC/n), (highR-lowR)/(sumR/n)
	add(s.Capacity, capacity, capacityScale)
	add(s.Resistance, resistance, resistanceScale)
	add(s.Curve, g.CurveDistance, curveScale)
	g.CapacitySpread, g.ResistanceSpread = 100*capacity, 100*resistance
	return g
}

// improve swaps cells between groups, and with the rejects, while J falls. It changes the order and gives J.
func (s *matching) improve(order []int) float64 {
	scores := make([]float64, s.groups)
	of := func(g int) float64 { return s.score(order[g*s.Size : (g+1)*s.Size]).Score }
	for g := range scores {
		scores[g] = of(g)
	}
	for improved := true; improved; {
		improved = false
		for i := range order {
			gi := i / s.Size
			if gi >= s.groups {
				break
			}
			for j := (gi + 1) * s.Size; j < len(order); j++ {
				gj := j / s.Size
				order[i], order[j] = order[j], order[i]
				before, after := scores[gi], of(gi)
				var afterJ float64
				if gj < s.groups {
					before += scores[gj]
					afterJ = of(gj)
				}
				if after+afterJ < before-1e-12 {
					scores[gi] = after
					if gj < s.groups {
						scores[gj] = afterJ
					}
					improved = true
					continue
				}
				order[i], order[j] = order[j], order[i]
			}
		}
	}
	var sum float64
	for _, x := range scores {
		sum += x
	}
	return sum
}

// fill writes the groups, the best first, their cells by serial, and the rejects with how far they stand out.
func (s *matching) fill(g *Grouping, order []int) {
	var low, high float64 = math.Inf(1), math.Inf(-1)
	for k := range s.groups {
		members := order[k*s.Size : (k+1)*s.Size]
		group := s.score(members)
		for _, i := range members {
			group.Cells = append(group.Cells, s.cells[i])
			low, high = math.Min(low, s.cells[i].Capacity), math.Max(high, s.cells[i].Capacity)
		}
		slices.SortFunc(group.Cells, func(a, b Cell) int { return strings.Compare(a.Serial, b.Serial) })
		g.Groups = append(g.Groups, group)
	}
	slices.SortFunc(g.Groups, func(a, b Group) int { return strings.Compare(a.Cells[0].Serial, b.Cells[0].Serial) })
	for _, i := range order[s.groups*s.Size:] {
		g.Rejects = append(g.Rejects, Reject{s.cells[i].Serial, s.whyLeft(g, i)})
	}
	slices.SortFunc(g.Rejects, func(a, b Reject) int { return strings.Compare(a.Serial, b.Serial) })
}

// whyLeft words what a cell that fits no group costs: J of the group in which it would cost least, in place of
// the best member of it.
func (s *matching) whyLeft(g *Grouping, i int) string {
	index := map[string]int{}
	for k, c := range s.cells {
		index[c.Serial] = k
	}
	least, part := math.Inf(1), ""
	for _, group := range g.Groups {
		members := make([]int, len(group.Cells))
		for k, c := range group.Cells {
			members[k] = index[c.Serial]
		}
		for k := range members {
			trial := slices.Clone(members)
			trial[k] = i
			x := s.score(trial)
			if cost := x.Score - group.Score; cost < least {
				least = cost
				part = largest(s.Match, x, group)
			}
		}
	}
	return fmt.Sprintf("fits no group as well as those in them: at best it adds %.3g to the score, most by %s", least,
		part)
}

// largest names what of a group's score grew most.
func largest(m Match, x, before Group) string {
	grown := map[string]float64{
		"capacity":           m.Capacity * gained(x.CapacitySpread, before.CapacitySpread, capacityScale),
		"resistance":         m.Resistance * gained(x.ResistanceSpread, before.ResistanceSpread, resistanceScale),
		"its curve's course": m.Curve * (sq(x.CurveDistance/curveScale) - sq(before.CurveDistance/curveScale)),
	}
	name := "capacity"
	for _, k := range []string{"resistance", "its curve's course"} {
		if grown[k] > grown[name] {
			name = k
		}
	}
	return name
}

// gained is by how much the square of a spread, %, grew over its scale.
func gained(spread, before, scale float64) float64 {
	return sq(spread/100/scale) - sq(before/100/scale)
}

func sq(x float64) float64 { return x * x }
