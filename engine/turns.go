package engine

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/semaphore"

	"usherbench/engine/outputs"
	"usherbench/instrument"
)

// turns has bays take turns with an instrument that does one thing at a time, such as a scope, in the order in which
// they asked. Nobody has two at once, so nobody waits for ever. The zero value is ready.
type turns struct {
	mu  sync.Mutex // guards all
	all map[*instrument.Instrument]*turn
}

// turn is that of one instrument.
type turn struct {
	one     *semaphore.Weighted
	waiting atomic.Int32
}

// of is the turn of an instrument.
func (t *turns) of(i *instrument.Instrument) *turn {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[*instrument.Instrument]*turn{}
	}
	if t.all[i] == nil {
		t.all[i] = &turn{one: semaphore.NewWeighted(1)}
	}
	return t.all[i]
}

// take waits for the turn. It fails with its context only.
func (t *turn) take(ctx context.Context) error {
	t.waiting.Add(1)
	defer t.waiting.Add(-1)
	return t.one.Acquire(ctx, 1)
}

func (t *turn) giveUp() { t.one.Release(1) }

// wanted tells whether somebody else waits for the turn.
func (t *turn) wanted() bool { return t.waiting.Load() > 0 }

// errYields says that somebody who may wait all night gave the turn up for others.
var errYields = errors.New("another bay wants the instrument")

// sharedWith names the other bays in which an instrument of a seat is used for the same.
func (b *Bay) sharedWith(x *outputs.Seat) string {
	var names []string
	for _, other := range b.engine.Bays() {
		if other == b {
			continue
		}
		for _, y := range other.outputs.Seats() {
			if y.Kind.Name == x.Kind.Name && y.First().Name == x.First().Name {
				names = append(names, other.name)
			}
		}
	}
	return strings.Join(names, " and ")
}
