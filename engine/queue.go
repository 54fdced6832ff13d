package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/store"
)

// queueInterval is how often the lines are looked at, wall time.
const queueInterval = 200 * time.Millisecond

// mostWaiting bounds what one request puts in line.
const mostWaiting = 2000

// Enqueue puts units in line, dealt out over the bays in order; each goes through every procedure in its bay.
// It fails with ErrBadRequest, ErrUnknownBay, store.ErrNotFound, or the findings of a procedure.
func (e *Engine) Enqueue(by string, r api.Enqueue) ([]store.Waiting, error) {
	if len(r.Bays) == 0 || len(r.Serials) == 0 || len(r.Procedures) == 0 ||
		len(r.Serials)*len(r.Procedures) > mostWaiting {
		return nil, fmt.Errorf("%w: a line needs bays, serial numbers and procedures, up to %d runs at once", ErrBadRequest,
			mostWaiting)
	}
	for _, bay := range r.Bays {
		if _, err := e.Bay(bay); err != nil {
			return nil, err
		}
	}
	for _, name := range r.Procedures {
		revision, err := e.store.Revision(name, 0)
		if err != nil {
			return nil, err
		}
		if _, _, err := e.Resolve(revision, r.Parameters); err != nil {
			return nil, err
		}
	}
	var runs []store.Waiting
	for i, serial := range r.Serials {
		if err := checkSerial(serial); err != nil {
			return nil, err
		}
		for _, name := range r.Procedures {
			runs = append(runs, store.Waiting{Bay: r.Bays[i%len(r.Bays)], Serial: serial, Lot: r.Lot, Procedure: name,
				Parameters: r.Parameters, By: by, At: time.Now(), NotBefore: r.NotBefore})
		}
	}
	runs, err := e.store.Enqueue(runs)
	if err != nil {
		return nil, err
	}
	e.journal(store.JournalEntry{By: by, What: "put in line", Detail: fmt.Sprintf("%d runs of %v on %v", len(runs),
		r.Procedures, r.Bays)})
	return runs, nil
}

// Release lets a held run begin: its unit is in place, or what stood in the way is mended.
func (e *Engine) Release(by string, id uint) (store.Waiting, error) {
	w, err := e.store.Waiting(id)
	if err != nil {
		return w, err
	}
	detail := w.Procedure + " on " + w.Serial
	if len(w.Asks) > 0 {
		detail += "; vouches for " + strings.Join(w.Asks, ", ")
	}
	e.journal(store.JournalEntry{By: by, Bay: w.Bay, What: "released in line", Detail: detail})
	if err := e.store.Release(id); err != nil {
		return w, err
	}
	w.Held, w.Asks, w.Released = "", nil, true
	return w, nil
}

// Dequeue takes a run out of the line.
func (e *Engine) Dequeue(by string, id uint) error {
	w, err := e.store.Waiting(id)
	if err != nil {
		return err
	}
	e.journal(store.JournalEntry{By: by, Bay: w.Bay, What: "taken out of the line", Detail: w.Procedure + " on " +
		w.Serial})
	return e.store.Dequeue(id)
}

// serveQueue begins what is next in each line as soon as its bay is free.
func (e *Engine) serveQueue() {
	defer e.wg.Done()
	ticker := time.NewTicker(queueInterval)
	defer ticker.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-ticker.C:
		}
		all, err := e.store.Queue("")
		if err != nil {
			e.log.Error("the lines of the bays", "err", err)
			continue
		}
		var seen []string
		for _, w := range all {
			if slices.Contains(seen, w.Bay) {
				continue
			}
			seen = append(seen, w.Bay)
			if w.Held == "" && (w.NotBefore == nil || !w.NotBefore.After(time.Now())) {
				e.beginNext(w)
			}
		}
	}
}

// beginNext begins a run that is first in its line, or holds it and says why.
func (e *Engine) beginNext(w store.Waiting) {
	b, err := e.Bay(w.Bay)
	if err != nil {
		e.hold(w, err.Error(), nil)
		return
	}
	if !b.free() {
		return
	}
	if why := b.needsHands(w); why != "" {
		e.hold(w, why, nil)
		return
	}
	_, err = b.startInTurn(e.ctx, w.By, w.ID, api.StartRun{Bay: w.Bay, Procedure: w.Procedure, Revision: w.Revision,
		Serial: w.Serial, Lot: w.Lot, Parameters: w.Parameters, Vouched: w.Vouched})
	switch {
	case errors.Is(err, ErrBusy):
		return // somebody was faster: it stays first in line
	case errors.Is(err, context.Canceled), errors.Is(err, errStopping):
		if err := e.store.PutBack(w); err != nil { // the service ends, and with it a run that had not begun
			e.log.Error("put a run back in line", "bay", w.Bay, "err", err)
		}
	case err != nil:
		var blocked *Blocked
		var asks []string
		if errors.As(err, &blocked) {
			asks = blocked.asks()
		}
		e.hold(w, err.Error(), asks)
	}
}

func (e *Engine) hold(w store.Waiting, why string, asks []string) {
	e.journal(store.JournalEntry{By: "service", Bay: w.Bay, What: "held in line", Detail: w.Procedure + " on " + w.Serial +
		": " + why})
	if err := e.store.Hold(w.ID, why, asks); err != nil {
		e.log.Error("hold a run in line", "bay", w.Bay, "err", err)
	}
}

// free tells whether a run could begin in the bay now.
func (b *Bay) free() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.state == api.BayIdle && b.run == nil
}

// needsHands says what somebody must do before the unit can be tested; empty if nothing: the bay has a handler,
// or the unit is in it already.
func (b *Bay) needsHands(w store.Waiting) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.config.Handler != "" || w.Released || b.last != nil && b.last.Serial == w.Serial {
		return ""
	}
	return fmt.Sprintf("put %s in place, then let it begin", w.Serial)
}
