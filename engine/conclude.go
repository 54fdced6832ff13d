package engine

import (
	"context"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/store"
)

// abandon ends a run that was put on record but never conducted.
func (r *liveRun) abandon(why string) {
	r.finish = &stage.Finish{Ending: stage.Aborted, Reason: why}
	r.conclude(nil)
}

// haltAtEnd stops programs of instruments, whose outputs are off by now.
func (r *liveRun) haltAtEnd() {
	if err := r.halt(context.Background()); err != nil {
		r.bay.engine.log.Warn("stop a program", "run", r.record.ID, "err", err)
	}
}

// conclude puts the end of the run on record, computes its figures, and frees the bay.
func (r *liveRun) conclude(safeErr error) {
	b := r.bay
	ended := time.Now()
	reason := r.finish.Reason
	if r.tripped != "" {
		b.engine.Journal(store.JournalEntry{By: "service", Bay: b.name, RunID: r.record.ID, What: "guard tripped",
			Detail: r.tripped})
	}
	if safeErr != nil {
		reason = strings.TrimPrefix(reason+"; an output was not confirmed off", "; ")
		r.recorder.Mark(record.Mark{T: r.finish.T, Kind: record.MarkBench, Label: "not confirmed off: " + safeErr.Error()})
	}
	for _, words := range []string{r.coarse(), r.still.String()} {
		if words != "" {
			r.recorder.Mark(record.Mark{T: r.finish.T, Kind: record.MarkBench, Label: words})
		}
	}
	r.keeper.flush(r.recorder)
	// The run ends for its readers when its figures are there too, in one transaction; until then it is on record as live.
	r.record.EndedAt, r.record.Duration, r.record.Frames = &ended, r.finish.T, r.recorder.Frames()
	if err := r.recorder.Finish(map[string]any{"ended_at": &ended, "duration": r.finish.T,
		"frames": r.record.Frames}); err != nil {
		b.engine.log.Error("put the end of a run on record", "run", r.record.ID, "err", err)
	}
	r.record.State, r.record.Reason = string(r.finish.Ending), reason
	state := map[string]any{"state": r.record.State, "reason": reason}
	if _, err := archive.Judge(b.engine.store, *r.record, state); err != nil {
		b.engine.log.Error("figures", "run", r.record.ID, "err", err)
		state["outcome"] = string(archive.OutcomeOf(*r.record, nil))
		if err := b.engine.store.UpdateRun(r.record.ID, state); err != nil {
			b.engine.log.Error("put the end of a run on record", "run", r.record.ID, "err", err)
		}
	}
	b.engine.Journal(store.JournalEntry{By: "service", Bay: b.name, RunID: r.record.ID, What: "run " +
		string(r.finish.Ending), Detail: reason})
	summary := r.record.Summary()
	if stored, err := b.engine.store.Run(r.record.ID); err == nil {
		summary = stored.Summary()
	}
	b.mu.Lock()
	b.run, b.last, b.progress, b.guards, b.prompt, b.adjustable, b.state = nil, &summary, nil, nil, nil, nil, api.BayIdle
	b.mu.Unlock()
	b.engine.Hub.Publish(api.EventRun, b.name, summary)
	b.publish()
	close(r.done)
}
