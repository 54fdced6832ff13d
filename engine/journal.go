package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"usherbench/store"
)

// journal writes entries in the order in which they were given, from a goroutine of its own: whoever switches outputs
// off tells what was done and waits for no disk. What cannot be written is kept and tried again, within a bound.
type journal struct {
	write func(store.JournalEntry) error
	now   func() time.Time // by the clock of the computer
	log   *slog.Logger

	mu      sync.Mutex // guards what follows
	waiting []entry
	writing bool  // the first of them
	failed  error // why the oldest could not be written; nil: all is well
	wake    chan struct{}
	done    chan struct{}
}

// entry waits to be written.
type entry struct {
	store.JournalEntry
	written chan<- error // told what came of it; nil: nobody waits
	nothing bool         // it only stands for those before it
}

const (
	// mostEntries bounds what is kept while the journal cannot be written.
	mostEntries = 10_000
	// journalAgain is how soon a journal that could not be written is tried again.
	journalAgain = time.Second
)

var errJournalFull = errors.New("the journal cannot be written, and too much of it is waiting")

func openJournal(write func(store.JournalEntry) error, now func() time.Time, log *slog.Logger) *journal {
	return &journal{write: write, now: now, log: log, wake: make(chan struct{}, 1), done: make(chan struct{})}
}

// Add has an entry written as soon as that is possible.
func (j *journal) Add(e store.JournalEntry) { _ = j.put(entry{JournalEntry: e}) } // one that is lost is in the log

// Write waits until an entry is written, behind those given before. The error says why it is not.
func (j *journal) Write(ctx context.Context, e store.JournalEntry) error {
	written := make(chan error, 1)
	if err := j.put(entry{JournalEntry: e, written: written}); err != nil {
		return err
	}
	select {
	case err := <-written:
		return err
	case <-j.done:
		return ErrStopping
	case <-ctx.Done():
		return fmt.Errorf("the journal is not written: %w", ctx.Err())
	}
}

func (j *journal) put(e entry) error {
	if e.At.IsZero() {
		e.At = j.now()
	}
	j.log.Info("journal", "bay", e.Bay, "run", e.RunID, "what", e.What, "detail", e.Detail, "by", e.By)
	j.mu.Lock()
	defer j.mu.Unlock()
	if len(j.waiting) >= mostEntries {
		j.log.Error("journal", "err", errJournalFull, "entry", e.JournalEntry)
		return errJournalFull
	}
	j.waiting = append(j.waiting, e)
	select {
	case j.wake <- struct{}{}:
	default:
	}
	return nil
}

// serve writes until the context ends, and then what is left as far as it can be written.
func (j *journal) serve(ctx context.Context) {
	defer close(j.done)
	for {
		again := time.NewTimer(journalAgain)
		if j.Failed() == nil {
			again.Stop()
		}
		select {
		case <-j.wake:
		case <-again.C:
		case <-ctx.Done():
			again.Stop()
			j.drain()
			return
		}
		again.Stop()
		j.drain()
	}
}

// drain writes what waits, oldest first. Somebody who waits for an entry is told at once that it cannot be written,
// and what they wanted to do is not done; what was done already stays until it is written.
func (j *journal) drain() {
	for {
		j.mu.Lock()
		if len(j.waiting) == 0 {
			j.mu.Unlock()
			return
		}
		next := j.waiting[0]
		j.writing = true
		j.mu.Unlock()
		var err error
		if !next.nothing {
			err = j.write(next.JournalEntry)
		}
		j.mu.Lock()
		j.failed, j.writing = err, false
		if err == nil {
			j.waiting = j.waiting[1:]
		} else {
			j.refuse(err)
		}
		j.mu.Unlock()
		if next.written != nil && err == nil {
			next.written <- nil
		}
		if err != nil {
			j.log.Error("journal", "err", err)
			return
		}
	}
}

// refuse gives up the entries for which somebody waits. The journal's mutex is held.
func (j *journal) refuse(err error) {
	var kept []entry
	for _, e := range j.waiting {
		if e.written == nil {
			kept = append(kept, e)
			continue
		}
		e.written <- fmt.Errorf("the journal cannot be written: %w", err)
	}
	j.waiting = kept
}

// settleWithin is how long those wait for the journal who only want that the next reader finds what they did.
const settleWithin = time.Second

// Settle waits until what was given so far is written, or cannot be, or the time has passed.
func (j *journal) Settle(within time.Duration) {
	settled := make(chan error, 1)
	j.mu.Lock()
	if len(j.waiting) == 0 && !j.writing || j.failed != nil {
		j.mu.Unlock()
		return
	}
	j.waiting = append(j.waiting, entry{written: settled, nothing: true})
	j.mu.Unlock()
	timer := time.NewTimer(within)
	defer timer.Stop()
	select {
	case <-settled:
	case <-j.done:
	case <-timer.C:
	}
}

// Failed is why the journal cannot be written now; nil while all is well.
func (j *journal) Failed() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.failed
}
