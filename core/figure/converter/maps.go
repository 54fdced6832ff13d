package converter

import (
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/record"
)

// measured is the efficiency at one point of a grid.
type measured struct {
	point      record.Point
	line, load float64 // as set
	result     figure.Result
	err        error
}

// mapOf is the efficiency at every point of the grids that a request leaves open.
func mapOf(rec *record.Record, req figure.Request) ([]measured, error) {
	points := rec.PointsAt(req.At, "")
	if len(points) == 0 {
		return nil, noPointAt(req)
	}
	var all []measured
	for _, p := range points {
		at := req
		at.At = maps.Clone(p.Place)
		m := measured{point: p, line: p.Place[lineSet(req)], load: p.Place[loadSet(req)]}
		m.result, m.err = efficiency(rec, at)
		m.result.At = maps.Clone(p.Place)
		maps.DeleteFunc(m.result.At, func(column string, _ float64) bool {
			return column != lineSet(req) && column != loadSet(req)
		})
		all = append(all, m)
	}
	return all, nil
}

// efficiencyMap is η at the measured places, as a table; its value is that at the place that is asked for, between
// the places bilinear in a cell of which all corners are known, never beyond. Without a place it is the best.
func efficiencyMap(rec *record.Record, req figure.Request) (figure.Result, error) {
	asked := req.At
	req.At = nil
	all, err := mapOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	table := &figure.Table{Columns: []figure.TableColumn{{Name: lineSet(req), Unit: "V"}, {Name: loadSet(req), Unit: "A"},
		{Name: "efficiency", Unit: "%"}}}
	unknown := slices.ContainsFunc(all, func(m measured) bool { return m.err != nil })
	if unknown {
		table.Columns = append(table.Columns, figure.TableColumn{Name: "why not"})
	}
	for _, m := range all {
		row := []any{m.line, m.load, m.result.Value}
		switch {
		case m.err != nil:
			row = []any{m.line, m.load, nil, m.err.Error()}
		case unknown:
			row = append(row, nil)
		}
		table.Rows = append(table.Rows, row)
	}
	var r figure.Result
	if len(asked) == 0 {
		r, err = best(all)
	} else {
		r, err = between(all, asked, req)
	}
	r.Table = table
	return r, err
}

// best is the largest efficiency that was measured.
func best(all []measured) (figure.Result, error) {
	top := -1
	known := 0
	for i, m := range all {
		if m.err != nil {
			continue
		}
		if known++; top < 0 || m.result.Value > all[top].result.Value {
			top = i
		}
	}
	if top < 0 {
		return figure.Result{}, all[0].err
	}
	return all[top].result, nil
}

// peakEfficiency is the best measured place; at the border of what was measured it may be better beyond.
func peakEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	all, err := mapOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	known := slices.DeleteFunc(slices.Clone(all), func(m measured) bool { return m.err != nil })
	if len(known) < 3 {
		return figure.Result{}, record.Because(record.TooFew, "%d places were measured; three are needed", len(known))
	}
	r, err := best(known)
	if err != nil {
		return r, err
	}
	for column, of := range map[string]func(measured) float64{lineSet(req): func(m measured) float64 { return m.line },
		loadSet(req): func(m measured) float64 { return m.load }} {
		low, high := math.Inf(1), math.Inf(-1)
		for _, m := range known {
			low, high = math.Min(low, of(m)), math.Max(high, of(m))
		}
		if x := r.At[column]; high > low && (x == low || x == high) {
			r.Remarks = record.AddRemark(r.Remarks, "edge")
		}
	}
	return r, nil
}

// between interpolates the efficiency at a place.
func between(all []measured, at map[string]float64, req figure.Request) (figure.Result, error) {
	line, haveLine := at[lineSet(req)]
	load, haveLoad := at[loadSet(req)]
	if !haveLine || !haveLoad {
		return figure.Result{}, record.Because(record.NoPoint, "say at which %s and which %s", lineSet(req), loadSet(req))
	}
	if i := slices.IndexFunc(all, func(m measured) bool { return m.point.At(at) }); i >= 0 {
		return all[i].result, all[i].err
	}
	lines, loads := neighbours(all, line, func(m measured) float64 { return m.line }),
		neighbours(all, load, func(m measured) float64 { return m.load })
	var sum, u float64
	var r figure.Result
	for i, x := range lines.at {
		for j, y := range loads.at {
			w := lines.weights[i] * loads.weights[j]
			k := slices.IndexFunc(all, func(m measured) bool { return m.line == x && m.load == y })
			switch {
			case w == 0:
				continue
			case k < 0:
				return r, record.Because(record.NoPoint, "the place lies in no cell of which all corners were measured")
			case all[k].err != nil:
				return r, all[k].err
			}
			sum += w * all[k].result.Value
			u += w * all[k].result.U // one instrument at all corners: what is off at one is off at all
			r.K, r.N = all[k].result.K, r.N+all[k].result.N
			for _, remark := range all[k].result.Remarks {
				r.Remarks = record.AddRemark(r.Remarks, remark)
			}
		}
	}
	if len(lines.at) == 0 || len(loads.at) == 0 {
		return r, record.Because(record.NoPoint, "the place lies outside what was measured, and nothing is extrapolated")
	}
	r.Value, r.U, r.At = sum, u, at
	r.Remarks = record.AddRemark(r.Remarks, "interpolated")
	return r, nil
}

// about are the levels about a place, with their weights: two, one that is the place, or none.
type about struct{ at, weights []float64 }

func neighbours(all []measured, x float64, of func(measured) float64) (p about) {
	low, high := math.Inf(-1), math.Inf(1)
	for _, m := range all {
		if y := of(m); y <= x*(1+1e-9) {
			low = math.Max(low, y)
		}
		if y := of(m); y >= x*(1-1e-9) {
			high = math.Min(high, y)
		}
	}
	switch {
	case math.IsInf(low, 0) || math.IsInf(high, 0):
	case high <= low:
		p.at, p.weights = []float64{low}, []float64{1}
	default:
		w := (x - low) / (high - low)
		p.at, p.weights = []float64{low, high}, []float64{1 - w, w}
	}
	return p
}

// shares are the loads of a weighted efficiency, as shares of full load.
var shares = []float64{0.25, 0.5, 0.75, 1}

// fullLoads is the full load of every output, as its setpoint.
func fullLoads(rec *record.Record, req figure.Request) (full map[string]float64, ok bool) {
	full = map[string]float64{}
	for _, output := range loads(rec) {
		if q, own := rec.Ratings[output+".rated_current"]; own {
			full[output+".amps"] = q.Value
		}
	}
	if len(full) > 0 {
		return full, true
	}
	q, ok := rec.Ratings["rated_current"]
	return map[string]float64{loadSet(req): q.Value}, ok
}

// weightedEfficiency is Σ w_i·η_i at 25, 50, 75 and 100 % of full load, at the nominal line unless another is
// given.
func weightedEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	full, ok := fullLoads(rec, req)
	if !ok {
		return figure.Result{}, record.Because(record.NoRating, "the nameplate does not state rated_current")
	}
	weights := make([]float64, len(shares))
	var all float64
	for i, name := range []string{"w25", "w50", "w75", "w100"} {
		weights[i] = req.Args[name]
		all += weights[i]
	}
	if math.Abs(all-1) > 1e-6 {
		return figure.Result{}, record.Because(record.WrongConditions, "the weights add up to %.4g, not to 1", all)
	}
	var r figure.Result
	for i, share := range shares {
		at := req
		for column, amps := range full {
			at.At = figure.With(at.At, column, share*amps)
		}
		one, err := efficiency(rec, at)
		if err != nil {
			return r, err
		}
		r.Value += weights[i] * one.Value
		r.U += weights[i] * one.U // one instrument at all places: what is off at one is off at all
		r.K, r.N = one.K, r.N+one.N
		for _, remark := range one.Remarks {
			r.Remarks = record.AddRemark(r.Remarks, remark)
		}
	}
	r.At = req.At
	r.Remarks = record.AddRemark(r.Remarks, "of "+strings.Join(record.PlaceWords(full), ", "))
	return r, nil
}
