// Package engine is where programs meet instruments. An [Engine] works on a bench; each [Bay] samples its seats,
// conducts runs through the pure stage machine, records them, and makes safe on every way out.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"usherbench/archive"
	"usherbench/bench"
	"usherbench/core/outcome"
	"usherbench/instrument/dialect"
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
	timeFactor float64 // how many seconds of a run pass in one of the wall

	resuming []*liveRun // runs that go on, until the bays are up

	mu   sync.RWMutex // guards what follows
	bays map[string]*Bay

	cancel context.CancelFunc
	ctx    context.Context
	wg     sync.WaitGroup
}

// Options of an engine; the zero value has no warden.
type Options struct {
	// Warden is told what to switch off when this process can no longer do it; nil: there is none.
	Warden Warden
	// WardenLog is where the warden writes what it did.
	WardenLog string
	// Data is the folder whose disk the records fill, and that has the folder of dialects; empty: not known.
	Data string
}

// Warden is the second process that makes safe when this one dies or stalls.
type Warden interface {
	Plan(p warden.Plan)
	Energised(bay string, on bool)
	Alive(bays []string)
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
	// ErrStopping means that the service is shutting down.
	ErrStopping = errors.New("the service is shutting down")
)

// Open opens the bench, makes safe what a killed service left behind, and begins to sample every bay.
func Open(file bench.Config, dialects dialect.Library, s *store.Store, log *slog.Logger, o Options) (*Engine, error) {
	ctx, cancel := context.WithCancel(context.Background())
	e := &Engine{
		// Ids grow across restarts, so that a watcher that comes back to a restarted service is told to fetch anew.
		Hub: live.NewHub(uint64(time.Now().UnixMilli())), store: s, log: log, options: o, bays: map[string]*Bay{},
		ctx: ctx, cancel: cancel,
	}
	var err error
	e.bench, err = bench.Open(bench.Options{File: file, Dialects: dialects, Store: s, Data: o.Data, Bays: onBench{e},
		Journal: e.Journal})
	if err != nil {
		cancel()
		return nil, err
	}
	config := e.bench.Config()
	e.timeFactor = config.TimeFactor
	for name, c := range config.Bays {
		e.bays[name] = newBay(e, name, c)
	}
	e.tellPlan()
	e.readWardenLog()
	if err := e.recoverAbandoned(); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	for _, b := range e.bays {
		b.start()
	}
	e.goOn()
	if o.Warden != nil {
		e.wg.Add(2)
		go e.beat()
		go e.hearWarden()
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
	e.wg.Wait()
	for _, b := range bays {
		if b.outputs.ByHand() { // nobody else is left to change it
			// The journal has what failed
			_ = b.outputs.MakeSafe("the service shuts down with an output on that was switched by hand", "")
		}
	}
	return e.bench.Close()
}

// recoverAbandoned makes safe the bays of runs that are on record as live, all at once, and ends those runs as
// aborted with what was recorded.
func (e *Engine) recoverAbandoned() error {
	runs, err := e.store.AbandonedRuns()
	if err != nil {
		return fmt.Errorf("look for runs that were left behind: %w", err)
	}
	var wg sync.WaitGroup
	errs := make([]error, len(runs))
	for i, r := range runs {
		wg.Add(1)
		go func() {
			defer wg.Done()
			errs[i] = e.endAbandoned(r)
		}()
	}
	wg.Wait()
	// After the runs, whose bays are safe now and in the journal so.
	for _, b := range e.bays {
		on, err := b.leftOnByHand()
		errs = append(errs, err)
		if !on {
			continue
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			_ = b.outputs.MakeSafe("an output that was switched on by hand was left behind", "") // an alarm is kept by the bay
		}()
	}
	wg.Wait()
	return errors.Join(errs...)
}

// endAbandoned makes safe the bay of a run that a killed service left behind. The run goes on if it may, else it ends.
func (e *Engine) endAbandoned(listed store.Run) error {
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
	b, ok := e.bays[r.Bay]
	var off offTime
	if ok {
		off.foundOn = b.foundOn()
		// An alarm is kept by the bay, which goes on trying.
		off.err = b.outputs.MakeSafe("run "+r.ID+" was left behind by a killed service", r.ID)
		off.confirmed = time.Now()
	} else {
		e.Journal(store.JournalEntry{By: "service", Bay: r.Bay, RunID: r.ID, What: "ALARM: make safe not possible",
			Detail: "the bay of an abandoned run is no longer configured; check its outputs by hand"})
	}
	if ok {
		run, err := b.restore(r, off)
		if err == nil {
			e.mu.Lock()
			e.resuming = append(e.resuming, run)
			e.mu.Unlock()
			return nil
		}
		reason += "; it does not go on: " + err.Error()
	}
	return e.endAborted(r, reason)
}

// endAborted ends a run that nobody conducts, with all figures that can still be determined.
func (e *Engine) endAborted(r store.Run, reason string) error {
	end, frames, err := e.store.Recorded(r.ID)
	if err != nil {
		return err
	}
	now := time.Now()
	r.State, r.Reason, r.Duration = "aborted", reason, end
	columns := map[string]any{"state": r.State, "reason": reason, "outcome": string(outcome.Aborted), "ended_at": &now,
		"duration": end, "frames": frames}
	if _, err := archive.Judge(e.store, r, columns); err != nil {
		e.log.Warn("figures of an aborted run", "run", r.ID, "err", err)
		if err := e.store.UpdateRun(r.ID, columns); err != nil {
			return err
		}
	}
	e.Journal(store.JournalEntry{By: "service", Bay: r.Bay, RunID: r.ID, What: "run aborted", Detail: reason})
	return e.store.DropSnapshot(r.ID)
}

// Journal adds an entry; one that cannot be written goes to the log at least.
func (e *Engine) Journal(entry store.JournalEntry) {
	if err := e.store.Journal(entry); err != nil {
		e.log.Error("journal", "err", err, "entry", entry)
	}
	e.log.Info("journal", "bay", entry.Bay, "run", entry.RunID, "what", entry.What, "detail", entry.Detail, "by", entry.By)
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

// StopAll ends every run and makes every bay safe, at once. The error names the bays that could not be confirmed safe.
func (e *Engine) StopAll(by string) error {
	var wg sync.WaitGroup
	bays := e.Bays()
	errs := make([]error, len(bays))
	for i, b := range bays {
		wg.Add(1)
		go func() {
			defer wg.Done()
			if errs[i] = b.Safe(by); errs[i] != nil {
				errs[i] = fmt.Errorf("%s: %w", b.name, errs[i])
			}
		}()
	}
	wg.Wait()
	return errors.Join(errs...)
}
