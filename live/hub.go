// Package live hands what happens to everyone who watches: a [Hub] of events that remembers the last ones.
package live

import (
	"encoding/json"
	"sync"
	"time"
)

// Event is something that happened, for everyone who watches. IDs grow by one.
type Event struct {
	ID   uint64
	Kind string
	Bay  string
	Data []byte // JSON
}

// Hub hands events to subscribers and remembers the last ones, so that a subscriber that comes back misses
// nothing. Publishing never waits: a subscriber that does not keep up is cut off and comes back with the id it
// saw last.
type Hub struct {
	mu      sync.Mutex
	next    uint64
	recent  []Event // ring, next write at next%len
	clients map[*Subscription]bool
	left    time.Time // when the last of them left; zero: there was none yet
}

// Subscription is one watcher's stream. C is closed when the watcher fell too far behind or Close was called.
type Subscription struct {
	C   chan Event
	hub *Hub
	bay string // only what happens there, and to everybody; empty: everything
}

const (
	remembered = 8192
	behind     = 1024
	// mayComeBack is for how long what happens is remembered for watchers who left: a browser whose connection broke.
	mayComeBack = time.Minute
)

// NewHub makes an empty hub. IDs begin at first, which should be larger than any id before a restart.
func NewHub(first uint64) *Hub {
	return &Hub{next: first, recent: make([]Event, 0, remembered), clients: map[*Subscription]bool{}}
}

// Publish sends an event to all subscribers. A value that cannot be written as JSON is a mistake in the program
// and is dropped.
func (h *Hub) Publish(kind, bay string, value any) {
	h.PublishMade(kind, bay, func() any { return value })
}

// PublishMade is Publish of a value that is made only if somebody watches.
func (h *Hub) PublishMade(kind, bay string, make func() any) {
	if h.unwatched() {
		return
	}
	data, err := json.Marshal(make())
	if err != nil {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	e := Event{h.next, kind, bay, data}
	h.next++
	if len(h.recent) < remembered {
		h.recent = append(h.recent, e)
	} else {
		copy(h.recent, h.recent[remembered/2:])
		h.recent = append(h.recent[:remembered/2], e)
	}
	for s := range h.clients {
		if !s.wants(e) {
			continue // what nobody wants to hear does not stand in their way
		}
		select {
		case s.C <- e:
		default:
			h.drop(s)
		}
	}
}

// unwatched tells whether an event is for nobody: it is counted, so that who comes back late knows that it missed some,
// and forgotten.
func (h *Hub) unwatched() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.clients) > 0 || !h.left.IsZero() && time.Since(h.left) < mayComeBack {
		return false
	}
	h.next++
	h.recent = h.recent[:0]
	return true
}

// wants tells whether an event belongs into the stream.
func (s *Subscription) wants(e Event) bool { return s.bay == "" || e.Bay == "" || e.Bay == s.bay }

// Subscribe begins a stream of what happens in a bay, or everywhere if none is named. With after > 0 it first gives
// what happened after that event; known is false if that is no longer remembered, and the subscriber must fetch the
// state anew.
func (h *Hub) Subscribe(after uint64, bay string) (s *Subscription, missed []Event, known bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	s = &Subscription{C: make(chan Event, behind), hub: h, bay: bay}
	h.clients[s] = true
	if after == 0 {
		return s, nil, true
	}
	for _, e := range h.recent {
		if e.ID > after && s.wants(e) {
			missed = append(missed, e)
		}
	}
	known = after < h.next && (len(h.recent) == 0 && after == h.next-1 || len(h.recent) > 0 && h.recent[0].ID <= after+1)
	if !known {
		missed = nil
	}
	return s, missed, known
}

// LastID is the id of the newest event.
func (h *Hub) LastID() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.next - 1
}

func (h *Hub) drop(s *Subscription) {
	if h.clients[s] {
		delete(h.clients, s)
		h.left = time.Now()
		close(s.C)
	}
}

// Close ends the subscription.
func (s *Subscription) Close() {
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	s.hub.drop(s)
}
