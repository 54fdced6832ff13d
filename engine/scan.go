package engine

import (
	"context"
	"fmt"

	"usherbench/core/kinds"
	"usherbench/core/stage"
	"usherbench/engine/outputs"
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

// scans checks that the pins of a harness have terminals that they can be plugged into.
func (p *preflight) scans() {
	for _, s := range p.program.Stages {
		w, ok := s.Action.(*kinds.Wiring)
		if !ok {
			continue
		}
		x := p.bay.seat(w.Seat)
		if x == nil || x.First().Dialect.Scan == nil {
			continue // said already
		}
		if most := x.First().Dialect.Scan.Terminals; len(w.Pins) > most {
			p.blocks("wiring", fmt.Sprintf("use a crosspoint with %d terminals", len(w.Pins)),
				"the harness has %d pins, and %s has %d terminals", len(w.Pins), x.First().Name, most)
		}
	}
}
