package archive

import (
	"math"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// Pointed draws curves through the points of grids, which are in the units of their columns: a line for each value of
// what the curve is drawn per, or for each stage that swept, and where a sweep went there and back for each way.
func Pointed(curves []procedure.Curve, points []record.Point) (all []api.PlayedCurve) {
	points = slices.DeleteFunc(slices.Clone(points), func(p record.Point) bool { return p.Row != "" })
	for _, c := range curves {
		if c.Title != "" { // what is drawn is no points of a grid
			continue
		}
		for _, line := range linesOf(c, points) {
			seat, _, _ := strings.Cut(c.By, ".")
			there, back := record.AtTurn(line.points, seat)
			for k, way := range [][]record.Point{there, back} {
				if len(way) == 0 {
					continue
				}
				drawn := api.PlayedCurve{Curve: c, Label: line.label, Dots: true}
				if len(back) > 0 {
					drawn.Label = strings.TrimPrefix(line.label+", "+[]string{"there", "back"}[k], ", ")
				}
				for _, p := range way {
					x, y, _ := placed(c, p)
					drawn.X, drawn.Y = append(drawn.X, x), append(drawn.Y, y)
				}
				all = append(all, drawn)
			}
		}
	}
	return all
}

// pointedLine is one line of a curve: the points that lie on it, in the order in which they were taken.
type pointedLine struct {
	label  string
	per    float64
	points []record.Point
}

// linesOf parts the points that have both values of a curve into its lines.
func linesOf(c procedure.Curve, points []record.Point) (lines []pointedLine) {
	var stages []string
	points = slices.DeleteFunc(slices.Clone(points), func(p record.Point) bool {
		_, _, ok := placed(c, p)
		if ok && !slices.Contains(stages, p.Stage) {
			stages = append(stages, p.Stage)
		}
		return !ok
	})
	for _, p := range points {
		line := pointedLine{per: p.Place[c.Per]}
		switch {
		case c.Per != "":
			line.label = quantity.Quantity{Value: line.per, Dim: trace.UnitOf(c.Per).Dim}.String()
		case len(stages) > 1:
			line.label = p.Stage
		}
		k := slices.IndexFunc(lines, func(l pointedLine) bool { return l.label == line.label && l.per == line.per })
		if k < 0 {
			lines, k = append(lines, line), len(lines)
		}
		lines[k].points = append(lines[k].points, p)
	}
	slices.SortStableFunc(lines, func(a, b pointedLine) int {
		switch {
		case a.per < b.per:
			return -1
		case a.per > b.per:
			return 1
		}
		return 0
	})
	return lines
}

// placed is where a point lies on a curve; ok is false where it has not both values.
func placed(c procedure.Curve, p record.Point) (x, y float64, ok bool) {
	x, okX := valueOf(p, c.By)
	y, okY := valueOf(p, c.Of)
	if less := c.LessColumn(); less != "" {
		from, known := valueOf(p, less)
		y, okY = y-from, okY && known
	}
	if strings.Contains(c.Log, "x") && x <= 0 || strings.Contains(c.Log, "y") && y <= 0 {
		return x, y, false // it has no place on such an axis
	}
	return x, y, okX && okY
}

// valueOf is a quantity of a point; efficiency and loss are computed from the powers of all inputs and outputs.
func valueOf(p record.Point, of string) (float64, bool) {
	switch of {
	case "efficiency":
		in, out := wattsOf(p, seats.Feeds), wattsOf(p, seats.Drains)
		return 100 * out / in, in > 0 && out > 0
	case "loss":
		in, out := wattsOf(p, seats.Feeds), wattsOf(p, seats.Drains)
		return in - out, !math.IsNaN(in - out)
	}
	a, ok := p.Averages[of]
	return a.Mean, ok && a.N > 0
}

// wattsOf are those of all seats that have a role; NaN if there are none.
func wattsOf(p record.Point, role seats.Role) float64 {
	sum, n := 0.0, 0
	for column, a := range p.Averages {
		seat, ok := strings.CutSuffix(column, ".watts")
		if kind, known := seats.KindOf(seat); ok && known && kind.Is(role) && a.N > 0 {
			sum, n = sum+a.Mean, n+1
		}
	}
	if n == 0 {
		return math.NaN()
	}
	return sum
}
