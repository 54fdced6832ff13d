// Package outputs is the only code that energises. A [Switchboard] has the outputs of one bay: everything that
// switches one on, sets a level, or switches one off goes through it.
//
// There is one way on: [Switchboard.Apply] of a setting "output = on", by whoever owns the bay and has its [Permit].
// Before the message leaves, the warden is told that the bay is energised, and the instrument's own watchdog is armed
// where its dialect has one. If either, or the message itself, fails, the seat still counts as energised until it is
// read back as off. The permit is looked at before anything is done and last of all when it is the message's turn on
// its connection; with a void one nothing is set but "output = off".
//
// The ways off:
//
//   - [Switchboard.MakeSafe]: every seat with an output, what drains before what feeds before what connects, each read
//     back. Each is tried once before any is tried again, for [SafeWithin] in all. What cannot be confirmed raises the
//     alarm. The end of every run, every stop, every start of the service after a kill, and every run's beginning
//     lead here.
//   - [Switchboard.Retry]: goes on trying while there is an alarm.
//   - A setting "output = off": one seat, which is energised until it is read back as off.
//   - The instrument's watchdog, when nobody feeds it: [Switchboard.FeedWatchdogs] does, and only the goroutine that
//     looks after the bay calls that.
//   - The warden, a second process, when this one dies or stalls; it is told by [Options].Energised and by signs of
//     life that the bay's owner gives through [Options].Alive.
//
// A Switchboard belongs to the goroutine that looks after its bay. What others may ask at any time (the alarm, since
// when it is safe, what is in force, whether a seat is energised) is guarded.
package outputs

import (
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/instrument"
)

// Options are what a switchboard tells others.
type Options struct {
	// Bay names it in messages.
	Bay string
	// Energised tells the warden whether an output of the bay may be on; nil: there is no warden.
	Energised func(on bool)
	// Alive tells that the bay's goroutine does its work, and will be heard of again before the given time has passed;
	// nil: nobody wants to know.
	Alive func(next time.Duration)
	// Journal puts on record what was done to the outputs.
	Journal func(what, detail, runID string)
	// Go does something beside the bay's goroutine, which ends with the bay; nil: nobody waits for that.
	Go  func(func())
	Log *slog.Logger
}

// Switchboard has the outputs of one bay.
type Switchboard struct {
	options Options
	seats   []*Seat
	fed     map[*Member]*feeding   // of each armed watchdog; owned by the bay's goroutine
	permit  atomic.Pointer[Permit] // of whoever owns the bay

	mu        sync.Mutex // guards what follows
	alarm     string
	left      []*Seat                      // for which the alarm is
	safeSince time.Time                    // zero: something may be on
	byHand    bool                         // an output was switched on by hand and not made safe since
	settings  map[string]procedure.Setting // what was set last, by column; cleared for outputs that were made safe
}

// New makes the switchboard of a bay from what fills its seats. Nothing is switched.
func New(config map[string]api.SeatConfig, instruments map[string]*instrument.Instrument, o Options) *Switchboard {
	if o.Alive == nil {
		o.Alive = func(time.Duration) {}
	}
	if o.Go == nil {
		o.Go = func(do func()) { go do() }
	}
	s := &Switchboard{options: o, fed: map[*Member]*feeding{}, settings: map[string]procedure.Setting{}}
	for _, name := range slices.Sorted(maps.Keys(config)) {
		s.seats = append(s.seats, newSeat(name, config[name], instruments))
	}
	slices.SortStableFunc(s.seats, func(x, y *Seat) int { return seats.ShownBefore(x.Kind, y.Kind) })
	return s
}

// Seats lists the seats in the order in which they are shown.
func (s *Switchboard) Seats() []*Seat { return s.seats }

// Seat finds a seat; nil if there is none of that name.
func (s *Switchboard) Seat(name string) *Seat {
	i := slices.IndexFunc(s.seats, func(x *Seat) bool { return x.Name == name })
	if i < 0 {
		return nil
	}
	return s.seats[i]
}

// Names lists the seats by name, as they are shown.
func (s *Switchboard) Names() (names []string) {
	for _, x := range s.seats {
		names = append(names, x.Name)
	}
	return names
}

// OffOrder lists the seats that have an output in the order in which they are switched off.
func (s *Switchboard) OffOrder() []*Seat {
	order := slices.DeleteFunc(slices.Clone(s.seats), func(x *Seat) bool { return !x.Kind.HasOutput() })
	slices.SortStableFunc(order, func(x, y *Seat) int { return seats.OffBefore(x.Kind, y.Kind) })
	return order
}

// Energised tells whether an output of the bay may be on.
func (s *Switchboard) Energised() bool { return slices.ContainsFunc(s.seats, (*Seat).Energised) }

// Alarm says which output may still be on and what to do; empty if there is none.
func (s *Switchboard) Alarm() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.alarm
}

// Left are the seats for which the alarm is.
func (s *Switchboard) Left() []*Seat {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.left)
}

// TakeOver takes the alarm of the switchboard that was in this one's place, for those outputs that this one has too.
// The others are returned: nobody has them any more, and somebody must go on trying.
func (s *Switchboard) TakeOver(before *Switchboard) (strays []*Seat) {
	alarm := before.Alarm()
	if alarm == "" {
		return nil
	}
	var mine []*Seat
	for _, x := range before.Left() {
		if here := s.has(x); here != nil {
			mine = append(mine, here)
		} else {
			strays = append(strays, x)
		}
	}
	if len(mine) == 0 && len(strays) > 0 {
		return strays
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.alarm, s.left = alarm, mine
	return strays
}

// TakeUp takes up an alarm that was raised before this switchboard was made, for all of its outputs.
func (s *Switchboard) TakeUp(alarm string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.alarm, s.left = alarm, s.OffOrder()
}

// has finds the seat that has all channels of one that was.
func (s *Switchboard) has(x *Seat) *Seat {
	for _, here := range s.seats {
		all := here.Kind.HasOutput()
		for _, m := range x.Members {
			all = all && slices.ContainsFunc(here.Members, func(h *Member) bool {
				return h.Number == m.Number && h.Address.Place() == m.Address.Place()
			})
		}
		if all {
			return here
		}
	}
	return nil
}

// SafeSince is when the outputs were last confirmed off; zero while they may be on.
func (s *Switchboard) SafeSince() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.safeSince
}

// InUse notes that outputs may go on from now on, for a run or by hand.
func (s *Switchboard) InUse(byHand bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.safeSince = time.Time{}
	s.byHand = s.byHand || byHand
}

// ByHand tells whether an output was switched on by hand and not made safe since.
func (s *Switchboard) ByHand() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.byHand
}

// InForce is what was set last on a column; ok is false if nothing was.
func (s *Switchboard) InForce(column string) (setting procedure.Setting, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	setting, ok = s.settings[column]
	return setting, ok
}
