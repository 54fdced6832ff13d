package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/store"
)

// house is how the latch of all bays is kept on record.
const house = ""

// latches are files beside the database, one for each latch that is set: it is set again at the next start also where
// the database could not be written, or an older copy of it was put in place.
type latches struct{ folder string } // no folder: none are kept

func (l latches) file(bay string) string {
	if bay == house {
		return filepath.Join(l.folder, "all bays.json")
	}
	return filepath.Join(l.folder, bay+".json")
}

// keep keeps a latch, or forgets it.
func (l latches) keep(bay string, h *api.Held) error {
	switch {
	case l.folder == "":
		return nil
	case h == nil:
		return remove(l.file(bay))
	}
	text, err := json.Marshal(store.Latch{Bay: bay, Why: h.Why, By: h.By, At: h.At})
	if err != nil {
		return err
	}
	return errors.Join(os.MkdirAll(l.folder, 0o700), os.WriteFile(l.file(bay), text, 0o600))
}

// all lists the latches of which there is a file. One that cannot be read is set all the same.
func (l latches) all(bays []string) (kept []store.Latch) {
	for _, bay := range append([]string{house}, bays...) {
		text, err := os.ReadFile(l.file(bay))
		if l.folder == "" || errors.Is(err, fs.ErrNotExist) {
			continue
		}
		latch := store.Latch{}
		if err != nil || json.Unmarshal(text, &latch) != nil {
			latch = store.Latch{Why: "it was held, but why could not be read", By: "service"}
		}
		latch.Bay = bay
		kept = append(kept, latch)
	}
	return kept
}

// StopAll holds the house, ends every run and makes every bay safe, at once. From its first instant on nothing can be
// energised any more, neither what is being prepared nor what waits, until somebody says go on ([Engine.GoOn]). The
// error names the bays that could not be confirmed safe.
func (e *Engine) StopAll(by string) error {
	h := &api.Held{Why: "everything was stopped by " + by, By: by, At: e.store.Now(), House: true}
	e.latch.Store(h)
	bays := e.Bays()
	for _, b := range bays {
		b.hold(h)
	}
	var wg sync.WaitGroup
	errs := make([]error, len(bays))
	for i, b := range bays {
		wg.Go(func() {
			if errs[i] = b.safe(by); errs[i] != nil {
				errs[i] = fmt.Errorf("%s: %w", b.name, errs[i])
			}
		})
	}
	wg.Wait()
	e.keepLatch(house)
	return errors.Join(errs...)
}

// ErrStoppedAgain means that another stop came than the one against which somebody says go on.
var ErrStoppedAgain = errors.New("it was stopped again meanwhile")

// lifts tells whether a go on against a stop that was seen, by when it came, lifts the one that holds now. Whoever
// has not said which lifts any.
func lifts(h *api.Held, seen time.Time) error {
	if h == nil || seen.IsZero() || h.At.Equal(seen) {
		return nil
	}
	return fmt.Errorf("%w: since %s %s; look why, then say go on again", ErrStoppedAgain, h.At.Format(time.TimeOnly),
		h.Why)
}

// GoOn frees the house after everything was stopped: after the stop that was seen, if that is said.
func (e *Engine) GoOn(by string, seen time.Time) error {
	before := e.latch.Load()
	if err := lifts(before, seen); err != nil || before == nil {
		return err
	}
	if !e.latch.CompareAndSwap(before, nil) { // a stop came at this instant
		return e.GoOn(by, before.At)
	}
	e.freed(by, house, before)
	for _, b := range e.Bays() {
		b.publish()
	}
	return nil
}

// freed puts on record that somebody said go on.
func (e *Engine) freed(by, bay string, before *api.Held) {
	e.Journal(store.JournalEntry{By: by, Bay: bay, What: "go on", Detail: "held since " +
		before.At.Format(time.DateTime) + ": " + before.Why})
	e.keepLatch(bay)
}

// latchNow is the latch of a bay, or of the house, as it is set; nil: it is not.
func (e *Engine) latchNow(bay string) *api.Held {
	if bay == house {
		return e.latch.Load()
	}
	b, err := e.Bay(bay)
	if err != nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.latch
}

// keepLatch keeps a latch for the next start of the service as it is set by then, or forgets it: a stop and a go on
// that come one soon after the other may get here in either order. That comes after everything else, and nobody waits
// long for it: what stops must not need the disk.
func (e *Engine) keepLatch(bay string) {
	kept := make(chan struct{})
	e.beside.Go(func() {
		defer close(kept)
		defer e.keeping.Enter()()
		h := e.latchNow(bay)
		err := e.latches.keep(bay, h)
		if h == nil {
			err = errors.Join(err, e.store.DropLatch(bay))
		} else {
			err = errors.Join(err, e.store.SaveLatch(store.Latch{Bay: bay, Why: h.Why, By: h.By, At: h.At}))
		}
		if err != nil {
			e.log.Error("keep a latch", "bay", bay, "err", err)
		}
	})
	select {
	case <-kept:
	case <-time.After(settleWithin):
	}
}

// latchAgain sets the latches that were set when the service ended.
func (e *Engine) latchAgain() error {
	kept, err := e.store.Latches()
	var names []string
	for _, b := range e.Bays() {
		names = append(names, b.name)
	}
	for _, l := range append(kept, e.latches.all(names)...) {
		h := &api.Held{Why: l.Why, By: l.By, At: l.At, House: l.Bay == house}
		if h.House {
			e.latch.Store(h)
		} else if b, err := e.Bay(l.Bay); err == nil {
			b.hold(h)
		}
	}
	return err
}
