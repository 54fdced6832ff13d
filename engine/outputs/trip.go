package outputs

import (
	"context"
	"fmt"
	"time"
)

// An output can go off without anybody having asked for it: a protection of the instrument trips, an under-voltage
// lockout acts, somebody presses the button. What is measured then says little about the unit. So a channel whose
// output was switched on is asked every lookEvery, after a reading, whether it still is; an answer that says no is
// believed when a second one, lookAgain later, says the same.
const (
	lookEvery = time.Second
	lookAgain = 250 * time.Millisecond
)

// Trip is an output that went off without a command.
type Trip struct {
	Seat  *Seat
	Words string // which channel, and what it says of itself
	turn  int64  // of the seat, when it was found
}

// trips is what a channel knows of its output while that is on. It belongs to the channel's reader, but for found.
type trips struct {
	looked time.Time // when the output was last asked for
	doubt  int64     // since when the output was on that did not look so, Unix ns; 0: no doubt
}

// isOn notes that the output was switched on, and all its channels have taken the command.
func (x *Seat) isOn() { x.onSince.Store(time.Now().UnixNano()) }

// goesOff notes that the output is about to be switched, off or on again: what it reads back as says nothing now.
// A trip that was found before belongs to what is over.
func (x *Seat) goesOff() {
	x.onSince.Store(0)
	x.turn.Add(1)
}

// lookForTrip asks a channel whose output was switched on whether it still is, when it is time.
func (m *Member) lookForTrip(ctx context.Context) {
	turn, since := m.seat.turn.Load(), m.seat.onSince.Load()
	every := lookEvery
	if m.trips.doubt == since {
		every = lookAgain
	}
	now := time.Now()
	if since == 0 || now.Sub(time.Unix(0, since)) < lookEvery || now.Sub(m.trips.looked) < every {
		return
	}
	m.trips.looked = now
	words, err := m.offByItself(ctx)
	if words != "" { // one that has fallen out of step says so too, by the answer to another question
		_, err = m.drive.Identify(ctx)
	}
	if err != nil || m.seat.onSince.Load() != since { // meanwhile it was switched, and by us
		return
	}
	switch {
	case words == "":
		m.trips.doubt = 0
	case m.trips.doubt != since:
		m.trips.doubt = since
	case m.seat.onSince.CompareAndSwap(since, 0):
		m.trips.doubt = 0
		m.seat.trip.Store(&Trip{m.seat, words, turn})
	}
}

// offByItself says what is with an output that should be on; empty: it is on.
func (m *Member) offByItself(ctx context.Context) (words string, err error) {
	which := fmt.Sprintf("%s (channel %d of %s)", m.seat.Name, m.Number, m.Name)
	tripped, err := m.drive.Tripped(ctx)
	if err != nil {
		return "", err
	}
	if tripped {
		return "a protection of " + which + " has tripped", nil
	}
	on, err := m.drive.OutputOn(ctx)
	if err != nil || on {
		return "", err
	}
	return "the output of " + which + " reads back as off, though nobody switched it off here", nil
}

// Trips gives every trip once.
func (s *Sampler) Trips() (found []Trip) {
	for _, x := range s.seats {
		if t := x.trip.Swap(nil); t != nil && t.turn == x.turn.Load() && x.Energised() {
			found = append(found, *t)
		}
	}
	return found
}
