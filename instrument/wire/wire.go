// Package wire is the one connection to an instrument, whatever it speaks: taken in turns, made when it is first used
// and again after a loss, given up when an answer did not come, so that a late answer is never taken for the next
// question's.
package wire

import (
	"context"
	"errors"
	"fmt"
	"time"

	"usherbench/instrument/lane"
	"usherbench/instrument/messages"
	"usherbench/instrument/transport"
)

const (
	pauseOnLoss = 200 * time.Millisecond
	// longestPause bounds the pause after repeated losses on a line that others use too.
	longestPause = 2 * time.Second
	// leftAlone is after which silence nobody has noticed that a connection was lost.
	leftAlone = time.Second
)

// ErrClosed is returned after Close.
var ErrClosed = errors.New("the connection was closed")

// Wire is a connection to an instrument.
type Wire struct {
	Address transport.Address
	Trace   messages.Trace
	// Lane is taken for the length of an exchange; it guards what follows.
	Lane lane.Lane
	Link transport.Link // nil: not connected

	closed bool
	// notBefore is when the next attempt to connect may begin, after one that failed.
	notBefore time.Time
	failures  int
	lastError error
	wellAt    time.Time // when the instrument has answered last
}

// Connected tells whether there is a connection, as far as is known.
func (w *Wire) Connected() bool { return w.Link != nil }

// Connect connects if there is no connection.
func (w *Wire) Connect(ctx context.Context, by time.Time) error {
	switch {
	case w.closed:
		return ErrClosed
	case w.Connected():
		return nil
	case time.Now().Before(w.notBefore) && !messages.IsUrgent(ctx):
		return fmt.Errorf("%s is not connected: %w", w.Address, w.lastError)
	}
	dial, cancel := context.WithDeadline(ctx, by)
	defer cancel()
	at := time.Now()
	link, err := transport.Open(dial, w.Address)
	if err != nil {
		w.Trace.Note(at, "(connect)", "", err)
		w.putOff(err)
		return err
	}
	if err := w.clear(link, by); err != nil {
		err = errors.Join(err, link.Close())
		w.Trace.Note(at, "(clear)", "", err)
		w.putOff(err)
		return err
	}
	w.Trace.Connected()
	w.Link, w.notBefore = link, time.Time{}
	return nil
}

// clear has an instrument forget what was left of an exchange that failed, where the link can ask for that.
func (w *Wire) clear(link transport.Link, by time.Time) error {
	clearer, can := link.(transport.Clearer)
	if !can || w.failures == 0 {
		return nil
	}
	if err := link.SetDeadline(by); err != nil {
		return err
	}
	return clearer.Clear()
}

// Within is when an exchange must be over that may take so long.
func Within(ctx context.Context, within time.Duration) time.Time {
	by := time.Now().Add(within)
	if d, ok := ctx.Deadline(); ok && d.Before(by) {
		return d
	}
	return by
}

// Well says when the instrument has answered.
func (w *Wire) Well(at time.Time) { w.failures, w.wellAt = 0, at }

// Lose closes the connection after an exchange that failed; shown is the message, empty if there was none.
func (w *Wire) Lose(shown string, err error) error {
	w.drop()
	w.putOff(err)
	if shown == "" {
		return fmt.Errorf("%s: %w", w.Address, err)
	}
	return fmt.Errorf("%s: no answer to %q: %w", w.Address, shown, err)
}

// GiveUp closes the connection when it is its turn, because what comes over it cannot be relied on.
func (w *Wire) GiveUp() {
	leave, err := w.Lane.Take(context.Background())
	if err != nil {
		return
	}
	defer leave()
	w.drop()
}

func (w *Wire) drop() {
	if w.Link != nil {
		_ = w.Link.Close() // it is already of no use
		w.Link = nil
		w.Trace.Lost()
	}
}

// putOff delays the next attempt; on a line that others share longer each time, so that a dead instrument does not
// take their turns. A connection that was lost while nobody spoke says nothing about the instrument: it is made
// again at once.
func (w *Wire) putOff(err error) {
	w.failures++
	pause := pauseOnLoss
	if w.failures == 1 && !w.wellAt.IsZero() && time.Since(w.wellAt) > leftAlone {
		pause = 0
	}
	if w.Address.IsSerial() {
		pause = min(pauseOnLoss<<min(w.failures-1, 8), longestPause)
	}
	w.notBefore, w.lastError = time.Now().Add(pause), err
}

// Close ends the connection; later messages fail with ErrClosed.
func (w *Wire) Close() error {
	leave, err := w.Lane.Take(context.Background())
	if err != nil {
		return err
	}
	defer leave()
	w.closed = true
	if w.Link == nil {
		return nil
	}
	err = w.Link.Close()
	w.Link = nil
	return err
}
