package machine

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/floats"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// deadZone is where the straight line of the linear range comes to what is answered at the first place: up to there
// nothing is answered.
func deadZone(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, l, err := rangeOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if l.line.Slope == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "what is answered does not change in the linear range")
	}
	f, still := trace.UnitOf(a.over).Factor, a.y[0]
	return a.told(rec, l, (still-l.line.Intercept)/l.line.Slope/f, func(x, y []float64) float64 {
		line, err := trace.Fit(x, y)
		if err != nil || line.Slope == 0 {
			return math.NaN()
		}
		return (still - line.Intercept) / line.Slope / f
	}), nil
}

// hysteresis is 100·max|y_there − y_back| over the span of y, at all places of either way in the common range.
func hysteresis(rec *record.Record, req figure.Request) (figure.Result, error) {
	way := func(w record.Way) (answer, error) {
		req.Choices = map[string]string{"way": string(w)}
		return answerOf(rec, req)
	}
	there, err := way(record.There)
	if err != nil {
		return figure.Result{}, err
	}
	back, err := way(record.Back)
	if err != nil {
		return figure.Result{}, err
	}
	all := slices.Concat(there.y, back.y)
	low, high := floats.Min(all), floats.Max(all)
	if high == low {
		return figure.Result{}, record.Because(record.ZeroDivisor, "what is answered does not change")
	}
	var most apart
	for _, one := range []apart{widest(there, back), widest(back, there)} {
		if math.Abs(one.by) > math.Abs(most.by) {
			most = one
		}
	}
	r := figure.Result{Value: 100 * math.Abs(most.by) / (high - low), N: len(there.x) + len(back.x)}
	if most.points[0].Averages == nil { // both ways answer the same
		return r, nil
	}
	unit := trace.UnitOf(there.over)
	r.Remarks = []string{quantity.Sprintf("largest at %.4g %s", most.at/unit.Factor, unit.Symbol)}
	var readings []uncertainty.Reading
	stated := true
	for _, p := range most.points { // one sensor and one range: what it is wrong by at both is the same
		y, ok := rec.Reading(p, there.of)
		readings, stated = append(readings, y), stated && ok
	}
	share := most.share
	r.WithUncertainty(func(y []float64) float64 {
		return 100 * math.Abs(y[0]-y[1]-(y[2]-y[1])*share) / (high - low)
	}, readings, stated)
	return r, nil
}

// apart is where two ways lie furthest apart: a place of the one, and between two of the other.
type apart struct {
	at, by, share float64
	points        [3]record.Point
}

// widest finds the place of a that lies furthest from the straight lines between the places of b.
func widest(a, b answer) (most apart) {
	for k, x := range a.x {
		for j := 1; j < len(b.x); j++ {
			if x < b.x[j-1] || x > b.x[j] || b.x[j] == b.x[j-1] {
				continue
			}
			share := (x - b.x[j-1]) / (b.x[j] - b.x[j-1])
			if by := a.y[k] - b.y[j-1] - share*(b.y[j]-b.y[j-1]); math.Abs(by) > math.Abs(most.by) {
				most = apart{x, by, share, [3]record.Point{a.points[k], b.points[j-1], b.points[j]}}
			}
		}
	}
	return most
}

// yieldOf is the quantity over another one at the place of a sweep where it is largest, or where the quotient is.
func yieldOf(rec *record.Record, req figure.Request) (figure.Result, error) {
	var at record.Point
	most := math.Inf(-1)
	for _, p := range rec.Points {
		if p.Row != "" || req.Stage != "" && p.Stage != req.Stage || !p.At(req.At) {
			continue
		}
		y, x := p.Averages[req.Quantity], p.Averages[req.Over]
		if y.N == 0 || x.N == 0 {
			continue
		}
		by := y.Mean
		if req.Choices["place"] == "best" {
			if x.Mean <= 0 {
				continue
			}
			by = y.Mean / x.Mean
		}
		if by > most {
			most, at = by, p
		}
	}
	if at.Averages == nil {
		return figure.Result{}, record.Because(record.NoPoint, "the sweep has no place with %s and %s", req.Quantity,
			req.Over)
	}
	if at.Averages[req.Over].Mean == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "%s is 0 there", req.Over)
	}
	y, ofY := rec.Reading(at, req.Quantity)
	x, ofX := rec.Reading(at, req.Over)
	f := trace.UnitOf(req.Over).Factor / trace.UnitOf(req.Quantity).Factor
	r := figure.Result{Value: y.Value / x.Value * f, N: 1, Remarks: []string{"at " + at.Words()}}
	r.WithUncertainty(func(v []float64) float64 { return v[0] / v[1] * f }, []uncertainty.Reading{y, x}, ofY && ofX)
	return r, nil
}
