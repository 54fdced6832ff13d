// Package population compares units with each other: how far they spread, which belong together, and whether
// one lot differs from another.
package population

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
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

// Of groups cells so that J = Σ [w_C·(ΔC/C̄/1 %)² + w_R·(ΔR/R̄/5 %)² + w_D·(D/5 mV)²] is small, with
// Δ = max − min, bar = mean, and D the largest pairwise root mean square distance of curves. It begins with
// the cells sorted by capacity and cut; cells are swapped between groups and rejects while J falls; then again
// from seeded random beginnings. Hence it is never worse than sorting alone.
func (m Match) Of(cells []Cell) (Grouping, error) {
	eligible, rejects := m.eligible(cells)
	g := Grouping{Rejects: rejects}
	switch {
	case m.Size < 2:
		return g, fmt.Errorf("a group has two cells at least, not %d", m.Size)
	case len(eligible) < m.Size:
		return g, fmt.Errorf("%w: %d of %d are eligible, and a group needs %d", ErrTooFew, len(eligible), len(cells),
			m.Size)
	}
	s := newSearch(m, eligible)
	cut := s.sorted()
	g.Sorted = s.total(cut)
	best, score := s.best(cut)
	g.Score = score
	for k := range s.groups {
		g.Groups = append(g.Groups, s.describe(s.group(best, k)))
	}
	slices.SortFunc(g.Groups, func(a, b Group) int { return cmp.Compare(a.Cells[0].Serial, b.Cells[0].Serial) })
	for _, left := range s.left(best) {
		g.Rejects = append(g.Rejects, Reject{s.cells[left].Serial, s.whyLeft(g.Groups, left)})
	}
	slices.SortFunc(g.Rejects, func(a, b Reject) int { return cmp.Compare(a.Serial, b.Serial) })
	return g, nil
}

// eligible are the cells that can be matched, by rising capacity.
func (m Match) eligible(cells []Cell) (eligible []Cell, rejects []Reject) {
	for _, c := range cells {
		if why := m.reason(c); why != "" {
			rejects = append(rejects, Reject{c.Serial, why})
		} else {
			eligible = append(eligible, c)
		}
	}
	slices.SortFunc(eligible, func(a, b Cell) int {
		return cmp.Or(cmp.Compare(a.Capacity, b.Capacity), cmp.Compare(a.Serial, b.Serial))
	})
	return eligible, rejects
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
	case m.Curve > 0 && (len(c.Curve) != Places || slices.ContainsFunc(c.Curve, math.IsNaN)):
		return "its discharge curve is not known"
	}
	return ""
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
