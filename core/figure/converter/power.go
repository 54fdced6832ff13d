package converter

import (
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// powers are what goes into the unit and comes out of it at a point.
type powers struct {
	in, out  side
	readings []uncertainty.Reading
	stated   bool
}

// side is the power of all seats on one side of the unit.
type side struct{ terms []term }

// term is the power of one seat: its mean, W, and where its readings are. An instrument that measures watts is believed
// to its own accuracy; else they are those of volts and amps.
type term struct {
	watts float64
	at    []int
}

func (s side) sum() (sum float64) {
	for _, t := range s.terms {
		sum += t.watts
	}
	return sum
}

// of is the power from readings.
func (s side) of(x []float64) (sum float64) {
	for _, t := range s.terms {
		p := 1.0
		for _, i := range t.at {
			p *= x[i]
		}
		sum += math.Copysign(p, p*t.watts)
	}
	return sum
}

// seatsOf lists the seats with watts at a point that have a role, unless the request names one.
func seatsOf(p record.Point, named string, role seats.Role) []string {
	if named != "" {
		return []string{named}
	}
	var all []string
	for _, column := range slices.Sorted(maps.Keys(p.Averages)) {
		seat, ok := strings.CutSuffix(column, ".watts")
		if kind, known := seats.KindOf(seat); ok && known && kind.Is(role) {
			all = append(all, seat)
		}
	}
	return all
}

// powersAt reads every input and every output at the point that a request means.
func powersAt(rec *record.Record, req figure.Request) (powers, figure.Result, error) {
	w := powers{stated: true}
	p, r, err := pointAt(rec, req)
	if err != nil {
		return w, r, err
	}
	inputs, outputs := seatsOf(p, req.Input, seats.Feeds), seatsOf(p, req.Output, seats.Drains)
	if len(inputs) == 0 || len(outputs) == 0 {
		return w, r, record.Because(record.IsMissing, "no watts were read on both sides of the unit at %s", p.Words())
	}
	for _, seat := range inputs {
		if err := record.Unlimited(p, seat); err != nil {
			return w, r, err
		}
		if err := w.enter(rec, p, seat, &w.in); err != nil {
			return w, r, err
		}
	}
	for _, seat := range outputs {
		if slices.Contains(inputs, seat) { // it does both: it has been counted with its sign
			continue
		}
		if err := w.enter(rec, p, seat, &w.out); err != nil {
			return w, r, err
		}
		r.N = max(r.N, p.Averages[seat+".watts"].N)
	}
	return w, r, nil
}

// enter adds a seat to a side.
func (w *powers) enter(rec *record.Record, p record.Point, seat string, to *side) error {
	watts, err := p.Mean(seat + ".watts")
	if err != nil {
		return err
	}
	t := term{watts: watts}
	columns := []string{seat + ".volts", seat + ".amps"}
	if len(rec.Specs[seat+".watts"]) > 0 {
		columns = []string{seat + ".watts"}
	}
	for _, column := range columns {
		if _, err := p.Mean(column); err != nil {
			return err
		}
		reading, ok := rec.Reading(p, column)
		t.at = append(t.at, len(w.readings))
		w.readings, w.stated = append(w.readings, reading), w.stated && ok
	}
	to.terms = append(to.terms, t)
	return nil
}

// floor is the power of a side that is not told from 0, W.
func (w powers) floor(s side) float64 {
	if !w.stated {
		return 0
	}
	return uncertainty.Propagate(s.of, w.readings).U
}

// checked fails for powers that flow the wrong way, or for an input that is not told from 0.
func (w powers) checked() error {
	in, out := w.in.sum(), w.out.sum()
	switch {
	case in < -w.floor(w.in):
		return record.Because(record.WrongSign, "power flows out of the unit's input: %.4g W; check the wiring", in)
	case out < -w.floor(w.out):
		return record.Because(record.WrongSign, "power flows into the unit's output: %.4g W; check the wiring", out)
	case math.Abs(in) <= w.floor(w.in):
		return record.Because(record.ZeroDivisor, "the input power is not told from 0")
	}
	return nil
}
