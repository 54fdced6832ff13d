package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"usherbench/api"
	"usherbench/engine/outputs"
)

// owner is who has a bay: a run from its preparation to its last record, somebody at its controls, a change of the
// bench. There is one at a time, and it shows itself when it gives the bay back, so that a late one frees nobody
// else's. Its permit is the leave to energise, which a stop takes away for good.
type owner struct {
	permit *outputs.Permit
	gone   chan struct{} // closed when it has given the bay back
}

// ErrHeld means that nothing may be energised until a person says go on.
var ErrHeld = errors.New("held until somebody says go on")

// latched is why a permit became void.
type latched struct{ by string }

func (l *latched) Error() string { return "stopped by " + l.by }

// claim says how somebody wants a bay.
type claim struct {
	state api.BayState
	// word is what it says to the bay's latch, by who says so.
	word word
	by   string
	// asked is when it was asked for: what was asked for before a stop is not begun after it. Zero: now.
	asked time.Time
	// offOnly needs no leave to energise: an alarm and a latch are no reason against it.
	offOnly bool
}

// word is what a claim says to the latch of a bay.
type word int

const (
	// waits is said by the line, and by a run that comes back: until somebody has said go on.
	waits word = iota
	// goesOn is said by a person who begins a run, who says go on in this bay by that.
	goesOn
	// passes is said by a person at the controls. The latch stays: the line does not begin under their hands.
	passes
)

// own takes the bay, or says who has it, or why nothing may be energised in it.
func (b *Bay) own(c claim) (*owner, error) {
	b.mu.Lock()
	held := b.latch
	o, err := b.take(c)
	freed := err == nil && held != nil && b.latch == nil
	b.mu.Unlock()
	if freed {
		b.engine.freed(c.by, b.name, held)
	}
	return o, err
}

// take is own with the bay's mutex held.
func (b *Bay) take(c claim) (*owner, error) {
	if err := b.taken(); err != nil {
		return nil, err
	}
	o := &owner{gone: make(chan struct{})}
	if !c.offOnly {
		if w := b.engine.options.Warden; w != nil && w.Down() != nil {
			return nil, fmt.Errorf("%w: nothing is energised while there is no warden: %w; it is tried to start it, look into "+
				"the service's log", ErrNotReady, w.Down())
		}
		if err := b.engine.store.Whole(); err != nil {
			return nil, fmt.Errorf("%w: nothing is energised while it could not be put on record: %w", ErrNotReady, err)
		}
		if alarm := b.outputs.Alarm(); alarm != "" {
			return nil, fmt.Errorf("%w: %s: %s", ErrNotReady, b.name, alarm)
		}
		if err := b.holds(c.word); err != nil {
			return nil, err
		}
		if !c.asked.IsZero() && b.stopped.After(c.asked) {
			return nil, fmt.Errorf("%w: it was asked for before %s was stopped at %s; look around, then ask again", ErrHeld,
				b.name, b.stopped.Format(time.TimeOnly))
		}
		// It does not end with the service: a run that is suspended then finishes what it has begun.
		o.permit = outputs.NewPermit(context.Background())
	}
	b.owner, b.state = o, c.state
	b.outputs.Grant(o.permit)
	return o, nil
}

// taken says who has the bay; nil: nobody. The bay's mutex is held.
func (b *Bay) taken() error {
	switch {
	case b.owner == nil:
		return nil
	case b.state != api.BayStarting && b.last != nil:
		return fmt.Errorf("%w: %s tests %s with %s since %s", ErrBusy, b.name, b.last.Serial, b.last.Procedure,
			b.last.StartedAt.Format(time.TimeOnly))
	}
	return fmt.Errorf("%w: %s is starting a run", ErrBusy, b.name)
}

// release gives the bay back; nothing happens if somebody else has it by now.
func (b *Bay) release(o *owner) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.owner != o {
		return
	}
	close(o.gone)
	b.owner, b.state = nil, api.BayIdle
	b.outputs.Grant(nil)
	if o.permit != nil {
		o.permit.Void(context.Canceled)
	}
}

// holds says why nothing may be energised. What a person says in a bay never counts for the house. The bay's mutex is
// held.
func (b *Bay) holds(w word) error {
	if h := b.engine.latch.Load(); h != nil {
		return fmt.Errorf("%w: everything is held since %s: %s; look around, then say go on for the whole house", ErrHeld,
			h.At.Format(time.TimeOnly), h.Why)
	}
	switch {
	case b.latch != nil && w == waits:
		return fmt.Errorf("%w: %s is held since %s: %s", ErrHeld, b.name, b.latch.At.Format(time.TimeOnly), b.latch.Why)
	case w == goesOn:
		b.latch = nil
	}
	return nil
}

// Held says why nothing begins in the bay by itself; nil if nothing holds it.
func (b *Bay) Held() *api.Held {
	if h := b.engine.latch.Load(); h != nil {
		return h
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.latch
}

// hold sets the bay's latch, and takes the leave to energise from whoever has the bay. It does nothing else, and
// waits for nobody: everything on the way to off comes after it.
func (b *Bay) hold(h *api.Held) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.stopped = time.Now()
	if !h.House {
		b.latch = h
	}
	if b.owner != nil && b.owner.permit != nil {
		b.owner.permit.Void(&latched{h.By})
	}
}

// GoOn frees the bay: what waits in line may begin again. It fails with ErrHeld while the whole house is held.
func (b *Bay) GoOn(by string, seen time.Time) error {
	b.mu.Lock()
	before := b.latch
	err := lifts(before, seen)
	if err == nil {
		err = b.holds(goesOn)
	}
	b.mu.Unlock()
	if err == nil && before != nil {
		b.engine.freed(by, b.name, before)
		b.publish()
	}
	return err
}
