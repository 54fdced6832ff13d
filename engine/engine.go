// Package engine is where programs meet instruments. An [Engine] works on a bench; each [Bay] samples its seats,
// conducts runs through the pure stage machine, records them, and makes safe on every way out.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/bench"
	"usherbench/core/stage"
	"usherbench/engine/beside"
	"usherbench/engine/outputs"
	"usherbench/instrument/dialect"
	"usherbench/instrument/lane"
	"usherbench/instrument/transport/memory"
	"usherbench/live"
	"usherbench/store"
	"usherbench/warden"
)

// Engine runs the bays of one bench. It is safe for use by several goroutines.
type Engine struct {
	Hub *live.Hub

	store   *store.Store
	log     *slog.Logger
	options Options

	bench      *bench.Bench
	timeFactor float64       // how many seconds of a run pass in one of the wall
	stallAfter time.Duration // how long the service may stand still before the warden acts

	resuming []*liveRun // runs that go on, until the bays are up
	opened   time.Time

	handlers *http.Client // speaks to unit handlers

	latch      atomic.Pointer[api.Held] // nothing is energised in any bay; nil: nothing holds the house
	mute       atomic.Int64             // until when no sign of life is given, for a drill, Unix ns
	keeping    lane.Lane                // held while a latch is kept on record
	journal    *journal
	tombstones tombstones
	latches    latches
	mayBeOn    mayBeOn
	leftovers  leftovers
	unfollowed error // what of them cannot be read, and is tried by nobody
	turns      turns // with instruments that several bays use

	mu     sync.RWMutex // guards what follows
	bays   map[string]*Bay
	nBays  atomic.Int64      // how many bays there are
	strays map[string]*stray // outputs that no bay has any longer and that are not confirmed off, by name
	late   map[string]error  // runs that have ended and are not on record as ended, with why

	cancel     context.CancelFunc
	ctx        context.Context
	endJournal context.CancelFunc
	beside     beside.Group
}

// Options of an engine; the zero value has no warden.
type Options struct {
	// Warden is told what to switch off when this process can no longer do it; nil: there is none.
	Warden Warden
	// WardenLog is where the warden writes what it did.
	WardenLog string
	// Memory is this process's part of a network in memory; nil: the computer's network.
	Memory *memory.Network
	// Data is the folder whose disk the records fill, and that has the folder of dialects; empty: not known.
	Data string
}

// Warden is the second process that makes safe when this one dies or stalls.
type Warden interface {
	Plan(p warden.Plan)
	Energised(bay string, on bool)
	Alive(bays, alarmed []string)
	// Down is why there is no warden now; nil: there is one.
	Down() error
	Reports() <-chan warden.Report
}

// Errors that callers tell apart.
var (
	// ErrBusy means that a run owns the bay.
	ErrBusy = errors.New("a run owns the bay")
	// ErrIdle means that there is no run to stop.
	ErrIdle = errors.New("no run is live in the bay")
	// ErrUnknownBay means that the bench has no such bay.
	ErrUnknownBay = errors.New("there is no such bay")
	// ErrNotReady means that the bench cannot do what was asked as it is.
	ErrNotReady = errors.New("the bench is not ready")
	// ErrNotDone means that an instrument did not do what it was told.
	ErrNotDone = errors.New("the instrument did not do it")
	// ErrNotSafe means that an output could not be confirmed off.
	ErrNotSafe = errors.New("not confirmed safe")
	// ErrStopping means that the service is shutting down.
	ErrStopping = errors.New("the service is shutting down")
)

// Open opens the bench, makes safe what a killed service left behind, and begins to sample every bay.
func Open(file bench.Config, dialects dialect.Library, s *store.Store, log *slog.Logger, o Options) (*Engine, error) {
	ctx, cancel := context.WithCancel(context.Background())
	e := &Engine{
		// Ids grow across restarts, so that a watcher that comes back to a restarted service is told to fetch anew.
		Hub: live.NewHub(uint64(time.Now().UnixMilli())), store: s, log: log, options: o, bays: map[string]*Bay{},
		late: map[string]error{}, strays: map[string]*stray{}, journal: openJournal(s.Journal, s.Now, log),
		ctx: ctx, cancel: cancel,
		handlers: toHandlers(o.Memory),
		opened:   time.Now(),
	}
	if o.Data != "" {
		e.tombstones.folder, e.latches.folder = filepath.Join(o.Data, "endings"), filepath.Join(o.Data, "held")
		e.mayBeOn = mayBeOn{filepath.Join(o.Data, "on"), log}
		e.leftovers.folder = filepath.Join(o.Data, "left")
	}
	keep, end := context.WithCancel(context.Background())
	e.endJournal = end
	go e.journal.serve(keep)
	var err error
	e.bench, err = bench.Open(bench.Options{File: file, Dialects: dialects, Store: s, Data: o.Data, Bays: onBench{e},
		Memory: o.Memory, Journal: e.Journal})
	if err != nil {
		cancel()
		e.closeJournal()
		return nil, err
	}
	config := e.bench.Config()
	e.timeFactor, e.stallAfter = config.TimeFactor, warden.StallAfter
	if config.StallAfter > 0 {
		e.stallAfter = time.Duration(config.StallAfter)
	}
	for name, c := range config.Bays {
		e.bays[name] = newBay(e, name, c)
	}
	e.nBays.Store(int64(len(e.bays)))
	e.followAgain()
	e.tellPlan()
	e.readWardenLog()
	if o.Warden != nil {
		e.beside.Go(e.beat)
	}
	if err := e.recoverAbandoned(); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	for _, b := range e.bays {
		b.recall() // its last run may only now be on record as ended, and what waits in line goes by that
		b.start()
	}
	e.goOn()
	if o.Warden != nil {
		e.beside.Go(e.hearWarden)
	}
	return e, nil
}

// Bench is what the engine works on.
func (e *Engine) Bench() *bench.Bench { return e.bench }

// Close ends every run, makes every bay safe, and closes the connections.
func (e *Engine) Close() error {
	e.bench.Freeze()
	bays := e.Bays()
	for _, b := range bays {
		b.stopRun(byShutdown)
	}
	e.cancel()
	for _, b := range bays {
		b.stop()
	}
	e.beside.Wait()
	for _, b := range bays {
		if b.outputs.ByHand() { // nobody else is left to change it
			// The journal has what failed
			_ = b.outputs.MakeSafe("the service shuts down with an output on that was switched by hand", "")
		}
	}
	e.closeJournal()
	e.handlers.CloseIdleConnections()
	return e.bench.Close()
}

// closeJournal writes what waits to be written.
func (e *Engine) closeJournal() {
	e.endJournal()
	<-e.journal.done
}

// recoverAbandoned makes safe what a killed service left behind, all bays at once and before anything else. Then it
// looks at the runs that are on record as live: those that may go on do, the others end with what was recorded.
func (e *Engine) recoverAbandoned() error {
	runs, err := e.store.AbandonedRuns()
	off := e.makeSafeAgain(runs, err)
	if err != nil {
		return fmt.Errorf("look for runs that were left behind: %w", err)
	}
	if err := e.latchAgain(); err != nil {
		return fmt.Errorf("look for what is held: %w", err)
	}
	errs := make([]error, len(runs))
	var wg sync.WaitGroup
	for i, r := range runs {
		wg.Go(func() { errs[i] = e.endAbandoned(r, off[r.Bay]) })
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		wg.Wait()
	}()
	e.goOnTrying(ended)
	return errors.Join(errs...)
}

// goOnTrying makes safe what could not be confirmed, until the bays look after their outputs themselves: what is put on
// record meanwhile may have to wait for the disk.
func (e *Engine) goOnTrying(until <-chan struct{}) {
	var wg sync.WaitGroup
	for _, b := range e.bays {
		wg.Go(func() {
			for b.outputs.Alarm() != "" {
				b.outputs.Retry(e.ctx)
				select {
				case <-until:
					return
				case <-time.After(idleInterval):
				}
			}
		})
	}
	<-until
	wg.Wait()
}

// makeSafeAgain makes safe the bays that had a live run, an output that was switched on by hand, or one of which a file
// beside the records tells that it may be on, and tells what became of each. Where the records cannot be read nobody
// knows, and the bay is made safe too; unread is why.
func (e *Engine) makeSafeAgain(runs []store.Run, unread error) map[string]offTime {
	why := map[string][2]string{}
	for _, r := range runs {
		why[r.Bay] = [2]string{"run " + r.ID + " was left behind by a killed service", r.ID}
	}
	for name, b := range e.bays {
		switch on, err := b.leftOnByHand(); {
		case why[name][0] != "":
		case errors.Join(unread, err) != nil:
			why[name] = [2]string{"the records cannot be read, so that nobody knows what was left on: " +
				errors.Join(unread, err).Error(), ""}
		case on:
			why[name] = [2]string{"an output that was switched on by hand was left behind", ""}
		case e.mayBeOn.left(name):
			why[name] = [2]string{"an output may have been left on, of which these records do not tell", ""}
		}
	}
	off := map[string]offTime{}
	var mu sync.Mutex // guards off
	var wg sync.WaitGroup
	for name, words := range why {
		b, ok := e.bays[name]
		if !ok {
			continue
		}
		wg.Go(func() {
			var t offTime
			b.alive(outputs.SafeWithin)
			if w := e.options.Warden; w != nil { // should this service die or stand still too before they are off
				w.Energised(name, true)
			}
			if words[1] != "" {
				t.foundOn = b.foundOn()
			}
			t.err = b.outputs.MakeSafe(words[0], words[1]) // an alarm is kept by the bay, which goes on trying
			t.confirmed = e.store.Now()
			mu.Lock()
			defer mu.Unlock()
			off[name] = t
		})
	}
	wg.Wait()
	return off
}

// endAbandoned ends a run that a killed service left behind, or takes it up again if it may go on. Its bay is safe.
func (e *Engine) endAbandoned(listed store.Run, off offTime) error {
	r, err := e.store.Run(listed.ID) // with the texts that lists leave out
	if err != nil {
		return err
	}
	reason := "the service was killed while the run was live; the outputs were made safe when it started again"
	if by := e.madeSafeByWarden(r); by != "" {
		reason = "the service was killed or stalled while the run was live; " + by
	}
	if r.Source != "" { // nothing was energised: a log was being read
		return e.endAborted(r, "the service was killed while the log was read; import it again")
	}
	if end, ended := e.tombstones.of(r.ID); ended {
		return e.end(r, end.State, end.Reason)
	}
	b, ok := e.bays[r.Bay]
	if !ok {
		e.Journal(store.JournalEntry{By: "service", Bay: r.Bay, RunID: r.ID, What: "ALARM: make safe not possible",
			Detail: "the bay of an abandoned run is no longer configured; check its outputs by hand"})
		return e.endAborted(r, reason)
	}
	run, err := b.restore(r, off)
	if err != nil {
		return e.endAborted(r, reason+"; it does not go on: "+err.Error())
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.resuming = append(e.resuming, run)
	return nil
}

// endAborted ends a run that nobody conducts as aborted, with all figures that can still be determined.
func (e *Engine) endAborted(r store.Run, reason string) error {
	return e.end(r, string(stage.Aborted), reason)
}

func (e *Engine) end(r store.Run, state, reason string) error {
	end, frames, err := e.store.Recorded(r.ID)
	if err != nil {
		return err
	}
	now := e.store.Now()
	r.State, r.Reason, r.Duration = state, reason, end
	columns := map[string]any{"state": state, "reason": reason, "outcome": string(archive.OutcomeOf(r, nil)),
		"ended_at": &now,
		"duration": end, "frames": frames}
	if _, err := archive.Judge(e.store, r, columns); err != nil {
		e.log.Warn("figures of an aborted run", "run", r.ID, "err", err)
		if err := e.store.UpdateRun(r.ID, columns); err != nil {
			return err
		}
	}
	e.Journal(store.JournalEntry{By: "service", Bay: r.Bay, RunID: r.ID, What: "run " + r.State, Detail: reason})
	return errors.Join(e.store.DropSnapshot(r.ID), e.tombstones.drop(r.ID))
}

// Journal adds an entry, and waits a moment for it so that the next reader finds it. It is written later if that is
// not possible now.
func (e *Engine) Journal(entry store.JournalEntry) {
	e.journal.Add(entry)
	e.journal.Settle(settleWithin)
}

// unwritten notes that a run has ended and why that is not on record; nil: it is now.
func (e *Engine) unwritten(run string, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err == nil {
		delete(e.late, run)
		return
	}
	e.late[run] = err
	e.log.Error("put the end of a run on record", "run", run, "err", err)
}

// Problems says what is wrong beyond the alarms of the bays: outputs that no bay has any longer, a warden that is
// missing, and what of the records cannot be written now.
func (e *Engine) Problems() (problems []string) {
	for _, s := range e.strayList() {
		if alarm := s.board.Alarm(); alarm != "" {
			problems = append(problems, fmt.Sprintf("%s: %s If it is off, or gone for good, and you have looked, say so: usher "+
				"bench forget %q", s.Name, alarm, s.Name))
		}
	}
	if e.unfollowed != nil {
		problems = append(problems, fmt.Sprintf("outputs that no bay has any longer may still be on; check them by hand, "+
			"then take their files out of %s: %v", e.leftovers.folder, e.unfollowed))
	}
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, run := range slices.Sorted(maps.Keys(e.late)) {
		problems = append(problems, fmt.Sprintf("how run %s ended is kept in memory, since it cannot be written: %v; free "+
			"some disk space", run, e.late[run]))
	}
	if w := e.options.Warden; w != nil && w.Down() != nil {
		problems = append(problems, fmt.Sprintf("there is no warden, so nothing can be energised: %v; it is tried to start "+
			"it, look into the service's log", w.Down()))
	}
	if err := e.store.Whole(); err != nil {
		problems = append(problems, "nothing is energised: "+err.Error())
	} else if since, _, why := e.store.Failing(); why != nil {
		problems = append(problems, fmt.Sprintf("nothing can be put on record since %s: %v; free some disk space",
			since.Format(time.TimeOnly), why))
	}
	if err := e.journal.Failed(); err != nil {
		problems = append(problems, fmt.Sprintf("the journal is kept in memory, since it cannot be written: %v; free some "+
			"disk space", err))
	}
	return problems
}

// Watched tells whether the warden is there; there is none to be at all if watched is false.
func (e *Engine) Watched() (up, watched bool) {
	w := e.options.Warden
	return w != nil && w.Down() == nil, w != nil
}

// Unwritten counts what ended or was done and cannot be written now.
func (e *Engine) Unwritten() int {
	e.mu.RLock()
	defer e.mu.RUnlock()
	n := len(e.late)
	if e.journal.Failed() != nil {
		n++
	}
	return n
}

// Bay finds a bay.
func (e *Engine) Bay(name string) (*Bay, error) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	b, ok := e.bays[name]
	if !ok {
		return nil, fmt.Errorf("%w: %q; known: %v", ErrUnknownBay, name, slices.Sorted(maps.Keys(e.bays)))
	}
	return b, nil
}

// Bays lists the bays by name.
func (e *Engine) Bays() []*Bay {
	e.mu.RLock()
	defer e.mu.RUnlock()
	bays := make([]*Bay, 0, len(e.bays))
	for _, name := range slices.Sorted(maps.Keys(e.bays)) {
		bays = append(bays, e.bays[name])
	}
	return bays
}
