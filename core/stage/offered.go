package stage

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"usherbench/core/contract"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// Replan asks for the program anew, resolved for what the unit offers; [Machine.Replan] goes on with it.
type Replan struct{ Offer contract.Offer }

func (Replan) effect() {}

// offeredRunner waits until the unit offers something, and has the program resolved for it if it was resolved for
// something else.
type offeredRunner struct {
	Idle
	spec    *procedure.Offered
	within  float64
	columns []int
	since   float64
	seen    contract.Offer // in the frame before
}

func newOfferedRunner(p *Parts, a *procedure.Offered) *offeredRunner {
	return &offeredRunner{spec: a, within: p.Stage.Within, columns: p.OfferColumns(a.Seat)}
}

// OfferColumns are the columns of what the unit at a seat offers, by position, as far as they are read.
func (p *Parts) OfferColumns(seat string) (columns []int) {
	for k := range contract.MostPlaces {
		if i := p.Program.Columns.Index(seats.OfferColumn(seat, k+1)); i >= 0 {
			columns = append(columns, i)
		}
	}
	return columns
}

func (r *offeredRunner) Enter(m *Machine) ([]Effect, Verdict) {
	r.since, r.seen = m.Now(), nil
	return nil, GoesOn
}

// Frame goes on with what two frames say alike: an offer is read place by place.
func (r *offeredRunner) Frame(m *Machine, f trace.Frame) ([]Effect, Verdict) {
	before := r.seen
	r.seen = OfferIn(f, r.columns)
	switch {
	case r.seen == nil || !slices.Equal(before, r.seen):
		if f.T-r.since > r.within {
			return nil, m.InVain(fmt.Sprintf("the unit offered nothing within %s", Seconds(r.within)))
		}
		return nil, GoesOn
	case r.seen.Like(r.spec.For):
		return []Effect{NewMark(f.T, record.MarkCondition, "offered: "+OfferWords(r.seen))}, Over
	}
	return []Effect{Replan{slices.Clone(r.seen)}}, GoesOn
}

func (r *offeredRunner) Shift(s float64)        { r.since += s }
func (r *offeredRunner) Save() any              { return r.since }
func (r *offeredRunner) Load(data []byte) error { return json.Unmarshal(data, &r.since) }

// OfferIn is what a frame says that the unit offers; nil while it offers nothing, or nobody can read it.
func OfferIn(f trace.Frame, columns []int) contract.Offer {
	var offer contract.Offer
	offers := false
	for _, i := range columns {
		if i >= len(f.Values) || math.IsNaN(f.Values[i]) {
			continue
		}
		raw := uint32(f.Values[i])
		offer, offers = append(offer, raw), offers || raw != 0
	}
	if !offers {
		return nil
	}
	return offer
}

// OfferWords says what is offered, place by place: "1: 5 V 3 A, 2: 20 V 3.25 A".
func OfferWords(offer contract.Offer) (words string) {
	for i, o := range offer.Objects() {
		if o.Kind == contract.Empty {
			continue
		}
		if words != "" {
			words += ", "
		}
		words += fmt.Sprintf("%d: %s", i+1, o.Words())
	}
	return words
}

// Replan goes on with the program resolved for what the unit offers, at the stage that saw it. What comes after it is
// new; what was before stays.
func (m *Machine) Replan(program *procedure.Program) error {
	at := m.state.Stage
	if m.state.Finished || at < 0 || at >= len(program.Stages) || len(program.Guards) != len(m.program.Guards) ||
		!slices.EqualFunc(program.Stages[:at+1], m.program.Stages[:at+1],
			func(x, y procedure.Stage) bool { return x.Kind() == y.Kind() }) {
		return errors.New("what the unit offers alters the procedure before its loop over contracts")
	}
	data, err := m.Snapshot()
	if err != nil {
		return err
	}
	next, err := Restore(program, data)
	if err != nil {
		return err
	}
	later := func(stage, _ int) bool { return stage > at }
	maps.DeleteFunc(next.state.SetBy, func(_ string, stage int) bool { return stage > at })
	maps.DeleteFunc(next.state.Passes, later)
	maps.DeleteFunc(next.state.Jumps, later)
	_, _ = next.runner().Enter(next) // it begins anew, and sees the offer that it is resolved for
	*m = *next
	return nil
}
