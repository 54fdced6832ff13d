// Package converter computes the figures of converters and supplies from the points of grids. Points hold means of
// frames; volts are those at the unit's terminals.
package converter

import (
	"math"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// Figures of this family.
var Figures = []figure.Definition{
	{ID: "efficiency", Title: "Efficiency", Unit: "%", Least: 0, Most: 100, Needs: figure.Grid, AllSides: true,
		Formula: efficiency},
	{ID: "loss", Title: "Loss", Unit: "W", Least: 0, Most: math.Inf(1), Needs: figure.Grid, AllSides: true,
		Formula: loss},
	{ID: "line-regulation", Title: "Line regulation", Unit: "%", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		Formula: lineRegulation},
	{ID: "line-shift", Title: "Line shift", Unit: "mV", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Grid,
		Formula: lineShift},
	{ID: "load-regulation", Title: "Load regulation", Unit: "%", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		Formula: loadRegulation},
	{ID: "load-shift", Title: "Load shift", Unit: "mV", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Grid,
		Formula: loadShift},
	{ID: "cross-regulation", Title: "Cross regulation", Unit: "%", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		AllSides: true, Pairs: true, Formula: crossRegulation},
	{ID: "output-accuracy", Title: "Output accuracy", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1),
		Needs:   figure.Grid,
		Formula: outputAccuracy},
	{ID: "efficiency-map", Title: "Efficiency map", Unit: "%", Least: 0, Most: 100, Needs: figure.Grid, AllSides: true,
		Formula: efficiencyMap},
	{ID: "peak-efficiency", Title: "Peak efficiency", Unit: "%", Least: 0, Most: 100, Needs: figure.Grid, AllSides: true,
		Formula: peakEfficiency},
	{ID: "weighted-efficiency", Title: "Weighted efficiency", Unit: "%", Least: 0, Most: 100, Needs: figure.Grid,
		AllSides: true, Formula: weightedEfficiency,
		Args: []figure.Arg{weight("w25"), weight("w50"), weight("w75"), weight("w100")}},
	{ID: "dropout", Title: "Dropout", Unit: "V", Least: 0, Most: math.Inf(1), Needs: figure.Grid, Formula: dropout,
		Args: []figure.Arg{fall}},
	{ID: "dropout-input", Title: "Line at dropout", Unit: "V", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		Formula: dropoutInput, Args: []figure.Arg{fall}},
	{ID: "no-load-power", Title: "No-load power", Unit: "W", Least: 0, Most: math.Inf(1), AllSides: true,
		Formula: noLoadPower},
}

// fall is by which share the output has fallen where it has dropped out.
var fall = figure.Arg{Name: "fall", Dim: quantity.Number, Default: 0.01, Least: 1e-4, Most: 0.5}

func weight(name string) figure.Arg {
	return figure.Arg{Name: name, Dim: quantity.Number, Default: 0.25, Least: 0, Most: 1}
}

// lineSet and loadSet are the setpoints of line and load of a request. What measures the input is set by
// nobody: the line is then that of the supply.
func lineSet(req figure.Request) string {
	if kind, ok := seats.KindOf(req.Input); ok && kind.Is(seats.Feeds) {
		return req.Input + ".volts"
	}
	return seats.DefaultInput + ".volts"
}

func loadSet(req figure.Request) string {
	if kind, ok := seats.KindOf(req.Output); ok && kind.Is(seats.Drains) {
		return req.Output + ".amps"
	}
	return seats.DefaultOutput + ".amps"
}

// placeOf completes a request with the nominal line and full load of the nameplate, of every output of which it states
// one, except for the columns left
// open, and those that no point sets. A rating that is not stated does not matter where every point has the
// same setpoint.
func placeOf(rec *record.Record, req figure.Request, open ...string) (map[string]float64, error) {
	place := map[string]float64{}
	for column, value := range req.At {
		place[column] = value
	}
	type rating struct {
		of     quantity.Quantity
		stated bool
		name   string
	}
	asked := map[string]rating{}
	ask := func(column, output, name string) {
		q, ok := rec.Rating(output, name)
		asked[column] = rating{q, ok, name}
	}
	ask(lineSet(req), req.Output, "nominal_line")
	ask(loadSet(req), strings.TrimSuffix(loadSet(req), ".amps"), "rated_current")
	for _, output := range loads(rec) {
		if _, own := rec.Ratings[output+".rated_current"]; own && output+".amps" != loadSet(req) {
			ask(output+".amps", output, "rated_current")
		}
	}
	for column, rating := range asked {
		if _, given := place[column]; given || slices.Contains(open, column) || !rec.Sets(column) {
			continue
		}
		if rating.stated {
			place[column] = rating.of.Value
			continue
		}
		grid := rec.PointsAt(nil, "")
		for _, p := range grid {
			if p.Place[column] != grid[0].Place[column] {
				return nil, record.Because(record.NoRating, "the nameplate does not state %s; state it, or say at which %s",
					rating.name, column)
			}
		}
	}
	for _, column := range open {
		delete(place, column)
	}
	return place, nil
}

// pointAt finds the point at a place.
func pointAt(rec *record.Record, req figure.Request) (record.Point, figure.Result, error) {
	place, err := placeOf(rec, req)
	r := figure.Result{Request: figure.Request{At: place}}
	if err != nil {
		return record.Point{}, r, err
	}
	points := rec.PointsAt(place, "")
	if len(points) == 0 {
		return record.Point{}, r, noPointAt(figure.Request{At: place})
	}
	if len(points) > 1 {
		r.Remarks = append(r.Remarks, "several points there, the first taken")
	}
	return points[0], r, nil
}

// efficiency is η = 100·ΣP_out/ΣP_in over every input and every output of the unit.
func efficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, r, err := powersAt(rec, req)
	if err != nil {
		return r, err
	}
	if err := w.checked(); err != nil {
		return r, err
	}
	in, out := w.in.sum(), w.out.sum()
	if floor := w.floor(w.out); out <= floor {
		return r, record.Because(record.BelowFloor, "the output power is not told from 0; see no-load-power")
	}
	r.Value = 100 * out / in
	r.WithUncertainty(func(x []float64) float64 { return 100 * w.out.of(x) / w.in.of(x) }, w.readings, w.stated)
	if r.Value > 100+r.U {
		return r, record.Because(record.Implausible,
			"more power came out than went in, %.4g %%; check the wiring of the sense leads",
			r.Value)
	}
	return r, nil
}

// loss is ΣP_in − ΣP_out over every input and every output of the unit.
func loss(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, r, err := powersAt(rec, req)
	if err != nil {
		return r, err
	}
	if err := w.checked(); err != nil {
		return r, err
	}
	r.Value = w.in.sum() - w.out.sum()
	r.WithUncertainty(func(x []float64) float64 { return w.in.of(x) - w.out.of(x) }, w.readings, w.stated)
	if r.Value < -r.U {
		return r, record.Because(record.Implausible, "more power came out than went in; check the wiring of the sense leads")
	}
	return r, nil
}

// outputAccuracy is 100·(V − V_rated)/V_rated, signed. Where the request leaves line or load open by naming
// the other, it is the point of largest magnitude.
func outputAccuracy(rec *record.Record, req figure.Request) (figure.Result, error) {
	rated, ok := rec.Rating(req.Output, "rated_volts")
	switch {
	case !ok:
		return figure.Result{}, record.Because(record.NoRating, "the nameplate does not state rated_volts")
	case rated.Value == 0:
		return figure.Result{}, record.Because(record.ZeroDivisor, "the nameplate rates the output at 0 V, of which nothing "+
			"is a share")
	}
	place := req.At
	if len(place) == 0 {
		var err error
		if place, err = placeOf(rec, req); err != nil {
			return figure.Result{}, err
		}
	}
	points := rec.PointsAt(place, "")
	if len(points) == 0 {
		return figure.Result{}, noPointAt(figure.Request{At: place})
	}
	deviation := func(x []float64) float64 { return 100 * (x[0] - rated.Value) / rated.Value }
	volts := req.Output + ".volts"
	var worst record.Point
	r := figure.Result{Request: figure.Request{At: place}}
	for i, p := range points {
		v, err := p.Mean(volts)
		if err != nil {
			return figure.Result{}, err
		}
		if err := rec.Settled(p, volts); err != nil {
			return figure.Result{}, err
		}
		if d := deviation([]float64{v}); i == 0 || math.Abs(d) > math.Abs(r.Value) {
			worst, r.Value = p, d
		}
	}
	if len(points) > 1 {
		r.Remarks = append(r.Remarks,
			"largest of "+quantity.Quantity{Value: float64(len(points))}.String()+" points, at "+worst.Words())
	}
	r.N = worst.Averages[volts].N
	reading, ok := rec.Reading(worst, volts)
	r.WithUncertainty(deviation, []uncertainty.Reading{reading}, ok)
	return r, nil
}

// noPointAt is why there is no figure of a place at which nothing was measured.
func noPointAt(req figure.Request) error {
	where := req.Where()
	if where == "" {
		return record.Because(record.NoPoint, "no point was measured")
	}
	return record.Because(record.NoPoint, "no point was measured at %s", where)
}
