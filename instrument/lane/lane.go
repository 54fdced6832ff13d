// Package lane lets one at a time use what several want: a connection, a serial line. What makes safe goes first.
package lane

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"usherbench/instrument/messages"
)

// Lane is used by one at a time. Whoever is in it finishes; then those who make safe ([messages.Urgent]) go before all
// others, and each kind in the order in which it came. Nobody waits longer than its context allows. The zero value is
// free; it is safe for use by several goroutines, and no lock of it is held while somebody waits.
type Lane struct {
	taken  atomic.Bool // given back only under mu, so that nobody joins the queue of a free lane
	giveUp func()      // release, made once by who is in the lane
	mu     sync.Mutex  // guards what follows
	urgent []chan struct{}
	usual  []chan struct{}
}

// Take waits for the lane, and returns what gives it back. The error is why the context ended.
func (l *Lane) Take(ctx context.Context) (release func(), err error) {
	if l.taken.CompareAndSwap(false, true) { // as nearly always
		return l.entered(), nil
	}
	turn := l.join(messages.IsUrgent(ctx))
	if turn == nil {
		return l.entered(), nil
	}
	select {
	case <-turn:
		return l.entered(), nil
	case <-ctx.Done():
	}
	if !l.leave(turn) { // the turn came in the same instant
		l.release()
	}
	return nil, fmt.Errorf("its turn did not come in time: %w", context.Cause(ctx))
}

// entered is how whoever is in the lane gives it back.
func (l *Lane) entered() (release func()) {
	if l.giveUp == nil {
		l.giveUp = l.release
	}
	return l.giveUp
}

// Enter waits for the lane, however long that takes.
func (l *Lane) Enter() (leave func()) {
	leave, _ = l.Take(context.Background()) // which never ends
	return leave
}

// join takes the lane if it has become free, or else a place in the queue.
func (l *Lane) join(urgent bool) (turn chan struct{}) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.taken.CompareAndSwap(false, true) {
		return nil
	}
	turn = make(chan struct{}, 1)
	if urgent {
		l.urgent = append(l.urgent, turn)
	} else {
		l.usual = append(l.usual, turn)
	}
	return turn
}

// leave gives up a place in the queue; false: the turn has come.
func (l *Lane) leave(turn chan struct{}) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, queue := range []*[]chan struct{}{&l.urgent, &l.usual} {
		if i := slices.Index(*queue, turn); i >= 0 {
			*queue = slices.Delete(*queue, i, i+1)
			return true
		}
	}
	return false
}

// release gives the lane to who is next.
func (l *Lane) release() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, queue := range []*[]chan struct{}{&l.urgent, &l.usual} {
		if len(*queue) > 0 {
			next := (*queue)[0]
			*queue = slices.Delete(*queue, 0, 1)
			next <- struct{}{}
			return
		}
	}
	l.taken.Store(false)
}
