package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/store"
)

// Words of the journal that the start of the service looks for.
const (
	madeSafe  = "made safe"
	setByHand = "set by hand"
)

// leftOnByHand tells whether the journal has an output switched on by hand that was not made safe since.
func (b *Bay) leftOnByHand() (bool, error) {
	entries, err := b.engine.store.JournalEntries(store.JournalFilter{Bay: b.name, Limit: 1000})
	for _, e := range entries { // newest first
		switch {
		case e.What == madeSafe:
			return false, nil
		case e.What == setByHand && strings.HasSuffix(e.Detail, "output = on"):
			return true, nil
		}
	}
	return false, err
}

// safeWithin bounds how long make safe tries to confirm an output, wall time.
const safeWithin = 3 * time.Second

// makeSafe switches the outputs of the bay off, what drains first, and reads each back. Every way out of a run
// leads here. An output that cannot be confirmed off is named in the error, after safeWithin; the others are
// off long before, since each is tried once before any is tried again. why goes to the journal.
func (b *Bay) makeSafe(why, runID string) error {
	ctx, cancel := context.WithTimeout(context.Background(), safeWithin)
	defer cancel()
	order := b.offOrder()
	b.alive(safeWithin)
	problems := map[*seat]error{}
	var confirmed []string
	for round := 0; round == 0 || len(order) > 0 && ctx.Err() == nil; round++ {
		if round > 0 {
			b.engine.pause(ctx, 100*time.Millisecond)
		}
		order = slices.DeleteFunc(order, func(x *seat) bool {
			err := x.switchOff(ctx)
			if err == nil {
				x.energised.Store(false)
				confirmed = append(confirmed, x.name+" off")
				delete(problems, x)
				return true
			}
			if problems[x] == nil || !errors.Is(err, context.DeadlineExceeded) && !errors.Is(err, os.ErrDeadlineExceeded) {
				problems[x] = err // that the time is up says less than why the attempt before failed
			}
			return false
		})
	}
	detail := strings.Join(confirmed, ", ")
	var errs []error
	for x, err := range problems {
		errs = append(errs, fmt.Errorf("%s (%s) is not confirmed off: %w", x.name, x.channels(), err))
	}
	err := errors.Join(errs...)
	what := madeSafe
	if err != nil {
		what = "ALARM: make safe not confirmed"
		detail = strings.TrimPrefix(detail+"; "+strings.ReplaceAll(err.Error(), "\n", "; "), "; ")
	}
	if err == nil {
		b.disarmWatchdogs(ctx)
	}
	b.setSafe(err)
	b.engine.journal(store.JournalEntry{By: "service", Bay: b.name, RunID: runID, What: what, Detail: why + ": " + detail})
	return err
}

// setSafe notes that the outputs were confirmed off, or raises the alarm.
func (b *Bay) setSafe(err error) {
	if w := b.engine.options.Warden; err == nil && w != nil {
		w.Energised(b.name, false)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, x := range b.seats {
		if x.kind.HasOutput() && !x.energised.Load() {
			b.settings[x.name+".output"] = procedure.Setting{Seat: x.name, Quantity: seats.Output, Word: seats.Off}
		}
	}
	if err != nil {
		b.alarm = fmt.Sprintf("An output may still be on: %s. Switch it off at the instrument and check its connection; "+
			"the bay goes on trying.",
			strings.ReplaceAll(err.Error(), "\n", "; "))
		b.safeSince = time.Time{}
		return
	}
	b.alarm, b.byHand = "", false
	b.safeSince = time.Now()
}
