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

// kept is an exchange as it is kept: what it costs to write it is part of every exchange.
type kept struct {
	at              time.Time
	message, answer string
	latency         time.Duration
	err             error
}

func (k kept) exchange() Exchange {
	e := Exchange{At: k.at, Message: k.message, Answer: k.answer, Latency: k.latency}
	if k.err != nil {
		e.Error = k.err.Error()
	}
	return e
}

// Trace keeps the last exchanges with one instrument. The zero value is ready; it is safe for use by several
// goroutines.
type Trace struct {
	mu       sync.Mutex
	ring     []kept // one more than is kept: that of the exchange that goes on
	next     int
	messages uint64
	errors   uint64
	losses   uint64
	connects uint64
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
	t.Sent(at, message)
	return t.Answered(answer, err)
}

// Sent begins to keep an exchange that began at a time: what there is to do while the instrument thinks costs nothing.
// One exchange at a time is begun and answered.
func (t *Trace) Sent(at time.Time, message string) {
	t.mu.Lock()
	if t.next == len(t.ring) {
		t.ring = append(t.ring, kept{})
	}
	k := &t.ring[t.next]
	k.at, k.message = at, clip(message)
	t.mu.Unlock()
}

// Answered ends the exchange that was begun, now, and returns when that is.
func (t *Trace) Answered(answer string, err error) (ended time.Time) {
	t.mu.Lock()
	k := &t.ring[t.next]
	k.latency = time.Since(k.at)
	k.answer, k.err = clip(answer), err
	ended = k.at.Add(k.latency)
	if t.next++; t.next > remembered {
		t.next = 0
	}
	t.messages++
	if err != nil {
		t.errors++
	}
	t.mu.Unlock()
	return ended
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
	if all := t.held(); n <= 0 || n > all {
		n = all
	}
	last := make([]Exchange, n)
	for i := range last {
		last[i] = t.ring[t.back(n-i)].exchange()
	}
	return last
}

// held is how many exchanges are kept.
func (t *Trace) held() int { return int(min(t.messages, remembered)) }

// back is where the n-th exchange counted from the newest is kept.
func (t *Trace) back(n int) int { return (t.next - n + remembered + 1) % (remembered + 1) }

// Newest is when the newest exchange began, and the error in which it ended.
func (t *Trace) Newest() (at time.Time, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.messages == 0 {
		return time.Time{}, nil
	}
	newest := t.ring[t.back(1)]
	return newest.at, newest.err
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
	latencies := make([]time.Duration, 0, t.held())
	for n := range t.held() {
		if e := &t.ring[t.back(n+1)]; e.err == nil && e.answer != "" {
			latencies = append(latencies, e.latency)
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
