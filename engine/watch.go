package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/store"
	"usherbench/warden"
)

// byWarden begins the journal's words about what the warden did.
const byWarden = "made safe by the warden"

// tellPlan tells the warden how each bay is made safe.
func (e *Engine) tellPlan() {
	if e.options.Warden == nil {
		return
	}
	plan := warden.Plan{Bays: map[string][]warden.Channel{}}
	for _, b := range e.Bays() {
		plan.Bays[b.name] = channelsOf(b.outputs)
	}
	for _, s := range e.strayList() {
		plan.Bays[s.name] = channelsOf(s.board)
	}
	e.options.Warden.Plan(plan)
}

// beat tells the warden which bays are looked after.
func (e *Engine) beat() {
	defer e.wg.Done()
	ticker := time.NewTicker(warden.BeatInterval)
	defer ticker.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case now := <-ticker.C:
			alive, alarmed := []string{}, []string{}
			for _, b := range e.Bays() {
				if now.UnixNano() < b.aliveUntil.Load() {
					alive = append(alive, b.name)
				}
				if b.outputs.Alarm() != "" {
					alarmed = append(alarmed, b.name)
				}
			}
			for _, s := range e.strayList() {
				alive, alarmed = append(alive, s.name), append(alarmed, s.name)
			}
			e.options.Warden.Alive(alive, alarmed)
		}
	}
}

// mostWithoutFrame bounds how long a run is alive by its commands alone: a program that goes round without taking time
// sends many, and looks at nothing.
const mostWithoutFrame = 10 * time.Second

// alive says that the bay's goroutine does its work, and will be heard of again before the given time has passed. A
// run that has taken no frame for long is not alive, whatever else it does.
func (b *Bay) alive(next time.Duration) {
	now := time.Now()
	until := now.Add(next).UnixNano()
	if framed := b.framedAt.Load(); framed != 0 {
		until = min(until, framed+int64(mostWithoutFrame+next))
		if now.UnixNano() > framed+int64(mostWithoutFrame) {
			return
		}
	}
	b.aliveUntil.Store(until)
}

// hearWarden journals what the warden did while the service lives, and ends the runs of those bays.
func (e *Engine) hearWarden() {
	defer e.wg.Done()
	for {
		select {
		case <-e.ctx.Done():
			return
		case r := <-e.options.Warden.Reports():
			e.readWardenLog()
			if b, err := e.Bay(r.Bay); err == nil {
				select {
				case b.wardenActed <- r:
				default: // nobody waits for it
				}
				why := "the warden, which made the bay safe: " + r.Why
				if b.stopRun(why) == nil { // what was switched on by hand is off, and known to be
					go func() { _ = b.Safe(why) }() // the bay keeps an alarm
				}
			}
		}
	}
}

// readWardenLog puts into the journal what the warden did.
func (e *Engine) readWardenLog() {
	if e.options.WardenLog == "" {
		return
	}
	reports, err := warden.ReadLog(e.options.WardenLog)
	if err != nil {
		e.log.Error("the warden's log", "err", err)
	}
	for _, r := range reports {
		entry := store.JournalEntry{At: r.At, By: "warden", Bay: r.Bay, What: byWarden,
			Detail: fmt.Sprintf("%s: off after %.0f ms: %s", r.Why, r.Took*1000, strings.Join(r.Done, ", "))}
		if r.Failed != "" {
			entry.What = "ALARM: the warden could not confirm"
			entry.Detail += "; " + r.Failed
		}
		e.Journal(entry)
	}
}

// madeSafeByWarden words when the warden made safe the bay of a run; empty if it did not.
func (e *Engine) madeSafeByWarden(r store.Run) string {
	entries, err := e.store.JournalEntries(store.JournalFilter{Bay: r.Bay, Limit: 20})
	if err != nil {
		return ""
	}
	for _, j := range entries {
		if j.What == byWarden && j.At.After(r.StartedAt) {
			return fmt.Sprintf("the warden made the outputs safe at %s", j.At.Format("2006-01-02 15:04:05.000"))
		}
	}
	return ""
}

// drillFor is how long a drill stalls a conductor at most.
const drillFor = 3 * time.Second

// Drill stalls the bay's conductor on purpose and waits for the warden to make the bay safe, as it would if the
// service hung. A live run ends by it. Something must be energised, since the warden leaves alone what is off.
func (b *Bay) Drill(ctx context.Context, by string) (api.Drill, error) {
	switch {
	case b.engine.options.Warden == nil:
		return api.Drill{}, fmt.Errorf("%w: this service has no warden; start it with usher serve", ErrNotReady)
	case !b.outputs.Energised():
		return api.Drill{},
			fmt.Errorf("%w: nothing is energised in %s, so there is nothing for the warden to do; switch an output on first",
				ErrNotReady, b.name)
	}
	b.engine.Journal(store.JournalEntry{By: by, Bay: b.name, What: "warden drill",
		Detail: "the conductor is stalled on purpose"})
	select { // what an earlier drill left
	case <-b.wardenActed:
	default:
	}
	began := time.Now()
	b.drill.Store(true)
	select {
	case r := <-b.wardenActed:
		if r.Failed != "" {
			return api.Drill{}, fmt.Errorf("%w: the warden could not confirm: %s", ErrNotReady, r.Failed)
		}
		return api.Drill{Bay: b.name, OffAfter: r.At.Sub(began).Seconds(), Off: r.Done}, nil
	case <-ctx.Done():
		return api.Drill{}, ctx.Err()
	case <-time.After(drillFor + time.Second):
		return api.Drill{},
			fmt.Errorf("%w: the warden did not act within %g s; end the run, switch the outputs off by hand, and look into "+
				"the service's log", ErrNotReady, (drillFor + time.Second).Seconds())
	}
}

// stallIfAsked stands still for a drill.
func (b *Bay) stallIfAsked() {
	if b.drill.CompareAndSwap(true, false) {
		time.Sleep(drillFor)
	}
}
