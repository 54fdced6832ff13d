package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/store"
)

// drillFor is how long a drill stalls at most, and drillPassed how the journal names one that the warden passed.
const (
	drillFor    = 3 * time.Second
	drillPassed = "warden drill passed"
)

// Drill stalls the bay's conductor on purpose and waits for the warden to make the bay safe, as it would if the
// service hung. A live run ends by it, or goes on after a rest if its procedure allows that. Something must be
// energised, since the warden leaves alone what is off.
func (b *Bay) Drill(ctx context.Context, by string) (api.Drill, error) {
	if err := b.engine.drillable([]*Bay{b}); err != nil {
		return api.Drill{}, err
	}
	b.engine.Journal(store.JournalEntry{By: by, Bay: b.name, What: "warden drill",
		Detail: "the conductor is stalled on purpose"})
	b.forgetActed()
	began := time.Now()
	b.drill.Store(true)
	d, err := b.awaitWarden(ctx, began)
	b.engine.passed(by, b.name, []api.Drill{d}, err)
	return d, err
}

// Drill has the service give no sign of life on purpose and waits for the warden to make every energised bay safe, as
// it would if the whole service hung. What is said of [Bay.Drill] goes for each.
func (e *Engine) Drill(ctx context.Context, by string) ([]api.Drill, error) {
	var bays []*Bay
	for _, b := range e.Bays() {
		if b.outputs.Energised() {
			bays = append(bays, b)
		}
	}
	if err := e.drillable(bays); err != nil {
		return nil, err
	}
	e.Journal(store.JournalEntry{By: by, What: "warden drill", Detail: "the service gives no sign of life on purpose"})
	for _, b := range bays {
		b.forgetActed()
	}
	began := time.Now()
	e.mute.Store(began.Add(drillFor).UnixNano())
	defer e.mute.Store(0)
	var all []api.Drill
	for _, b := range bays {
		d, err := b.awaitWarden(ctx, began)
		if err != nil {
			e.passed(by, "", nil, err)
			return all, fmt.Errorf("%s: %w", b.name, err)
		}
		all = append(all, d)
	}
	e.passed(by, "", all, nil)
	return all, nil
}

// drillable says why the warden cannot be drilled in some bays.
func (e *Engine) drillable(bays []*Bay) error {
	switch {
	case e.options.Warden == nil:
		return fmt.Errorf("%w: this service has no warden; start it with usher serve", ErrNotReady)
	case !slices.ContainsFunc(bays, func(b *Bay) bool { return b.outputs.Energised() }):
		return fmt.Errorf("%w: nothing is energised, so there is nothing for the warden to do; switch an output on first",
			ErrNotReady)
	}
	return nil
}

// forgetActed forgets what an earlier drill left.
func (b *Bay) forgetActed() {
	select {
	case <-b.wardenActed:
	default:
	}
}

// awaitWarden waits until the warden has made the bay safe.
func (b *Bay) awaitWarden(ctx context.Context, began time.Time) (api.Drill, error) {
	timer := time.NewTimer(drillFor + time.Second)
	defer timer.Stop()
	select {
	case r := <-b.wardenActed:
		if r.Failed != "" {
			return api.Drill{}, fmt.Errorf("%w: the warden could not confirm: %s", ErrNotReady, r.Failed)
		}
		return api.Drill{Bay: b.name, OffAfter: r.At.Sub(began).Seconds(), Off: r.Done}, nil
	case <-ctx.Done():
		return api.Drill{}, ctx.Err()
	case <-timer.C:
		return api.Drill{},
			fmt.Errorf("%w: the warden did not act within %g s; end the run, switch the outputs off by hand, and look into "+
				"the service's log", ErrNotReady, (drillFor + time.Second).Seconds())
	}
}

// passed puts the result of a drill on record.
func (e *Engine) passed(by, bay string, all []api.Drill, err error) {
	if err != nil {
		e.Journal(store.JournalEntry{By: by, Bay: bay, What: "ALARM: warden drill failed", Detail: err.Error()})
		return
	}
	var words []string
	for _, d := range all {
		words = append(words, fmt.Sprintf("%s off after %.0f ms", d.Bay, d.OffAfter*1000))
	}
	e.Journal(store.JournalEntry{By: by, Bay: bay, What: drillPassed, Detail: strings.Join(words, ", ")})
}

// LastDrill is the entry of the last drill that the warden passed; nil if it never had one.
func (e *Engine) LastDrill() (*store.JournalEntry, error) {
	entries, err := e.store.JournalEntries(store.JournalFilter{What: drillPassed, Limit: 1})
	if err != nil || len(entries) == 0 {
		return nil, err
	}
	return &entries[0], nil
}

// stallIfAsked stands still for a drill.
func (b *Bay) stallIfAsked() {
	if b.drill.CompareAndSwap(true, false) {
		time.Sleep(drillFor)
	}
}
