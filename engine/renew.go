package engine

import (
	"usherbench/api"
	"usherbench/bench"
	"usherbench/engine/outputs"
)

// onBench is the engine as the bench sees it, which asks it before it changes.
type onBench struct{ *Engine }

var _ bench.Bays = onBench{}

// Halt takes bays out of service: idle, safe, and without goroutines.
func (e onBench) Halt(names []string) error {
	bays, owners := make([]*Bay, len(names)), make([]*owner, len(names))
	for i, name := range names {
		b, err := e.Bay(name)
		if err == nil {
			owners[i], err = b.letGo()
		}
		if err != nil {
			for k, owned := range bays[:i] {
				owned.release(owners[k])
			}
			return err
		}
		bays[i] = b
	}
	for _, b := range bays {
		b.stop()
	}
	return nil
}

// letGo takes the bay from everybody else, and makes safe what was switched on by hand.
func (b *Bay) letGo() (*owner, error) {
	if err := b.unlooked(); err != nil {
		return nil, err
	}
	o, err := b.own(claim{state: api.BayStarting, offOnly: true})
	if err != nil || !b.outputs.ByHand() {
		return o, err
	}
	var safeErr error
	if err = b.do(b.ctx, func() { safeErr = b.outputs.MakeSafe("the bay is configured anew", "") }); err == nil &&
		safeErr != nil {
		err = b.unlooked() // what is not confirmed off becomes a stray if somebody has looked
	}
	if err != nil {
		b.release(o)
	}
	return o, err
}

// Renew builds bays and begins to sample them. An alarm that one had before stays until its outputs are confirmed off.
func (e onBench) Renew(names []string) {
	config := e.bench.Config()
	for _, name := range names {
		e.mu.Lock()
		before := e.bays[name]
		c, stays := config.Bays[name]
		if !stays {
			delete(e.bays, name)
			e.mu.Unlock()
			if before != nil {
				e.adopt(name, before.outputs, before.outputs.Left())
			}
			continue
		}
		b := newBay(e.Engine, name, c)
		var strays []*outputs.Seat
		if before != nil {
			strays = b.outputs.TakeOver(before.outputs)
			before.mu.Lock()
			b.latch = before.latch
			before.mu.Unlock()
		}
		e.bays[name] = b
		e.mu.Unlock()
		if before != nil {
			e.adopt(name, before.outputs, strays)
		}
		if w := e.options.Warden; w != nil && b.outputs.Alarm() == "" {
			w.Energised(name, false) // what may be on is a stray's
		}
		b.start()
		b.publish()
	}
	e.mu.RLock()
	e.nBays.Store(int64(len(e.bays)))
	e.mu.RUnlock()
	e.tellPlan()
}

// Removable refuses while nobody knows whether the outputs of a bay are off.
func (e onBench) Removable(name string) error {
	b, err := e.Bay(name)
	if err != nil {
		return err
	}
	return b.unlooked()
}
