package engine

import (
	"context"
	"fmt"
	"time"

	"usherbench/core/kinds"
	"usherbench/core/stage"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
)

// scan has a harness scanned beside the run; what was read comes back to it.
func (r *liveRun) scan(e stage.Scan) {
	r.disarm()
	ctx, cancel := context.WithCancel(r.leave())
	r.scope.end = cancel
	x, events := r.bay.seat(e.Seat), r.scope.events
	r.bay.engine.beside.Go(func() {
		defer cancel()
		told := captureEvent{}
		if x == nil {
			told.event = stage.Failed{Reason: "the bay has no seat " + e.Seat}
		} else if ohms, most, err := r.bay.engine.scanInTurn(ctx, x.First(), e.Pairs); err != nil {
			told.event = stage.Failed{Reason: err.Error()}
		} else {
			told.event = stage.Scanned{Shot: e.Shot, Ohms: ohms, Range: most}
		}
		select {
		case events <- told:
		case <-ctx.Done(): // nobody waits for it any longer
		}
	})
}

// openingsEvery is how often a crosspoint is asked what it has seen, wall time.
const openingsEvery = 100 * time.Millisecond

// watchOpenings has a harness watched beside the run; what is seen comes back to it, until it is ended.
func (r *liveRun) watchOpenings(e stage.WatchOpenings) {
	r.disarm()
	ctx, cancel := context.WithCancel(r.leave())
	enough := make(chan struct{})
	r.scope.end, r.scope.enough = cancel, enough
	x, events := r.bay.seat(e.Seat), r.scope.events
	r.bay.engine.beside.Go(func() {
		defer cancel()
		tell := func(event captureEvent) {
			select {
			case events <- event:
			case <-ctx.Done(): // nobody waits for it any longer
			}
		}
		if x == nil {
			tell(captureEvent{event: stage.Failed{Reason: "the bay has no seat " + e.Seat}})
			return
		}
		w := watching{Channel: x.First().Channel, turn: r.bay.engine.turns.of(x.First().Name), asked: e, tell: tell}
		if err := w.watch(ctx, enough); err != nil {
			tell(captureEvent{event: stage.Failed{Reason: err.Error()}})
		}
	})
}

// endWatch has what is left told.
func (r *liveRun) endWatch() {
	if r.scope.enough != nil {
		close(r.scope.enough)
		r.scope.enough = nil
	}
}

// watching is a crosspoint that watches.
type watching struct {
	*instrument.Channel
	turn  *turn
	asked stage.WatchOpenings
	tell  func(captureEvent)
}

// watch has the turn with the crosspoint until it is enough or the context ends.
func (w watching) watch(ctx context.Context, enough <-chan struct{}) error {
	if err := w.turn.take(ctx, false); err != nil {
		return nil // nobody waits for it any longer
	}
	defer w.turn.giveUp()
	before := time.Now()
	if err := w.BeginWatch(ctx, w.asked.Pairs, w.asked.Least); err != nil {
		return err
	}
	began := before.Add(time.Since(before) / 2)
	defer func() { // whoever is next finds it idle, also where the run is over
		off, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = w.EndWatch(off) // who uses it next begins anew
	}()
	w.tell(captureEvent{at: began, event: stage.Opened{Shot: w.asked.Shot}})
	ticker := time.NewTicker(openingsEvery)
	defer ticker.Stop()
	for done := false; !done; {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		case <-enough:
			if err := w.EndWatch(ctx); err != nil {
				return err
			}
			done = true
		}
		seen, err := w.Openings(ctx)
		if err != nil {
			return err
		}
		told := stage.Opened{Shot: w.asked.Shot, Done: done}
		for _, o := range seen {
			told.All = append(told.All, stage.Opening{Pair: o.Pair, Began: o.Began, Lasted: o.Lasted})
		}
		w.tell(captureEvent{at: began, event: told})
	}
	return nil
}

// scanInTurn scans while no other bay does with the same instrument: what is chosen is read with the next message.
func (e *Engine) scanInTurn(ctx context.Context, m *outputs.Member, pairs [][2]int) (ohms []float64, most float64,
	err error) {
	turn := e.turns.of(m.Name)
	if err := turn.take(ctx, false); err != nil {
		return nil, 0, err
	}
	defer turn.giveUp()
	return m.Scan(ctx, pairs)
}

// watches checks that a crosspoint can watch what the procedure has watched.
func (p *preflight) watches(m *outputs.Member, o *kinds.Openings) {
	switch watch, most := m.Dialect.Scan.Watch, m.Dialect.Scan.Most; {
	case len(o.Contacts()) > most:
		p.blocks("wiring", "use another crosspoint", "%s takes %d pairs at a time, and %d contacts are to be watched", m.Name,
			most, len(o.Contacts()))
	case watch == nil:
		p.blocks("wiring", "say in its dialect how (scan: watch), or use another crosspoint",
			"%s cannot watch for openings", m.Name)
	case o.Least < watch.Shortest:
		p.blocks("wiring", "ask for longer ones, or use another crosspoint", "%s sees openings of %s or longer, and those "+
			"of %s are asked for", m.Name, dialect.Show("seconds", watch.Shortest), dialect.Show("seconds", o.Least))
	}
}

// scans checks that the pins of a harness have terminals that they can be plugged into.
func (p *preflight) scans() {
	for _, s := range p.program.Stages {
		var seat string
		var pins []string
		watch, watches := s.Action.(*kinds.Openings)
		switch a := s.Action.(type) {
		case *kinds.Wiring:
			seat, pins = a.Seat, a.Pins
		case *kinds.Openings:
			seat, pins = a.Seat, a.Pins
		default:
			continue
		}
		x := p.bay.seat(seat)
		if x == nil || x.First().Dialect.Scan == nil {
			continue // said already
		}
		if most := x.First().Dialect.Scan.Terminals; len(pins) > most {
			p.blocks("wiring", fmt.Sprintf("use a crosspoint with %d terminals", len(pins)),
				"the harness has %d pins, and %s has %d terminals", len(pins), x.First().Name, most)
		}
		if watches {
			p.watches(x.First(), watch)
		}
		if others := p.bay.sharedWith(x); others != "" {
			p.fine("shared", "%s is used by %s too: scans take turns, in the order in which they are asked for",
				x.First().Name, others)
		}
	}
}
