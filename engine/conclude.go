package engine

import (
	"context"
	"fmt"
	"runtime/debug"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/store"
)

// What is done for an end that cannot be written: the bay waits for it, and after that the service goes on trying.
const (
	endWithin = 4 * time.Second
	endAgain  = 500 * time.Millisecond
)

// abandon ends a run that was put on record but never conducted. It is to be concluded, which frees the bay.
func (r *liveRun) abandon(why string) {
	r.finish = &stage.Finish{T: r.lastT, Ending: stage.Aborted, Reason: why}
	close(r.safe)
}

// haltAtEnd stops programs of instruments, whose outputs are off by now.
func (r *liveRun) haltAtEnd() {
	if err := r.halt(context.Background()); err != nil {
		r.bay.engine.log.Warn("stop a program", "run", r.record.ID, "err", err)
	}
}

// conclude puts the end of the run on record, computes its figures, and frees the bay. The outputs are off by now, and
// the bay's goroutine looks after them meanwhile: what takes long here holds up nobody. An end that cannot be written
// is kept beside the database, so that the run never goes on, and tried again for as long as the service lives.
func (r *liveRun) conclude(safeErr error) {
	b := r.bay
	r.lastWords(safeErr)
	if r.buried != nil {
		<-r.buried
	}
	r.bury(ended{r.record.State, r.record.Reason, r.record.Duration})
	err := r.putEnd()
	for until := time.Now().Add(endWithin); err != nil && time.Now().Before(until) && r.waits(endAgain); {
		err = r.putEnd()
	}
	if err != nil {
		b.engine.unwritten(r.record.ID, err)
	}
	b.engine.journal.Add(store.JournalEntry{By: "service", Bay: b.name, RunID: r.record.ID, What: "run " +
		r.record.State, Detail: r.record.Reason})
	r.letGo()
	if err == nil {
		return
	}
	for r.waits(endAgain) {
		if r.putEnd() == nil {
			b.engine.unwritten(r.record.ID, nil)
			r.tellSummary()
			return
		}
	}
}

// endsFrom notes at once that the run has ended, beside everything else: outputs may take seconds to be confirmed off,
// and the service may be killed in any of them.
func (r *liveRun) endsFrom(f stage.Finish) {
	r.buried = make(chan struct{})
	r.bay.beside.Go(func() {
		defer close(r.buried)
		r.bury(ended{string(f.Ending), f.Reason, f.T})
	})
}

// bury notes beside the database how the run has ended.
func (r *liveRun) bury(e ended) {
	if err := r.bay.engine.tombstones.put(r.record.ID, e); err != nil {
		r.bay.engine.log.Error("keep the end of a run beside the database", "run", r.record.ID, "err", err)
	}
}

// waits lets time pass; false: the service ends.
func (r *liveRun) waits(d time.Duration) bool {
	select {
	case <-r.bay.engine.ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// lastWords notes why the run ended, and what its readers should know.
func (r *liveRun) lastWords(safeErr error) {
	b := r.bay
	now := r.bay.engine.store.Now()
	reason := r.finish.Reason
	if r.tripped != "" {
		b.engine.journal.Add(store.JournalEntry{By: "service", Bay: b.name, RunID: r.record.ID, What: "guard tripped",
			Detail: r.tripped})
	}
	if safeErr != nil {
		reason = strings.TrimPrefix(reason+"; an output was not confirmed off", "; ")
		r.recorder.Mark(record.Mark{T: r.finish.T, Kind: record.MarkBench, Label: "not confirmed off: " + safeErr.Error()})
	}
	for _, missed := range r.absences.end(r.finish.T) {
		r.recorder.Mark(missed.Mark())
	}
	for _, words := range []string{r.coarse(), r.still.String()} {
		if words != "" {
			r.recorder.Mark(record.Mark{T: r.finish.T, Kind: record.MarkBench, Label: words})
		}
	}
	r.keeper.drain(r.recorder)
	r.record.EndedAt, r.record.Duration, r.record.Frames = &now, r.finish.T, r.recorder.Frames()
	r.record.State, r.record.Reason = string(r.finish.Ending), reason
}

// putEnd writes what is not on record yet. The run ends for its readers when its figures are there too, in one
// transaction; until then it is on record as live.
func (r *liveRun) putEnd() error {
	s := r.bay.engine.store
	if !r.recorded {
		if err := r.recorder.Finish(map[string]any{"ended_at": r.record.EndedAt, "duration": r.record.Duration,
			"frames": r.record.Frames}); err != nil {
			return fmt.Errorf("the end of the record: %w", err)
		}
		r.recorded = true
	}
	state := map[string]any{"state": r.record.State, "reason": r.record.Reason}
	if err := r.judge(state); err != nil {
		r.bay.engine.log.Error("figures", "run", r.record.ID, "err", err)
		state["outcome"] = string(archive.OutcomeOf(*r.record, nil))
		if err := s.UpdateRun(r.record.ID, state); err != nil {
			return fmt.Errorf("how the run ended: %w", err)
		}
	}
	if err := r.bay.engine.tombstones.drop(r.record.ID); err != nil {
		r.bay.engine.log.Error("forget the end of a run that is on record", "run", r.record.ID, "err", err)
	}
	return nil
}

// judge computes the figures; a figure that panics costs the figures of this run and nothing else.
func (r *liveRun) judge(state map[string]any) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("internal error: %v", p)
			r.bay.engine.log.Error("figures", "panic", p, "stack", string(debug.Stack()))
		}
	}()
	_, err = archive.Judge(r.bay.engine.store, *r.record, state)
	return err
}

// letGo frees the bay and tells everybody.
func (r *liveRun) letGo() {
	b := r.bay
	summary := r.summary()
	b.mu.Lock()
	b.run, b.last, b.progress, b.guards, b.prompt, b.adjustable = nil, &summary, nil, nil, nil, nil
	b.mu.Unlock()
	b.release(r.owner)
	b.engine.Hub.Publish(api.EventRun, b.name, summary)
	b.publish()
	b.engine.journal.Settle(settleWithin)
	close(r.done)
}

// Await waits until a run of the bay has ended and its outcome is told. It returns at once where the run is not live.
func (b *Bay) Await(ctx context.Context, run string) {
	b.mu.Lock()
	live := b.run
	b.mu.Unlock()
	if live == nil || live.record.ID != run {
		return
	}
	select {
	case <-live.done:
	case <-ctx.Done():
	}
}

// summary is how the run ended, with its outcome if that is on record.
func (r *liveRun) summary() api.RunSummary {
	if stored, err := r.bay.engine.store.Run(r.record.ID); err == nil && r.recorded {
		return stored.Summary()
	}
	return r.record.Summary()
}

// tellSummary tells watchers the outcome of a run that is on record at last.
func (r *liveRun) tellSummary() {
	b := r.bay
	summary := r.summary()
	b.mu.Lock()
	if b.last != nil && b.last.ID == summary.ID {
		b.last = &summary
	}
	b.mu.Unlock()
	b.engine.Hub.Publish(api.EventRun, b.name, summary)
	b.publish()
}
