// Package lane lets one at a time use what several want: a connection, a serial line. What makes safe goes first.
package lane

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"usherbench/instrument/messages"
)

// Lane is used by one at a time. Whoever is in it finishes; then those who make safe ([messages.Urgent]) go before all
// others, and each kind in the order in which it came. Nobody waits longer than its context allows. The zero value is
// free; it is safe for use by several goroutines, and no lock of it is held while somebody waits.
type Lane struct {
	mu     sync.Mutex // guards what follows
	taken  bool
	urgent []chan struct{}
	usual  []chan struct{}
	giveUp func() // release, made once
}

// Take waits for the lane, and returns what gives it back. The error is why the context ended.
func (l *Lane) Take(ctx context.Context) (release func(), err error) {
	turn, release := l.join(messages.IsUrgent(ctx))
	if turn == nil {
		return release, nil
	}
	select {
	case <-turn:
		return release, nil
	case <-ctx.Done():
	}
	if !l.leave(turn) { // the turn came in the same instant
		l.release()
	}
	return nil, fmt.Errorf("its turn did not come in time: %w", context.Cause(ctx))
}

// Enter waits for the lane, however long that takes.
func (l *Lane) Enter() (leave func()) {
	leave, _ = l.Take(context.Background()) // which never ends
	return leave
}

// join takes the lane if it is free, or else a place in the queue.
func (l *Lane) join(urgent bool) (turn chan struct{}, release func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.giveUp == nil {
		l.giveUp = l.release
	}
	if !l.taken {
		l.taken = true
		return nil, l.giveUp
	}
	turn = make(chan struct{}, 1)
	if urgent {
		l.urgent = append(l.urgent, turn)
	} else {
		l.usual = append(l.usual, turn)
	}
	return turn, l.giveUp
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
	l.taken = false
}
