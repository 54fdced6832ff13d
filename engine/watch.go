package engine

import (
	"fmt"
	"strings"
	"time"

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
	plan := warden.Plan{StallAfter: e.stallAfter, Bays: map[string][]warden.Channel{}}
	for _, b := range e.Bays() {
		plan.Bays[b.name] = channelsOf(b.outputs)
	}
	for _, s := range e.strayList() {
		plan.Bays[s.Name] = channelsOf(s.board)
	}
	e.options.Warden.Plan(plan)
}

// beat tells the warden which bays are looked after.
func (e *Engine) beat() {
	ticker := time.NewTicker(warden.BeatInterval)
	defer ticker.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case now := <-ticker.C:
			if now.UnixNano() < e.mute.Load() {
				continue // a drill
			}
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
				alive, alarmed = append(alive, s.Name), append(alarmed, s.Name)
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
				if !b.tellRun(r) { // what was switched on by hand is off, and known to be
					go func() { _ = b.Safe("the warden, which made the bay safe: " + r.Why) }() // the bay keeps an alarm
				}
			}
		}
	}
}

// tellRun tells the live run that the warden made its bay safe, which goes on or ends; false: there is none.
func (b *Bay) tellRun(report warden.Report) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.run == nil {
		return false
	}
	select {
	case b.run.warded <- report:
	default: // it knows already
	}
	return true
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
