package converter

import (
	"math"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// shortestNoLoad is the least window of no-load-power, s.
const shortestNoLoad = 10

// noLoadPower is ΔE/Δt of every input with every output unloaded, over a hold of at least 10 s. The energy
// counters run at the full rate of the frames; the uncertainty is that of volts and amps read all the time with
// the same gain and offset.
func noLoadPower(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, err := unloadedSpan(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if length := span.T1 - span.T0; length < shortestNoLoad {
		return figure.Result{}, record.Because(record.TooFew, "the stage %q lasts %.3g s; the window must be at least %d s",
			span.Name, length, shortestNoLoad)
	}
	var idle []idling
	r := figure.Result{}
	stated := true
	for _, seat := range seatsWith(rec, req.Input, seats.Feeds, ".energy") {
		i, err := idlingOf(rec, seat, span)
		if err != nil {
			return r, err
		}
		idle = append(idle, i)
		r.Value += i.watts
		r.N = max(r.N, i.n)
		stated = stated && i.stated
		if i.bridged {
			r.Remarks = record.AddRemark(r.Remarks, "bridged")
		}
	}
	first := 0.0
	var readings []uncertainty.Reading
	for _, i := range idle {
		first += i.first
		readings = append(readings, i.volts, i.amps)
	}
	switch {
	case len(idle) == 0:
		return r, record.Because(record.IsMissing, "no input has an energy counter")
	case math.Abs(2*(r.Value-first)) > 0.02*math.Abs(r.Value):
		return r, record.Because(record.NotSettled, "the two halves of the window differ by more than 2 %%; hold longer")
	}
	r.WithUncertainty(func(x []float64) (sum float64) {
		for k := 0; k < len(x); k += 2 {
			sum += x[k] * x[k+1]
		}
		return sum
	}, readings, stated)
	switch {
	case r.Value != 0 && r.K > 0 && r.U == 0:
		return r, record.Because(record.Implausible, "%.4g W were counted, but no volts and amps were read", r.Value)
	case r.Value < -r.U:
		return r, record.Because(record.WrongSign, "power flows out of the unit's input: %.4g W; check the wiring", r.Value)
	case r.K > 0 && r.U/r.K > 0.1*math.Abs(r.Value):
		return r,
			record.Because(record.BelowFloor, "the supply's current range is too coarse: %.3g W is known to ± %.2g W only",
				r.Value, r.U)
	}
	return r, nil
}

// idling is what one input takes while nothing is loaded.
type idling struct {
	watts, first float64 // over the window, and over its first half
	n            int
	bridged      bool
	volts, amps  uncertainty.Reading
	stated       bool
}

func idlingOf(rec *record.Record, seat string, span record.Span) (idling, error) {
	energy, bridged, err := rec.Whole(seat+".energy", span.T0, span.T1)
	if err != nil {
		return idling{}, err
	}
	n := energy.Len()
	elapsed := energy.T[n-1] - energy.T[0]
	half := energy.T[0] + elapsed/2
	i := idling{watts: (energy.X[n-1] - energy.X[0]) / elapsed, first: 2 * (energy.At(half) - energy.X[0]) / elapsed,
		n: n, bridged: bridged, stated: true}
	for column, to := range map[string]*uncertainty.Reading{seat + ".volts": &i.volts, seat + ".amps": &i.amps} {
		w, _, err := rec.Whole(column, span.T0, span.T1)
		if err != nil {
			return i, err
		}
		mean, err := w.Mean()
		if err != nil {
			return i, record.CodeOf(err, column)
		}
		var ok bool
		*to, ok = rec.ReadingOf(column, w, mean)
		i.stated = i.stated && ok
	}
	return i, nil
}

// seatsWith lists the seats of a role that have a column, unless the request names one.
func seatsWith(rec *record.Record, named string, role seats.Role, suffix string) []string {
	if named != "" {
		return []string{named}
	}
	if rec.Columns == nil { // nobody says which there are
		return []string{map[bool]string{true: seats.DefaultInput, false: seats.DefaultOutput}[role == seats.Feeds]}
	}
	var all []string
	for _, column := range rec.Columns {
		seat, ok := strings.CutSuffix(column, suffix)
		if kind, known := seats.KindOf(seat); ok && known && kind.Is(role) {
			all = append(all, seat)
		}
	}
	return all
}

// unloadedSpan is the stage that the request names, or the longest hold during which no output was loaded.
func unloadedSpan(rec *record.Record, req figure.Request) (record.Span, error) {
	var best record.Span
	for _, s := range rec.Stages {
		if req.Stage != "" && s.Name != req.Stage || req.Stage == "" && s.Kind != "hold" {
			continue
		}
		if err := allUnloaded(rec, s, req.Output); err != nil {
			if req.Stage != "" {
				return s, err
			}
			continue
		}
		if s.T1-s.T0 > best.T1-best.T0 {
			best = s
		}
	}
	if best.T1 == 0 {
		if req.Stage != "" {
			return best, record.Because(record.NoMark, "the stage %q did not happen", req.Stage)
		}
		return best, record.Because(record.NoMark, "no hold with every output unloaded was found")
	}
	return best, nil
}

// allUnloaded reports a load that was on.
func allUnloaded(rec *record.Record, s record.Span, named string) error {
	for _, seat := range seatsWith(rec, named, seats.Drains, ".amps") {
		if err := unloaded(rec, s, seat); err != nil {
			return err
		}
	}
	return nil
}

// unloaded reports one load that was on: a current above its offset.
func unloaded(rec *record.Record, s record.Span, output string) error {
	w, _, err := rec.Whole(output+".amps", s.T0, s.T1)
	if err != nil {
		return err
	}
	mean, err := w.Mean()
	if err != nil {
		return record.CodeOf(err, output+".amps")
	}
	floor := 1e-3
	if r, ok := rec.Specs[output+".amps"].Find(mean); ok {
		floor = max(floor, 2*r.Offset)
	}
	if math.Abs(mean) > floor {
		return record.Because(record.WrongConditions, "%s is on: it draws %s", output,
			quantity.Quantity{Value: mean, Dim: quantity.Current})
	}
	return nil
}
