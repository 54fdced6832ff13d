package engine

import (
	"fmt"

	"usherbench/api"
	"usherbench/bench"
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
	o, err := b.own(claim{state: api.BayStarting, offOnly: true})
	if err != nil || !b.outputs.ByHand() {
		return o, err
	}
	if doErr := b.do(b.ctx, func() { err = b.outputs.MakeSafe("the bay is configured anew", "") }); doErr != nil {
		err = doErr
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
			continue
		}
		b := newBay(e.Engine, name, c)
		if before != nil {
			b.outputs.TakeOver(before.outputs)
		}
		e.bays[name] = b
		e.mu.Unlock()
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
	if alarm := b.Status().Alarm; alarm != "" {
		return fmt.Errorf("%w: %s is not removed while nobody knows whether its outputs are off: %s", ErrNotReady, name,
			alarm)
	}
	return nil
}
