package outputs

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/instrument"
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

// MakeSafe switches the outputs of the bay off and reads each back. All are switched off side by side, each as soon as
// those that go before it are off or have had their head start: one that does not answer holds up no other. Every way
// out of a run leads here. An output that cannot be confirmed off within SafeWithin is named in the error. why goes to
// the journal, for which nobody waits.
func (s *Switchboard) MakeSafe(why, runID string) error {
	ctx, cancel := context.WithTimeout(context.Background(), SafeWithin)
	defer cancel()
	s.options.Alive(SafeWithin)
	done, left, err := s.switchOff(ctx)
	what, detail := MadeSafe, strings.Join(done, ", ")
	if err != nil {
		what = NotConfirmed
		detail = strings.TrimPrefix(detail+"; "+strings.ReplaceAll(err.Error(), "\n", "; "), "; ")
	} else {
		s.disarmWatchdogs(ctx)
	}
	s.note(left, err)
	s.options.Journal(what, why+": "+detail, runID)
	return err
}

// headStart is how long what is switched off later waits for what goes before it, if that takes its time: a load is
// off before its supply, but a load that is lost keeps no supply on.
const headStart = 50 * time.Millisecond

// switchOff tries every seat until it is confirmed off or the time is up, at least once. It tells what was done, which
// seats are left, and why those are not confirmed off. What goes off first is switched by the caller itself: no other
// goroutine has to wake for it.
func (s *Switchboard) switchOff(ctx context.Context) (done []string, left []*Seat, err error) {
	order := s.OffOrder()
	problems := make([]error, len(order))
	ranks := ranksOf(order)
	over := make([]chan struct{}, len(ranks)) // closed when a rank is off or given up
	for i := range over {
		over[i] = make(chan struct{})
	}
	began := time.Now()
	var later sync.WaitGroup
	for i := 1; i < len(ranks); i++ {
		later.Go(func() {
			defer close(over[i])
			awaitTurn(ctx, began.Add(time.Duration(i)*headStart), over[:i])
			ranks[i].off(ctx, order, problems)
		})
	}
	if len(ranks) > 0 {
		ranks[0].off(ctx, order, problems)
		close(over[0])
	}
	later.Wait()
	var errs []error
	for i, x := range order {
		if problems[i] == nil {
			done = append(done, x.Name+" off")
			continue
		}
		left = append(left, x)
		errs = append(errs, x.notConfirmed(problems[i]))
	}
	return done, left, errors.Join(errs...)
}

// rank are the seats of an order, from one to another, that are switched off side by side.
type rank struct{ from, to int }

func ranksOf(order []*Seat) (ranks []rank) {
	for i := range order {
		if i == 0 || seats.OffBefore(order[i-1].Kind, order[i].Kind) != 0 {
			ranks = append(ranks, rank{i, i})
		}
		ranks[len(ranks)-1].to = i + 1
	}
	return ranks
}

// off switches the seats of the rank off, and notes what keeps one from being confirmed.
func (r rank) off(ctx context.Context, order []*Seat, problems []error) {
	var others sync.WaitGroup
	for i := r.from + 1; i < r.to; i++ {
		others.Go(func() { problems[i] = order[i].keepSwitchingOff(ctx) })
	}
	problems[r.from] = order[r.from].keepSwitchingOff(ctx)
	others.Wait()
}

// awaitTurn waits until those before are over, or have had their head start.
func awaitTurn(ctx context.Context, latest time.Time, before []chan struct{}) {
	timer := time.NewTimer(time.Until(latest))
	defer timer.Stop()
	for _, over := range before {
		select {
		case <-over:
		case <-timer.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

// notConfirmed words why the seat may still be on.
func (x *Seat) notConfirmed(why error) error {
	return fmt.Errorf("%s (%s) is not confirmed off: %w", x.Name, x.Channels(), why)
}

// keepSwitchingOff tries until the seat is confirmed off or the time is up. The error says why it is not.
func (x *Seat) keepSwitchingOff(ctx context.Context) (problem error) {
	for {
		err := x.switchOff(ctx)
		if err == nil {
			return nil
		}
		if problem == nil || !instrument.TimeIsUp(err) {
			problem = err // that the time is up says less than why the attempt before failed
		}
		if wait(ctx, retryAfter); ctx.Err() != nil {
			return problem
		}
	}
}

// Retry tries once more to make safe a bay with an alarm: every seat, whatever becomes of the others. The alarm stays
// for those that are still not confirmed off; only success goes to the journal.
func (s *Switchboard) Retry(ctx context.Context) {
	if s.Alarm() == "" || !s.SafeSince().IsZero() {
		return
	}
	attempt, cancel := context.WithTimeout(ctx, SafeWithin)
	defer cancel()
	s.options.Alive(SafeWithin)
	var errs []error
	var left []*Seat
	for _, x := range s.OffOrder() {
		if err := x.switchOff(attempt); err != nil {
			left, errs = append(left, x), append(errs, x.notConfirmed(err))
		}
	}
	err := errors.Join(errs...)
	if err == nil {
		s.disarmWatchdogs(attempt)
	}
	s.note(left, err)
	if err == nil {
		s.options.Journal(MadeSafe, "the instruments answer again, every output is read back as off", "")
	}
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

// note keeps that the outputs were confirmed off, or raises the alarm for those that are left.
func (s *Switchboard) note(left []*Seat, err error) {
	if err == nil && s.options.Energised != nil {
		s.options.Energised(false)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.left = left
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

// StillOn tells whether every output that was switched on reads back as on: nobody else has switched one off.
func (s *Switchboard) StillOn(ctx context.Context) bool {
	for _, x := range s.OffOrder() {
		if !x.Energised() {
			continue
		}
		for _, m := range x.Members {
			if on, err := m.drive.OutputOn(ctx); !on || err != nil {
				return false
			}
		}
	}
	return true
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
