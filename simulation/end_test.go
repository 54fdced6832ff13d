package simulation

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/record"
	"usherbench/store"
	"usherbench/warden"
)

// lookEvery is how often people look at the bays.
const lookEvery = 900 * time.Millisecond

func (h *house) nextLook() time.Time { return h.looked.Add(lookEvery) }

// look has people look at the bays, without waiting for them.
func (h *house) look() {
	h.looked = time.Now()
	h.mu.Lock()
	calm := len(h.faults) == 0 // there is no alarm to be seen
	h.mu.Unlock()
	c := h.client()
	if c == nil || calm {
		return
	}
	h.busy.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		bays, err := c.Bays(ctx)
		if err != nil {
			return
		}
		h.seenCovers(bays)
		k := look{time.Now(), map[string]string{}}
		for _, b := range bays {
			k.alarms[b.Name] = b.Alarm
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		h.looks = append(h.looks, k)
	})
}

// amiss writes down a promise that was not kept.
func (h *house) amiss(format string, args ...any) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.left = append(h.left, fmt.Sprintf("at the end: "+format, args...))
}

// finish sees whether the house is well: everything is mended for a while now.
func (h *house) finish() {
	h.ended = time.Now()
	c := h.client()
	if c == nil {
		h.amiss("there is no service")
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	h.lightsOfNobody(ctx, c)
	for _, what := range []func(context.Context, *client.Client) error{h.stopEverything, h.records, h.runEverything} {
		if err := what(ctx, c); err != nil {
			h.amiss("%v", err)
		}
	}
}

// lightsOfNobody looks for outputs that are on though no run is live and nobody switched them on by hand.
func (h *house) lightsOfNobody(ctx context.Context, c *client.Client) {
	bays, err := c.Bays(ctx)
	if err != nil {
		h.amiss("the bays cannot be seen: %v", err)
		return
	}
	for _, b := range bays {
		s, err := h.bench.State(b.Name)
		if err != nil {
			continue
		}
		if b.Alarm != "" {
			h.amiss("%s has an alarm: %s", b.Name, b.Alarm)
		}
		if (s.SourceOn || s.LoadOn) && b.State != api.BayLive && b.SafeSince != nil {
			h.amiss("%s is shown as off, and is on", b.Name)
		}
	}
}

// stopEverything stops what is live, as somebody does who comes into the room.
func (h *house) stopEverything(ctx context.Context, c *client.Client) error {
	if _, err := c.StopAll(ctx, ""); err != nil {
		return fmt.Errorf("everything cannot be stopped: %w", err)
	}
	for _, plan := range h.scenario.Bays {
		if s, err := h.bench.State(plan.Name); err != nil || s.SourceOn || s.LoadOn {
			h.amiss("%s is on after everything was stopped", plan.Name)
		}
	}
	_, err := c.GoOn(ctx)
	return err
}

// runEverything runs something in every bay.
func (h *house) runEverything(ctx context.Context, c *client.Client) error {
	var runs []api.RunSummary
	for i, plan := range h.scenario.Bays {
		if i != int(h.scenario.Seed)%len(h.scenario.Bays) && len(h.faults) == 0 {
			continue // one is enough where no instrument broke
		}
		if waiting, err := c.Queue(ctx, plan.Name); err == nil {
			for _, w := range waiting {
				_ = c.Dequeue(ctx, w.ID) // or it has begun
			}
		}
		if _, err := c.Stop(ctx, plan.Name, ""); err == nil {
			h.tell("people", "%s had begun again", plan.Name)
		}
		run, err := c.StartRun(ctx, api.StartRun{Bay: plan.Name, Procedure: beginningOf(plan.Layout) + "-brief",
			Serial: serialOf(h, plan.Name)})
		if err != nil {
			h.amiss("nothing can be run in %s: %v", plan.Name, err)
			continue
		}
		runs = append(runs, run)
	}
	time.Sleep(1800 * time.Millisecond)
	for _, run := range runs {
		if doc, err := c.Run(ctx, run.ID); err != nil || doc.State != "done" {
			h.amiss("a run in %s is %s: %s %v", run.Bay, doc.State, doc.Reason, err)
		}
	}
	return nil
}

// tellRecord adds what the stand-ins and the runs have to tell to the timeline.
func (h *house) tellRecord() {
	for _, plan := range h.scenario.Bays {
		s, err := h.bench.State(plan.Name)
		if err != nil {
			continue
		}
		for _, x := range s.History {
			h.timeline = append(h.timeline, Entry{x.At.Sub(h.began), plan.Name,
				fmt.Sprintf("the %s goes %s", x.What, map[bool]string{true: "on", false: "off"}[x.On])})
		}
	}
	for generation := range h.generation + 1 {
		reports, err := warden.ReadLog(filepath.Join(h.folder, strconv.Itoa(generation), warden.LogFile))
		if err != nil {
			continue
		}
		for _, r := range reports {
			h.timeline = append(h.timeline, Entry{r.At.Sub(h.began), "warden",
				fmt.Sprintf("%s: %s: done %v; failed: %s (took %.3f s)", r.Bay, r.Why, r.Done, r.Failed, r.Took)})
		}
	}
	for _, r := range h.runs {
		for _, m := range r.marks {
			switch m.Kind {
			case record.MarkEnd, record.MarkBreak, record.MarkGuard, record.MarkBench:
				at := r.StartedAt.Add(time.Duration(m.T * float64(time.Second)))
				h.timeline = append(h.timeline, Entry{at.Sub(h.began), r.Bay,
					fmt.Sprintf("%s: %s: %s", r.Procedure, m.Kind, m.Label)})
			}
		}
		if r.EndedAt != nil {
			h.timeline = append(h.timeline, Entry{r.EndedAt.Sub(h.began), r.Bay,
				fmt.Sprintf("%s of %s is on record as %s: %s", r.Procedure, r.Serial, r.State, r.Reason)})
		}
	}
}

// records looks at what is on record.
func (h *house) records(ctx context.Context, c *client.Client) error {
	check, err := c.VerifyJournal(ctx)
	if err != nil {
		return fmt.Errorf("the journal cannot be verified: %w", err)
	}
	if check.Why != "" {
		h.amiss("the journal is not whole: %+v", check)
	}
	kept := h.service.running.Store
	if h.journal, err = kept.JournalEntries(store.JournalFilter{Limit: 1000}); err != nil {
		return fmt.Errorf("the journal cannot be read: %w", err)
	}
	runs, err := kept.Runs(store.RunFilter{Limit: 200})
	if err != nil {
		return fmt.Errorf("the runs cannot be listed: %w", err)
	}
	for _, r := range runs {
		marks, err := kept.Marks(r.ID)
		if err != nil {
			return fmt.Errorf("run %s cannot be read: %w", r.ID, err)
		}
		last, _, err := kept.Recorded(r.ID)
		if err != nil {
			return fmt.Errorf("the frames of run %s cannot be read: %w", r.ID, err)
		}
		h.runs = append(h.runs, run{r, marks, time.Duration(last * float64(time.Second))})
		ends := 0
		for _, m := range marks {
			if m.Kind == record.MarkEnd {
				ends++
			}
		}
		if ends > 1 {
			h.amiss("run %s of %s has ended %d times", r.Procedure, r.Bay, ends)
		}
		if r.State == "live" || r.EndedAt == nil {
			h.amiss("run %s of %s is %s, and has ended %v", r.Procedure, r.Bay, r.State, r.EndedAt)
		}
	}
	return nil
}

// run is one as it is on record.
type run struct {
	store.Run
	marks []record.Mark
	last  time.Duration // of the newest frame
}
