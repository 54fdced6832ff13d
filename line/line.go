// Package line has what waits for bays: runs in order, begun one after another as soon as their bay is free, or held
// with the reason until somebody lets them go on.
package line

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/engine"
	"usherbench/store"
)

// interval is how often the lines are looked at, wall time.
const interval = 200 * time.Millisecond

// mostWaiting bounds what one request puts in line.
const mostWaiting = 2000

// Line is the lines of all bays. It is safe for use by several goroutines.
type Line struct {
	bays   bays
	store  *store.Store
	log    *slog.Logger
	cancel context.CancelFunc
	ctx    context.Context
	served chan struct{} // closed when nothing is begun any longer
	// aside is why entries were set aside of which that could not be put on record yet. The goroutine that serves the
	// lines owns it.
	aside map[uint]string
}

// bays are where runs are begun: those of the engine.
type bays interface {
	Bay(name string) (bay, error)
	Resolve(revision store.Revision, parameters map[string]string) error
	Journal(entry store.JournalEntry)
}

// bay is a bay as its line sees it.
type bay interface {
	Free() bool
	// Handled tells whether a handler changes its units, Unit which one is in it.
	Handled() bool
	Unit() string
	// Last is the run that is live or was last; nil if there was none.
	Last() *api.RunSummary
	// Held says why nothing begins by itself; GoOn is what a person says against it.
	Held() *api.Held
	GoOn(by string, seen time.Time) error
	StartInTurn(ctx context.Context, by string, place uint, request api.StartRun) (api.RunSummary, error)
}

// ofEngine are the bays of an engine.
type ofEngine struct{ *engine.Engine }

func (e ofEngine) Bay(name string) (bay, error) {
	b, err := e.Engine.Bay(name)
	if err != nil {
		return nil, err
	}
	return b, nil
}

func (e ofEngine) Resolve(revision store.Revision, parameters map[string]string) error {
	_, _, err := e.Engine.Resolve(revision, parameters)
	return err
}

// Open begins to serve the lines of an engine's bays.
func Open(e *engine.Engine, s *store.Store, log *slog.Logger) *Line { return open(ofEngine{e}, s, log) }

func open(of bays, s *store.Store, log *slog.Logger) *Line {
	ctx, cancel := context.WithCancel(context.Background())
	l := &Line{bays: of, store: s, log: log, ctx: ctx, cancel: cancel, served: make(chan struct{})}
	go l.serve()
	return l
}

// Close ends the service of the lines; what waits stays. It comes before the engine is closed.
func (l *Line) Close() {
	l.cancel()
	<-l.served
}

// Enqueue puts units in line, dealt out over the bays in order; each goes through every procedure in its bay.
// Revisions are those to be run, by procedure; 0 is the newest. It fails with api.ErrBadRequest, engine.ErrUnknownBay,
// store.ErrNotFound, or the findings of a procedure.
func (l *Line) Enqueue(by string, r api.Enqueue, revisions map[string]int) ([]store.Waiting, error) {
	if len(r.Bays) == 0 || len(r.Serials) == 0 || len(r.Procedures) == 0 ||
		len(r.Serials)*len(r.Procedures) > mostWaiting {
		return nil, fmt.Errorf("%w: a line needs bays, serial numbers and procedures, up to %d runs at once",
			api.ErrBadRequest,
			mostWaiting)
	}
	for _, bay := range r.Bays {
		if _, err := l.bays.Bay(bay); err != nil {
			return nil, err
		}
	}
	for _, name := range r.Procedures {
		revision, err := l.store.Revision(name, revisions[name])
		if err != nil {
			return nil, err
		}
		if err := l.bays.Resolve(revision, r.Parameters); err != nil {
			return nil, err
		}
	}
	after := map[string]string{}
	for _, name := range r.Bays {
		if b, err := l.bays.Bay(name); err == nil {
			if last := b.Last(); last != nil && last.EndedAt != nil {
				after[name] = last.ID
			}
		}
	}
	var runs []store.Waiting
	for i, serial := range r.Serials {
		if err := archive.CheckSerial(serial); err != nil {
			return nil, err
		}
		for _, name := range r.Procedures {
			bay := r.Bays[i%len(r.Bays)]
			runs = append(runs, store.Waiting{Bay: bay, Serial: serial, Lot: r.Lot, Procedure: name, Revision: revisions[name],
				Parameters: r.Parameters, By: by, At: l.store.Now(), NotBefore: r.NotBefore, After: after[bay]})
		}
	}
	runs, err := l.store.Enqueue(runs)
	if err != nil {
		return nil, err
	}
	l.bays.Journal(store.JournalEntry{By: by, What: "put in line", Detail: fmt.Sprintf("%d runs of %v on %v", len(runs),
		r.Procedures, r.Bays)})
	return runs, nil
}

// Release lets a held run begin: its unit is in place, or what stood in the way is mended. Who releases it says go on
// for its bay too. It fails with engine.ErrHeld while the whole house is held.
func (l *Line) Release(by string, id uint) (store.Waiting, error) {
	w, err := l.store.Waiting(id)
	if err != nil {
		return w, err
	}
	detail := w.Procedure + " on " + w.Serial
	if len(w.Asks) > 0 {
		detail += "; vouches for " + strings.Join(w.Asks, ", ")
	}
	b, err := l.bays.Bay(w.Bay)
	if err == nil {
		err = b.GoOn(by, time.Time{})
	}
	if err != nil {
		return w, err
	}
	l.bays.Journal(store.JournalEntry{By: by, Bay: w.Bay, What: "released in line", Detail: detail})
	if err := l.store.Release(id); err != nil {
		return w, err
	}
	w.Held, w.Asks, w.Released, w.SetAside = "", nil, true, false
	return w, nil
}

// Dequeue takes a run out of the line.
func (l *Line) Dequeue(by string, id uint) error {
	w, err := l.store.Waiting(id)
	if err != nil {
		return err
	}
	detail := w.Procedure + " on " + w.Serial
	l.bays.Journal(store.JournalEntry{By: by, Bay: w.Bay, What: "taken out of the line", Detail: detail})
	return l.store.Dequeue(id)
}

// serve begins what is next in each line as soon as its bay is free.
func (l *Line) serve() {
	defer close(l.served)
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	var empty bool
	var since uint64 // as much had been put in line when nothing waited
	for {
		select {
		case <-l.ctx.Done():
			return
		case <-ticker.C:
		}
		now := l.store.Enqueued()
		if empty && now == since {
			continue
		}
		all, err := l.store.Queue("")
		if err != nil {
			l.log.Error("the lines of the bays", "err", err)
			continue
		}
		empty, since = len(all) == 0, now
		l.look(l.setAside(all))
	}
}

// look begins the first of each bay that may.
func (l *Line) look(all []store.Waiting) {
	var seen []string
	for _, w := range all {
		if w.SetAside || slices.Contains(seen, w.Bay) {
			continue
		}
		seen = append(seen, w.Bay)
		if w.Held == "" && (w.NotBefore == nil || !w.NotBefore.After(l.store.Now())) {
			l.beginNext(w)
		}
	}
}

// setAside holds what waits for units whose runs failed or were aborted since it was put in line. Other units go on.
func (l *Line) setAside(all []store.Waiting) []store.Waiting {
	before := l.aside
	l.aside = map[uint]string{}
	for i, w := range all {
		if w.SetAside || w.Released {
			continue
		}
		why, known := before[w.ID]
		if !known {
			if why = l.vain(w); why == "" {
				continue
			}
			l.bays.Journal(store.JournalEntry{By: "service", Bay: w.Bay, What: "held in line",
				Detail: w.Procedure + " on " + w.Serial + ": " + why})
		}
		l.aside[w.ID] = why // whether or not that can be written: it is tried again in the next round
		if err := l.store.SetAside(w.ID, why); err != nil {
			l.log.Error("set a run in line aside", "bay", w.Bay, "err", err)
		}
		all[i].SetAside, all[i].Held = true, why
	}
	return all
}

// vain says why a run in line is set aside; empty: it is not.
func (l *Line) vain(w store.Waiting) string {
	b, err := l.bays.Bay(w.Bay)
	if err != nil {
		return ""
	}
	last := b.Last()
	if last == nil || last.Serial != w.Serial || last.EndedAt == nil || w.After == last.ID || !archive.Vain(last.State) {
		return ""
	}
	why := fmt.Sprintf("%s of %s is %s", last.Procedure, last.Serial, last.State)
	if last.Reason != "" {
		why += ": " + last.Reason
	}
	return why + "; look at the unit, then let it begin or take it out"
}

// beginNext begins a run that is first in its line, or holds it and says why.
func (l *Line) beginNext(w store.Waiting) {
	b, err := l.bays.Bay(w.Bay)
	if err != nil {
		l.hold(w, err.Error(), nil)
		return
	}
	if !b.Free() || b.Held() != nil {
		return
	}
	if why := needsHands(b, w); why != "" {
		l.hold(w, why, nil)
		return
	}
	_, err = b.StartInTurn(l.ctx, w.By, w.ID, api.StartRun{Bay: w.Bay, Procedure: w.Procedure, Revision: w.Revision,
		Serial: w.Serial, Lot: w.Lot, Parameters: w.Parameters, Vouched: w.Vouched})
	switch {
	case errors.Is(err, engine.ErrBusy), errors.Is(err, engine.ErrHeld):
		return // somebody was faster, or stopped the bay meanwhile: it stays first in line
	case errors.Is(err, context.Canceled), errors.Is(err, engine.ErrStopping):
		if err := l.store.PutBack(w); err != nil { // the service ends, and with it a run that had not begun
			l.log.Error("put a run back in line", "bay", w.Bay, "err", err)
		}
	case err != nil:
		var blocked *engine.Blocked
		var asks []string
		if errors.As(err, &blocked) {
			asks = blocked.Asks()
		}
		l.hold(w, err.Error(), asks)
	}
}

func (l *Line) hold(w store.Waiting, why string, asks []string) {
	detail := w.Procedure + " on " + w.Serial + ": " + why
	l.bays.Journal(store.JournalEntry{By: "service", Bay: w.Bay, What: "held in line", Detail: detail})
	if err := l.store.Hold(w.ID, why, asks); err != nil {
		l.log.Error("hold a run in line", "bay", w.Bay, "err", err)
	}
}

// needsHands says what somebody must do before the unit can be tested; empty if nothing: the bay has a handler, or
// the unit is in it already.
func needsHands(b bay, w store.Waiting) string {
	if w.Released || b.Handled() || b.Unit() == w.Serial {
		return ""
	}
	return fmt.Sprintf("put %s in place, then let it begin", w.Serial)
}
