package archive

import (
	"usherbench/api"
	"usherbench/core/overlay"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// Lockouts draws the hysteresis of each lockout that was judged: the output over the line, on the way up to where the
// unit starts and on the way down to where it stops, as their frames show the last approach of each search.
func Lockouts(rec *record.Record, figures []procedure.Judged) (all []api.PlayedCurve) {
	for _, f := range figures {
		if f.ID != "lockout-hysteresis" || f.Undetermined != nil {
			continue
		}
		in, out := seats.DefaultInput, seats.DefaultOutput
		if f.Input != "" {
			in = f.Input
		}
		if f.Output != "" {
			out = f.Output
		}
		curve := procedure.Curve{Title: "Lockout", Of: out + ".volts", By: in + ".volts"}
		for _, way := range []struct{ row, words string }{{f.Row, "up, on at "}, {f.Against, "down, off at "}} {
			c, at, err := approach(rec, curve, way.row)
			if err != nil {
				continue // what was not read is not drawn
			}
			label := way.words + quantity.Quantity{Value: at, Dim: trace.UnitOf(curve.By).Dim}.Format(4)
			all = append(all, api.PlayedCurve{Curve: curve, Label: label, X: c.X, Y: c.Y})
		}
	}
	return all
}

// approach is the last way of a search to what it found, and where that was.
func approach(rec *record.Record, curve procedure.Curve, row string) (c overlay.Curve, at float64, err error) {
	points, err := rec.Row(row)
	if err != nil {
		return c, 0, err
	}
	found := points[len(points)-1]
	if at, err = found.Mean(curve.By); err != nil {
		return c, 0, err
	}
	span, err := rec.Span(found.Stage, 0)
	if err != nil {
		return c, 0, err
	}
	if c, err = framesOf(rec, curve.By, curve.Of, span.T0, found.T1); err != nil {
		return c, 0, err
	}
	legs := overlay.Legs(c)
	if len(legs) == 0 {
		return c, 0, record.Because(record.TooFew, "the search went nowhere")
	}
	return legs[len(legs)-1].Thinned(drawPlaces), at, nil
}
