package outputs

import (
	"context"
	"time"

	"usherbench/core/procedure"
	"usherbench/core/seats"
)

// afterwards is how soon after a command the bay's goroutine is heard of again.
const afterwards = 350 * time.Millisecond

// Apply carries out a setting on every channel of a seat: the one way on. It needs the permit of whoever owns the
// bay, but for "output = off". The warden knows of an output before it goes on. On an error the seat counts as
// energised if it did before or was to be.
func (s *Switchboard) Apply(ctx context.Context, x *Seat, setting procedure.Setting) error {
	off := setting.Quantity == seats.Output && setting.Word == seats.Off
	if !off {
		permit, err := s.permitted()
		if err != nil {
			return err
		}
		var cancel context.CancelFunc
		ctx, cancel = permit.Join(ctx)
		defer cancel()
	}
	s.options.Alive(x.Within() + JoinWait)
	defer s.options.Alive(afterwards)
	if setting.Quantity == seats.Output {
		x.goesOff()
	}
	if setting.Quantity == seats.Output && setting.Word == seats.On {
		if err := x.closed(ctx); err != nil {
			return err
		}
		if err := s.energise(ctx, x); err != nil {
			return err
		}
	}
	if err := x.apply(ctx, setting); err != nil {
		return err
	}
	s.mu.Lock()
	s.settings[setting.Column()] = setting
	s.mu.Unlock()
	switch {
	case off:
		s.settle(ctx, x)
	case setting.Quantity == seats.Output:
		x.isOn()
	}
	return nil
}

// energise prepares for an output to go on: from here on it counts as on.
func (s *Switchboard) energise(ctx context.Context, x *Seat) error {
	x.energised.Store(true)
	if s.options.Energised != nil {
		s.options.Energised(true)
	}
	return s.armWatchdogs(ctx, x)
}

// armWatchdogs arms the watchdog of every channel of a seat whose dialect has one.
func (s *Switchboard) armWatchdogs(ctx context.Context, x *Seat) error {
	for _, m := range x.Members {
		if !m.Dialect.Watchdog.Arm.Exists() {
			continue
		}
		if err := m.drive.ArmWatchdog(ctx); err != nil {
			return err
		}
		s.fed[m] = &feeding{at: time.Now()}
	}
	return nil
}

// feeding is how an armed watchdog is fed.
type feeding struct {
	at time.Time // when it was fed last
	// over is told whether a message to it has arrived; nil: none is under way.
	over chan bool
}

// FeedWatchdogs feeds those that are armed, in time. A watchdog without a message of its own is fed by every reading.
// It waits for no instrument: a bay looks after itself whether or not one answers.
func (s *Switchboard) FeedWatchdogs(ctx context.Context) {
	for m, f := range s.fed {
		w := m.Dialect.Watchdog
		select {
		case arrived := <-f.over:
			if f.over = nil; arrived {
				f.at = time.Now()
			}
		default:
		}
		if f.over != nil || !w.Feed.Exists() || time.Since(f.at) < w.After/4 {
			continue
		}
		over := make(chan bool, 1)
		f.over = over
		s.options.Go(func() {
			attempt, cancel := context.WithTimeout(ctx, m.Dialect.Within)
			defer cancel()
			over <- m.drive.Send(attempt, "feed the watchdog", w.Feed, w.Feed.Word) == nil
		})
	}
}

// disarmWatchdogs ends the watch over channels that are off.
func (s *Switchboard) disarmWatchdogs(ctx context.Context) {
	for m, f := range s.fed {
		if f.over != nil {
			<-f.over // nothing is sent to it after it is disarmed
		}
		if err := m.drive.DisarmWatchdog(ctx); err != nil {
			s.options.Log.Warn("disarm a watchdog", "instrument", m.Name, "err", err)
		}
		delete(s.fed, m)
	}
}
