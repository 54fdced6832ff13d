package operate

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/store"
)

// tallies count the units of the lots and places at which operators work: all of them once, then those of which an
// outcome came on record, by whatever way. What a place shows is so never behind what is on record.
type tallies struct {
	store *store.Store
	turn  *semaphore.Weighted // had by who counts; it is no mutex, since records are read under it
	all   map[counted]*archive.Counted

	mu      sync.Mutex // guards pending
	pending []string   // runs with a new outcome that are not counted yet
	changed chan struct{}
}

// counted is what is counted: a lot, or what was tested in a bay since its place was set up.
type counted struct {
	lot, bay string
	since    time.Time
}

func newTallies(s *store.Store) *tallies {
	return &tallies{store: s, turn: semaphore.NewWeighted(1), all: map[counted]*archive.Counted{},
		changed: make(chan struct{}, 1)}
}

// of is what is counted at a place that is set up.
func (k kept) counted(bay string) counted {
	if k.Setup.Lot != "" {
		return counted{lot: k.Setup.Lot}
	}
	return counted{bay: bay, since: k.Since}
}

// hear takes note of a run with a new outcome.
func (t *tallies) hear(run string) {
	t.mu.Lock()
	t.pending = append(t.pending, run)
	t.mu.Unlock()
	t.lookAgain()
}

// lookAgain has the places look whether what they show is still so.
func (t *tallies) lookAgain() {
	select {
	case t.changed <- struct{}{}:
	default: // it is known that there is something
	}
}

// of counts, with all that is on record.
func (t *tallies) of(ctx context.Context, what counted) (api.Tally, error) {
	if err := t.turn.Acquire(ctx, 1); err != nil {
		return api.Tally{}, err
	}
	defer t.turn.Release(1)
	t.settle()
	if t.all[what] == nil {
		c, err := archive.Count(t.store, what.lot, what.bay, what.since)
		if err != nil {
			return api.Tally{}, err
		}
		t.all[what] = c
	}
	return t.all[what].Tally()
}

// settle counts the units anew of which an outcome came on record. What cannot be counted so is counted from the
// beginning when it is asked for.
func (t *tallies) settle() {
	t.mu.Lock()
	pending := t.pending
	t.pending = nil
	t.mu.Unlock()
	for _, id := range pending {
		if len(t.all) == 0 {
			return
		}
		run, err := t.store.Run(id)
		if err != nil {
			t.all = map[counted]*archive.Counted{}
		}
		for what, c := range t.all {
			if c.Concerns(run) && c.Again(run) != nil {
				delete(t.all, what)
			}
		}
	}
}

// catchUp takes what came on record, also where nobody asks for counts.
func (t *tallies) catchUp(ctx context.Context) error {
	if err := t.turn.Acquire(ctx, 1); err != nil {
		return err
	}
	defer t.turn.Release(1)
	t.settle()
	return nil
}

// forget forgets what was counted; it is counted from the beginning where somebody still asks for it.
func (t *tallies) forget(ctx context.Context, what counted) error {
	if err := t.turn.Acquire(ctx, 1); err != nil {
		return err
	}
	defer t.turn.Release(1)
	delete(t.all, what)
	return nil
}

// LotChanged has the places show what was said of a lot.
func (p *Places) LotChanged() { p.tallies.lookAgain() }

// watchOutcomes shows the places anew whose counts changed by what was tested elsewhere.
func (p *Places) watchOutcomes() {
	for {
		select {
		case <-p.ctx.Done():
			return
		case <-p.tallies.changed:
		}
		if p.tallies.catchUp(p.ctx) != nil {
			return
		}
		for _, now := range p.All() {
			place, err := p.of(now.Bay)
			if err == nil {
				err = place.having(p.ctx, place.recount)
			}
			if err != nil && p.ctx.Err() == nil {
				p.log.Error("count the units of a place", "bay", now.Bay, "err", err)
			}
		}
	}
}

// recount shows the place anew where its counts are not what they were.
func (p *Place) recount() error {
	if p.kept.Setup == nil {
		return nil
	}
	tally, err := p.places.tallies.of(p.places.ctx, p.kept.counted(p.bay))
	if err == nil && tally != p.shown.Load().Tally {
		p.show()
	}
	return err
}
