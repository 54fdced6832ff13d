package engine

import (
	"fmt"
	"math"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/store"
)

// What is on by hand has a net too. While nobody's run looks after the bay, its goroutine makes it safe when an
// instrument is lost, when a reading leaves the windows of the nameplate, and when nobody has said for some time that
// they are still there.

// handNet is what watches over outputs that were switched on by hand.
type handNet struct {
	bounds map[string]nameplate.Window // of readings, by column
	since  time.Time                   // when somebody last set something or said that they are there
}

const (
	// askBefore is how long before outputs that are on by hand go off somebody is asked whether they are still there.
	askBefore = time.Minute
	// beyond is how far a reading may lie outside its window, as a share of the window's larger end: windows are meant
	// for setpoints, and readings have their errors.
	beyond = 0.05
)

// boundsByHand are the windows that readings are held against: setpoints from above, and the volts of a battery at
// rest from both sides.
func boundsByHand(plate *nameplate.Nameplate) map[string]nameplate.Window {
	bounds := map[string]nameplate.Window{}
	widened := func(w nameplate.Window) nameplate.Window {
		slack := beyond * math.Max(math.Abs(w.Min), math.Abs(w.Max))
		return nameplate.Window{Min: w.Min - slack, Max: w.Max + slack}
	}
	for column, w := range plate.Windows {
		w = widened(w)
		w.Min = math.Inf(-1)
		bounds[column] = w
	}
	if !plate.Battery() {
		return bounds
	}
	for column, w := range plate.AtRest {
		rest := widened(w)
		if set, ok := bounds[column]; ok {
			rest.Max = math.Max(rest.Max, set.Max)
		}
		bounds[column] = rest
	}
	return bounds
}

// somebodyIsThere starts the time anew after which outputs that are on by hand go off.
func (b *Bay) somebodyIsThere() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.net.since = time.Now()
}

// StillThere is what somebody says whose outputs are on by hand. ErrIdle if none are.
func (b *Bay) StillThere(by string) error {
	if !b.outputs.ByHand() {
		return fmt.Errorf("%w: nothing is on by hand in %s", ErrIdle, b.name)
	}
	b.somebodyIsThere()
	b.engine.Journal(store.JournalEntry{By: by, Bay: b.name, What: "still there"})
	b.publish()
	return nil
}

// offAt is when outputs that are on by hand go off by themselves; the zero time if they do not. The bay's mutex is
// held.
func (b *Bay) offAt() time.Time {
	after := time.Duration(b.config.HandFor)
	if after <= 0 || !b.outputs.ByHand() || b.run != nil {
		return time.Time{}
	}
	return b.net.since.Add(after)
}

// stillThere asks whether somebody is still there, when it is time; nil: it is not.
func (b *Bay) stillThere() *api.StillThere {
	off := b.offAt()
	if off.IsZero() || time.Until(off) > askBefore {
		return nil
	}
	return &api.StillThere{OffAt: off}
}

// watchByHand makes the bay safe when what is on by hand can no longer be left on.
func (b *Bay) watchByHand(values []float64) {
	if !b.outputs.ByHand() || !b.outputs.Energised() || b.outputs.Alarm() != "" {
		return
	}
	b.mu.Lock()
	why := b.unsafeByHand(values)
	b.mu.Unlock()
	if why == "" {
		return
	}
	_ = b.outputs.MakeSafe("by hand: "+why, "") // the bay keeps an alarm
	h := &api.Held{Why: "what was on by hand was switched off: " + why, By: "service", At: b.engine.store.Now()}
	b.hold(h)
	b.engine.journal.Add(store.JournalEntry{By: "service", Bay: b.name, What: "what was on by hand was switched off",
		Detail: why})
}

// unsafeByHand says why what is on by hand must go off; empty: it may stay on. The bay's mutex is held.
func (b *Bay) unsafeByHand(values []float64) string {
	if trouble := b.sampler.Trouble(b.net.since, time.Duration(b.config.LostAfter)); trouble != "" {
		return trouble
	}
	for _, trip := range b.sampler.Trips() {
		return trip.Words
	}
	for i, column := range b.sampler.Columns {
		w, bound := b.net.bounds[column]
		if !bound || math.IsNaN(values[i]) || w.Holds(values[i]) {
			continue
		}
		_, name, _ := strings.Cut(column, ".")
		kind, _ := quantity.KindOf(name)
		return fmt.Sprintf("%s reads %s, outside the window of the nameplate", column, show(values[i], kind.Unit.Dim))
	}
	if off := b.offAt(); !off.IsZero() && time.Now().After(off) {
		return fmt.Sprintf("nobody has said for %s that they are still there", time.Duration(b.config.HandFor))
	}
	return ""
}
