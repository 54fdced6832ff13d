package outputs

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
)

// What the journal says of outputs that were made safe, and of some that could not be.
const (
	MadeSafe     = "made safe"
	NotConfirmed = "ALARM: make safe not confirmed"
)

// SafeWithin bounds how long make safe tries to confirm an output, wall time; between rounds it waits for retryAfter.
const (
	SafeWithin = 3 * time.Second
	retryAfter = 100 * time.Millisecond
)

// MakeSafe switches the outputs of the bay off, what drains first, and reads each back. Every way out of a run leads
// here. An output that cannot be confirmed off is named in the error, after SafeWithin; the others are off long
// before, since each is tried once before any is tried again. why goes to the journal.
func (s *Switchboard) MakeSafe(why, runID string) error {
	ctx, cancel := context.WithTimeout(context.Background(), SafeWithin)
	defer cancel()
	s.options.Alive(SafeWithin)
	done, err := s.switchOff(ctx)
	what, detail := MadeSafe, strings.Join(done, ", ")
	if err != nil {
		what = NotConfirmed
		detail = strings.TrimPrefix(detail+"; "+strings.ReplaceAll(err.Error(), "\n", "; "), "; ")
	} else {
		s.disarmWatchdogs(ctx)
	}
	s.note(err)
	s.options.Journal(what, why+": "+detail, runID)
	return err
}

// switchOff tries every seat once, then again those that could not be confirmed, until the time is up. It tells what
// was done, and why an output is not confirmed off.
func (s *Switchboard) switchOff(ctx context.Context) (done []string, err error) {
	open := s.OffOrder()
	problems := map[*Seat]error{}
	for round := 0; round == 0 || len(open) > 0 && ctx.Err() == nil; round++ {
		if round > 0 {
			wait(ctx, retryAfter)
		}
		open = slices.DeleteFunc(open, func(x *Seat) bool {
			err := x.switchOff(ctx)
			if err == nil {
				done = append(done, x.Name+" off")
				delete(problems, x)
				return true
			}
			if problems[x] == nil || !timeIsUp(err) {
				problems[x] = err // that the time is up says less than why the attempt before failed
			}
			return false
		})
	}
	var errs []error
	for _, x := range open {
		errs = append(errs, fmt.Errorf("%s (%s) is not confirmed off: %w", x.Name, x.Channels(), problems[x]))
	}
	return done, errors.Join(errs...)
}

func timeIsUp(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded)
}

// Retry tries once more to make safe a bay with an alarm; only success goes to the journal.
func (s *Switchboard) Retry(ctx context.Context) {
	if s.Alarm() == "" || !s.SafeSince().IsZero() {
		return
	}
	attempt, cancel := context.WithTimeout(ctx, SafeWithin)
	defer cancel()
	s.options.Alive(SafeWithin)
	for _, x := range s.OffOrder() {
		if err := x.switchOff(attempt); err != nil {
			return
		}
	}
	s.disarmWatchdogs(attempt)
	s.note(nil)
	s.options.Journal(MadeSafe, "the instruments answer again, every output is read back as off", "")
}

// settle takes a seat that reads back as off for not energised any longer.
func (s *Switchboard) settle(ctx context.Context, x *Seat) {
	for _, m := range x.Members {
		if on, err := m.drive.OutputOn(ctx); on || err != nil {
			return // it may be on; make safe will see to it
		}
	}
	x.energised.Store(false)
	if s.Energised() {
		return
	}
	s.disarmWatchdogs(ctx)
	if s.options.Energised != nil {
		s.options.Energised(false)
	}
}

// note keeps that the outputs were confirmed off, or raises the alarm.
func (s *Switchboard) note(err error) {
	if err == nil && s.options.Energised != nil {
		s.options.Energised(false)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.seats {
		if x.Kind.HasOutput() && !x.Energised() {
			off := procedure.Setting{Seat: x.Name, Quantity: seats.Output, Word: seats.Off}
			s.settings[off.Column()] = off
		}
	}
	if err != nil {
		s.alarm = fmt.Sprintf("An output may still be on: %s. Switch it off at the instrument and check its connection; "+
			"the bay goes on trying.", strings.ReplaceAll(err.Error(), "\n", "; "))
		s.safeSince = time.Time{}
		return
	}
	s.alarm, s.byHand = "", false
	s.safeSince = time.Now()
}

// FoundOn tells whether an output reads back as on.
func (s *Switchboard) FoundOn(ctx context.Context) bool {
	for _, x := range s.OffOrder() {
		for _, m := range x.Members {
			if on, err := m.drive.OutputOn(ctx); err == nil && on {
				return true
			}
		}
	}
	return false
}

// wait waits, or less if the context ends.
func wait(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}
