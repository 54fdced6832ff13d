package report

import (
	"maps"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// TableOfPoints is the points of a grid and the rows of acquire and seek as a table: stage, row, when, what was set,
// and the mean of what was read. The points are in the units of their columns ([record.Point.InUnits]).
func TableOfPoints(points []record.Point) *figure.Table {
	set, read := columnsOf(points)
	t := &figure.Table{Columns: []figure.TableColumn{{Name: "stage"}, {Name: "row"}, {Name: "from", Unit: "s"},
		{Name: "to", Unit: "s"}}}
	for _, c := range set {
		t.Columns = append(t.Columns, figure.TableColumn{Name: "set " + c, Unit: trace.UnitOf(c).Symbol})
	}
	for _, c := range read {
		t.Columns = append(t.Columns, figure.TableColumn{Name: c, Unit: trace.UnitOf(c).Symbol})
	}
	for _, p := range points {
		row := []any{p.Stage, p.Row, p.T0, p.T1}
		for _, c := range set {
			x, ok := p.Place[c]
			row = append(row, orNone(x, ok))
		}
		for _, c := range read {
			a, ok := p.Averages[c]
			row = append(row, orNone(a.Mean, ok && a.N > 0))
		}
		t.Rows = append(t.Rows, row)
	}
	return t
}

func orNone(x float64, known bool) any {
	if !known {
		return nil
	}
	return x
}

// columnsOf are those that points have: what was set, and what was read but not counted, in the order of seats and
// quantities.
func columnsOf(points []record.Point) (set, read []string) {
	places, averages := map[string]bool{}, map[string]bool{}
	for _, p := range points {
		for c := range p.Place {
			places[c] = true
		}
		for c, a := range p.Averages {
			kind, known := quantity.KindOfColumn(c)
			averages[c] = averages[c] || a.N > 0 && !(known && kind.Counted)
		}
	}
	maps.DeleteFunc(averages, func(_ string, has bool) bool { return !has })
	return inOrder(places), inOrder(averages)
}

func inOrder(columns map[string]bool) []string {
	names := slices.Collect(maps.Keys(columns))
	slices.SortFunc(names, seats.CompareColumns)
	return names
}

func inUnits(points []record.Point) []record.Point {
	out := make([]record.Point, len(points))
	for i, p := range points {
		out[i] = p.InUnits()
	}
	return out
}

// WithoutEmpty leaves out the columns that have nothing in any row.
func WithoutEmpty(t *figure.Table) *figure.Table {
	out := &figure.Table{Rows: make([][]any, len(t.Rows))}
	for i, c := range t.Columns {
		if !slices.ContainsFunc(t.Rows, func(row []any) bool { return row[i] != nil && row[i] != "" }) {
			continue
		}
		out.Columns = append(out.Columns, c)
		for k, row := range t.Rows {
			out.Rows[k] = append(out.Rows[k], row[i])
		}
	}
	return out
}

// WithoutSame leaves out the columns that are the same in every row of several, and says what they are.
func WithoutSame(t *figure.Table) (out *figure.Table, same string) {
	if len(t.Rows) < 2 {
		return t, ""
	}
	out = &figure.Table{Rows: make([][]any, len(t.Rows))}
	var words []string
	for i, c := range t.Columns {
		if !slices.ContainsFunc(t.Rows, func(row []any) bool { return row[i] != t.Rows[0][i] }) {
			unit := strings.TrimSuffix(" "+c.Unit, " s") // times are worded with theirs
			words = append(words, strings.TrimSpace(c.Name+" "+TableCell(t.Rows[0][i], c.Unit)+unit))
			continue
		}
		out.Columns = append(out.Columns, c)
		for k, row := range t.Rows {
			out.Rows[k] = append(out.Rows[k], row[i])
		}
	}
	return out, strings.Join(words, ", ")
}
