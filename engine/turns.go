package engine

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"usherbench/engine/outputs"
)

// turns has bays take turns with an instrument that does one thing at a time, such as a scope, in the order in which
// they asked. Nobody has two at once, so nobody waits for ever. The zero value is ready.
type turns struct {
	mu  sync.Mutex       // guards all
	all map[string]*turn // by the name of the instrument
}

// turn is that of one instrument.
type turn struct {
	one *semaphore.Weighted
	// waiting are those who are to have it at once, patient those who wait for what is rare.
	waiting, patient atomic.Int32
}

// of is the turn of an instrument.
func (t *turns) of(name string) *turn {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[string]*turn{}
	}
	if t.all[name] == nil {
		t.all[name] = &turn{one: semaphore.NewWeighted(1)}
	}
	return t.all[name]
}

// take waits for the turn, as one of those who wait for what is rare or at once. It fails with its context only.
func (t *turn) take(ctx context.Context, rare bool) error {
	waits := &t.waiting
	if rare {
		waits = &t.patient
	}
	waits.Add(1)
	defer waits.Add(-1)
	return t.one.Acquire(ctx, 1)
}

func (t *turn) giveUp() { t.one.Release(1) }

// rareFor is how long one who waits for what is rare has the turn before another who does.
const rareFor = 30 * time.Second

// wanted tells whether one who waits for what is rare, and has had the turn since an instant, gives it up.
func (t *turn) wanted(since time.Time) bool {
	return t.waiting.Load() > 0 || t.patient.Load() > 0 && time.Since(since) > rareFor
}

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
