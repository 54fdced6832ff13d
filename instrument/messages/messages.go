// Package messages keeps what was said to an instrument: the last messages with their answers and latencies,
// and statistics over them.
package messages

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Exchange is one message and what came back.
type Exchange struct {
	At      time.Time     `json:"at"`
	Message string        `json:"message"`
	Answer  string        `json:"answer,omitempty"`
	Latency time.Duration `json:"latency"`
	Error   string        `json:"error,omitempty"`
}

// Statistics sums up what happened on a connection. Latencies are of the last answers.
type Statistics struct {
	Messages, Errors, Connects uint64
	Median, P99                time.Duration
}

// remembered is how many exchanges are kept, and over how many the latencies are taken.
const remembered = 1000

// longestText bounds what is kept of a message or an answer.
const longestText = 200

// Trace keeps the last exchanges with one instrument. The zero value is ready; it is safe for use by several
// goroutines.
type Trace struct {
	mu       sync.Mutex
	ring     []Exchange
	next     int
	messages uint64
	errors   uint64
	losses   uint64
	connects uint64
	newest   time.Time
	failed   error
	summed   Statistics // with the latencies of when it was
	summedAt time.Time
}

// Connected counts a connection.
func (t *Trace) Connected() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.connects++
}

// Note keeps an exchange that began at a time and ends now, and returns when that is.
func (t *Trace) Note(at time.Time, message, answer string, err error) (ended time.Time) {
	latency := time.Since(at)
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.ring) < remembered {
		t.ring = append(t.ring, Exchange{})
	}
	e := &t.ring[t.next] // written where it stays: this is part of every exchange
	t.next = (t.next + 1) % remembered
	e.At, e.Message, e.Answer, e.Latency, e.Error = at, clip(message), clip(answer), latency, ""
	t.messages++
	t.newest, t.failed = at, err
	if err != nil {
		e.Error = err.Error()
		t.errors++
	}
	return at.Add(latency)
}

func clip(s string) string {
	if len(s) > longestText {
		return s[:longestText] + "…"
	}
	return s
}

// Last lists the last exchanges, oldest first; all that are kept with n ≤ 0.
func (t *Trace) Last(n int) []Exchange {
	t.mu.Lock()
	defer t.mu.Unlock()
	all := append(slices.Clone(t.ring[t.next:]), t.ring[:t.next]...)
	if n > 0 && n < len(all) {
		all = all[len(all)-n:]
	}
	return all
}

// Newest is when the newest exchange began, and the error in which it ended.
func (t *Trace) Newest() (at time.Time, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.newest, t.failed
}

// Lost says that the connection is gone.
func (t *Trace) Lost() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.losses++
}

// Link tells connections apart: it is another number after every connection and after every loss.
func (t *Trace) Link() uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.connects + t.losses
}

// Connects is how often the instrument was connected to.
func (t *Trace) Connects() uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.connects
}

// sumAgain is how old the latencies of a summary are at most: whoever looks may look often.
const sumAgain = time.Second

// Statistics sums up; latencies are as of a second ago at most.
func (t *Trace) Statistics() Statistics {
	t.mu.Lock()
	defer t.mu.Unlock()
	if now := time.Now(); now.Sub(t.summedAt) > sumAgain {
		t.summedAt = now
		t.summed.Median, t.summed.P99 = t.latencies()
	}
	t.summed.Messages, t.summed.Errors, t.summed.Connects = t.messages, t.errors, t.connects
	return t.summed
}

// latencies are those of the last answers: half of them were no later than the median, nearly all than p99.
func (t *Trace) latencies() (median, p99 time.Duration) {
	latencies := make([]time.Duration, 0, len(t.ring))
	for _, e := range t.ring {
		if e.Error == "" && e.Answer != "" {
			latencies = append(latencies, e.Latency)
		}
	}
	if len(latencies) == 0 {
		return 0, 0
	}
	slices.Sort(latencies)
	return latencies[len(latencies)/2], latencies[min(len(latencies)*99/100, len(latencies)-1)]
}

type urgent struct{}

// Urgent marks what makes safe: it does not wait out the pause after a loss.
func Urgent(ctx context.Context) context.Context { return context.WithValue(ctx, urgent{}, true) }

// IsUrgent tells whether a message makes safe.
func IsUrgent(ctx context.Context) bool { return ctx.Value(urgent{}) != nil }

// longestExcerpt is how much of an answer a message shows.
const longestExcerpt = 48

// Excerpt is an answer as a message quotes it: escaped, and cut where it goes on and on.
func Excerpt(answer string) string {
	if len(answer) <= longestExcerpt {
		return strconv.Quote(answer)
	}
	return fmt.Sprintf("%q… (%d bytes)", answer[:longestExcerpt], len(answer))
}
