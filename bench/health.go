package bench

import (
	"context"
	"strings"
	"sync/atomic"
	"time"

	"usherbench/instrument"
	"usherbench/instrument/lane"
)

// look is what was last learned of an instrument: who it is, and whether it answers. Those who only want to see the
// bench get this; their looking costs the instrument nothing.
type look struct {
	of     *instrument.Instrument
	asking lane.Lane            // taken while the instrument is asked
	said   atomic.Pointer[said] // nil: it was not asked yet
}

// said is what an instrument said of itself.
type said struct {
	at       time.Time
	connects uint64 // how often it had been connected to then
	identity string
	err      error
}

const (
	// lookEvery is how often the bench sees to it that it knows its instruments.
	lookEvery = 2 * time.Second
	// lookAgain is after how long an instrument is asked again that nobody speaks to, or that did not answer as it should.
	lookAgain = 10 * time.Second
)

// lookOf finds what is known of an instrument.
func (b *Bench) lookOf(i *instrument.Instrument) *look {
	b.mu.Lock()
	defer b.mu.Unlock()
	l := b.looks[i.Name]
	if l == nil || l.of != i {
		l = &look{of: i}
		b.looks[i.Name] = l
	}
	return l
}

// known is who the instrument is, and why it cannot be relied on. Only one that was never asked is asked now.
func (l *look) known(ctx context.Context) (identity string, problem error) {
	if l.said.Load() == nil {
		leave, err := l.asking.Take(ctx)
		if err != nil {
			return "", err
		}
		defer leave()
		if l.said.Load() == nil {
			l.ask(ctx)
		}
	}
	said := l.said.Load()
	if said.err != nil {
		return said.identity, said.err
	}
	_, failed := l.of.Trace().Newest()
	return said.identity, failed
}

// ask asks the instrument who it is. Whoever does has the lane.
func (l *look) ask(ctx context.Context) {
	identity, err := l.of.Identify(ctx)
	l.said.Store(&said{at: time.Now(), connects: l.of.Trace().Connects(), identity: identity, err: err})
}

// renew asks the instrument again if it may be another one by now, or nobody has heard of it for some time.
func (l *look) renew(ctx context.Context) {
	leave, err := l.asking.Take(ctx)
	if err != nil {
		return
	}
	defer leave()
	said := l.said.Load()
	if said == nil || l.of.Trace().Connects() != said.connects {
		l.ask(ctx)
		return
	}
	newest, failed := l.of.Trace().Newest()
	silent := time.Since(newest) > lookAgain || failed != nil || said.err != nil
	if silent && time.Since(said.at) > lookAgain {
		l.ask(ctx)
	}
}

// keepLooking sees to it that the bench knows its instruments, until the context ends.
func (b *Bench) keepLooking(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		for _, i := range b.Opened() {
			b.looking.Go(func() { b.lookOf(i).renew(ctx) })
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		b.looking.Wait() // one that takes its time holds up the next round, not the others of this one
	}
}

// SameIdentity finds another instrument that says it is the same, down to the serial number; empty if there is none. An
// identity without a serial number says nothing.
func (b *Bench) SameIdentity(name, identity string) string {
	if !hasSerial(identity) {
		return ""
	}
	for _, i := range b.Opened() {
		if i.Name == name {
			continue
		}
		if said := b.lookOf(i).said.Load(); said != nil && said.err == nil && said.identity == identity {
			return i.Name
		}
	}
	return ""
}

// hasSerial tells whether an identity of IEEE 488.2 (maker, model, serial number, version) has a serial number, which
// is 0 where there is none.
func hasSerial(identity string) bool {
	parts := strings.Split(identity, ",")
	return len(parts) >= 3 && strings.Trim(strings.TrimSpace(parts[2]), "0") != ""
}
