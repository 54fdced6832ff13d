package converter

import (
	"maps"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
)

// loads lists the seats whose amps the points of a grid set, one at each output of the unit.
func loads(rec *record.Record) []string {
	found := map[string]bool{}
	for _, p := range rec.PointsAt(nil, "") {
		for column := range p.Place {
			seat, ok := strings.CutSuffix(column, ".amps")
			if kind, known := seats.KindOf(seat); ok && known && kind.Is(seats.Drains) {
				found[seat] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(found))
}

// crossRegulation is 100·(max V − min V)/V_ref of an output whose own load is held, while the load of another is
// stepped. V_ref is its voltage with every load at full. Without a pair it is the worst of all, and where no output is
// named either the table has each.
func crossRegulation(rec *record.Record, req figure.Request) (figure.Result, error) {
	all := loads(rec)
	if len(all) < 2 {
		return figure.Result{}, record.Because(record.TooFew, "only one output was loaded; two are needed")
	}
	table := &figure.Table{Columns: []figure.TableColumn{{Name: "output"}, {Name: "load stepped"},
		{Name: "cross regulation", Unit: "%"}, {Name: "U", Unit: "%"}}}
	var worst figure.Result
	var why error
	known := 0
	for _, output := range all {
		for _, stepped := range all {
			if output == stepped || req.Output != "" && output != req.Output || req.Against != "" && stepped != req.Against {
				continue
			}
			r, err := crossed(rec, req, output, stepped)
			if err != nil {
				if why == nil {
					table.Columns = append(table.Columns, figure.TableColumn{Name: "why not"})
				}
				why = err
				table.Rows = append(table.Rows, []any{output, stepped, nil, nil, err.Error()})
				continue
			}
			var u any
			if !slices.Contains(r.Remarks, figure.NotStated) {
				u = r.U
			}
			table.Rows = append(table.Rows, []any{output, stepped, r.Value, u})
			if known++; known == 1 || r.Value > worst.Value {
				r.Remarks = append(r.Remarks, "volts of "+output+" with "+stepped+" stepped")
				worst = r
			}
		}
	}
	if len(table.Rows) == 0 {
		return figure.Result{}, record.Because(record.NoPoint, "no grid sets the loads of %s", pairWords(req))
	}
	if req.Output == "" && req.Against == "" {
		for i, row := range table.Rows {
			for len(row) < len(table.Columns) {
				row = append(row, nil)
			}
			table.Rows[i] = row
		}
		worst.Table = table
	}
	if known == 0 {
		return worst, why
	}
	if missed := len(table.Rows) - known; missed > 0 {
		worst.Remarks = append(worst.Remarks, "without "+quantity.Quantity{Value: float64(missed)}.String()+
			" pairs that are undetermined")
	}
	return worst, nil
}

func pairWords(req figure.Request) string {
	named := slices.DeleteFunc([]string{req.Output, req.Against}, func(seat string) bool { return seat == "" })
	return strings.Join(named, " and ")
}

// crossed is the figure of one pair.
func crossed(rec *record.Record, req figure.Request, output, stepped string) (figure.Result, error) {
	req.Output = output
	s, err := swept(rec, req, stepped+".amps", stepped+".amps", output+".amps", 0.01, "load of "+stepped)
	if err != nil {
		return figure.Result{}, err
	}
	full := req
	full.At = maps.Clone(req.At)
	for _, load := range loads(rec) {
		delete(full.At, load+".amps")
	}
	at, _, err := pointAt(rec, full)
	if err != nil {
		return figure.Result{}, err
	}
	volts := output + ".volts"
	v, err := at.Mean(volts)
	if err != nil {
		return figure.Result{}, err
	}
	top, bottom := s.ends()
	ref := slices.IndexFunc(s.points, func(p record.Point) bool { return p.Index == at.Index })
	if ref < 0 {
		ref = len(s.volts)
		reading, ok := rec.Reading(at, volts)
		s.volts, s.readings, s.stated = append(s.volts, v), append(s.readings, reading), s.stated && ok
	}
	return s.share(func(x []float64) float64 { return x[top] - x[bottom] },
		func(x []float64) float64 { return x[ref] }), nil
}
