// Package converter computes the figures of converters and supplies from the points of grids. Points hold means of
// frames; volts are those at the unit's terminals.
package converter

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// Figures of this family.
var Figures = []figure.Definition{
	{ID: "efficiency", Title: "Efficiency", Unit: "%", Least: 0, Most: 100, Needs: figure.Grid, Formula: efficiency},
	{ID: "loss", Title: "Loss", Unit: "W", Least: 0, Most: math.Inf(1), Needs: figure.Grid, Formula: loss},
	{ID: "line-regulation", Title: "Line regulation", Unit: "%", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		Formula: lineRegulation},
	{ID: "line-shift", Title: "Line shift", Unit: "mV", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Grid,
		Formula: lineShift},
	{ID: "load-regulation", Title: "Load regulation", Unit: "%", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		Formula: loadRegulation},
	{ID: "load-shift", Title: "Load shift", Unit: "mV", Least: math.Inf(-1), Most: math.Inf(1), Needs: figure.Grid,
		Formula: loadShift},
	{ID: "output-accuracy", Title: "Output accuracy", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1),
		Needs:   figure.Grid,
		Formula: outputAccuracy},
	{ID: "no-load-power", Title: "No-load power", Unit: "W", Least: 0, Most: math.Inf(1), Formula: noLoadPower},
}

// placeOf completes a request with the nominal line and full load of the nameplate, except for the columns left
// open. A rating that is not stated does not matter where every point has the same setpoint.
func placeOf(rec *record.Record, req figure.Request, open ...string) (map[string]float64, error) {
	place := map[string]float64{}
	for column, value := range req.At {
		place[column] = value
	}
	for column, rating := range map[string]string{req.Input + ".volts": "nominal_line", req.Output +
		".amps": "rated_current"} {
		if _, given := place[column]; given || slices.Contains(open, column) {
			continue
		}
		if q, ok := rec.Ratings[rating]; ok {
			place[column] = q.Value
			continue
		}
		grid := rec.PointsAt(nil, "")
		for _, p := range grid {
			if p.Place[column] != grid[0].Place[column] {
				return nil, record.Because(record.NoRating, "the nameplate does not state %s; state it, or say at which %s", rating,
					column)
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
		return record.Point{}, r, record.Because(record.NoPoint, "no point was measured at %s",
			figure.Request{At: place}.Where())
	}
	if len(points) > 1 {
		r.Remarks = append(r.Remarks, "several points there, the first taken")
	}
	return points[0], r, nil
}

// power is what efficiency and loss share: the two powers of a point in W, and the readings volts and amps of
// both sides.
type power struct {
	in, out  float64
	readings []uncertainty.Reading
	stated   bool
	result   figure.Result
}

func powerAt(rec *record.Record, req figure.Request) (power, error) {
	var w power
	p, result, err := pointAt(rec, req)
	w.result = result
	if err != nil {
		return w, err
	}
	if err := record.Unlimited(p, req.Input); err != nil {
		return w, err
	}
	w.stated = true
	for _, column := range []string{req.Input + ".volts", req.Input + ".amps", req.Output + ".volts", req.Output +
		".amps"} {
		if _, err := p.Mean(column); err != nil {
			return w, err
		}
		r, ok := rec.Reading(p, column)
		w.readings, w.stated = append(w.readings, r), w.stated && ok
	}
	if w.in, err = p.Mean(req.Input + ".watts"); err != nil {
		return w, err
	}
	if w.out, err = p.Mean(req.Output + ".watts"); err != nil {
		return w, err
	}
	w.result.N = p.Averages[req.Output+".watts"].N
	return w, nil
}

// efficiency is η = 100·ΣP_out/ΣP_in.
func efficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := powerAt(rec, req)
	if err != nil {
		return w.result, err
	}
	watts := func(x []float64) float64 { return x[0] * x[1] }
	if w.stated {
		if u := uncertainty.Propagate(watts, w.readings[:2]); math.Abs(w.in) <= u.U {
			return w.result, record.Because(record.ZeroDivisor, "the input power is not told from 0")
		}
		if u := uncertainty.Propagate(watts, w.readings[2:]); w.out <= u.U {
			return w.result, record.Because(record.BelowFloor, "the output power is not told from 0; see no-load-power")
		}
	} else if w.in == 0 {
		return w.result, record.Because(record.ZeroDivisor, "the input power is 0")
	}
	r := w.result
	r.Value = 100 * w.out / w.in
	r.WithUncertainty(func(x []float64) float64 { return 100 * x[2] * x[3] / (x[0] * x[1]) }, w.readings, w.stated)
	if r.Value > 100+r.U {
		return r, record.Because(record.Implausible,
			"more power came out than went in, %.4g %%; check the wiring of the sense leads",
			r.Value)
	}
	return r, nil
}

// loss is ΣP_in − ΣP_out.
func loss(rec *record.Record, req figure.Request) (figure.Result, error) {
	w, err := powerAt(rec, req)
	if err != nil {
		return w.result, err
	}
	r := w.result
	r.Value = w.in - w.out
	r.WithUncertainty(func(x []float64) float64 { return x[0]*x[1] - x[2]*x[3] }, w.readings, w.stated)
	if r.Value < -r.U {
		return r, record.Because(record.Implausible, "more power came out than went in; check the wiring of the sense leads")
	}
	return r, nil
}

// outputAccuracy is 100·(V − V_rated)/V_rated, signed. Where the request leaves line or load open by naming
// the other, it is the point of largest magnitude.
func outputAccuracy(rec *record.Record, req figure.Request) (figure.Result, error) {
	rated, ok := rec.Ratings["rated_volts"]
	if !ok {
		return figure.Result{}, record.Because(record.NoRating, "the nameplate does not state rated_volts")
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
		return figure.Result{}, record.Because(record.NoPoint, "no point was measured at %s",
			figure.Request{At: place}.Where())
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
