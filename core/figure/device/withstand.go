package device

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// stoodOf is a figure of the row that a withstand test leaves (IEC 60034-1, 9.2): the whole time that the volts
// stood, or the reading with which the insulation gave way.
func stoodOf(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: 0, Most: math.Inf(1), Needs: figure.Row,
		AllSides: true, Formula: formula}
}

// withstood is the last point of a withstand test.
func withstood(rec *record.Record, req figure.Request) (record.Point, error) {
	points, err := rec.Row(req.Row)
	if err != nil {
		return record.Point{}, err
	}
	p := points[len(points)-1]
	if _, was := p.Held[seatOf(req)+".volts"]; !was {
		return p, record.Because(record.NoData, "the row %s is of no withstand test of %s", req.Row, seatOf(req))
	}
	return p, nil
}

// withstandVoltage is the mean of the volts while they stood; of an insulation that gave way the most that it stood
// before.
func withstandVoltage(rec *record.Record, req figure.Request) (figure.Result, error) {
	p, err := withstood(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	column := seatOf(req) + ".volts"
	reading, stated := rec.Reading(p, column)
	remark := quantity.Sprintf("for %.3g s", p.T1-p.T0)
	if p.GaveWay {
		reading.Value, remark = p.Held[column], "it gave way"
	} else if reading.Value, err = p.Mean(column); err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: math.Abs(reading.Value), N: p.Averages[column].N, Remarks: []string{remark}}
	r.WithUncertainty(func(x []float64) float64 { return math.Abs(x[0]) }, []uncertainty.Reading{reading}, stated)
	return r, nil
}

// withstandLeakage is the largest current while the volts stood, or the one with which the insulation gave way.
func withstandLeakage(rec *record.Record, req figure.Request) (figure.Result, error) {
	p, err := withstood(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	column := seatOf(req) + ".amps"
	if p.GaveWay { // of one reading
		reading, stated := rec.Reading(p, column)
		r := figure.Result{Value: math.Abs(reading.Value), N: 1,
			Remarks: []string{quantity.Sprintf("it gave way at %.5g V", p.Held[seatOf(req)+".volts"])}}
		r.WithUncertainty(func(x []float64) float64 { return math.Abs(x[0]) }, []uncertainty.Reading{reading}, stated)
		return r, nil
	}
	m, err := rec.Measured(column, p.T0, p.T1)
	if err != nil {
		return figure.Result{}, err
	}
	low, high := extremes(m.X)
	m.Mean.Value = max(math.Abs(low), math.Abs(high))
	r := figure.Of(m, m.Mean.Value)
	r.KnownFrom(func(x []float64) float64 { return x[0] }, m)
	return r, nil
}
