// Package session joins who serves lines of text to the protocols that carry messages: what a stand-in needs to be
// reached over VXI-11 and HiSLIP as it is over a socket.
package session

import (
	"bytes"
	"io"
	"os"
	"sync"
	"time"
)

// Device is who is reached.
type Device struct {
	// Serve answers lines on a connection until it ends. Each Write is one answer.
	Serve func(conn io.ReadWriteCloser)
	// Status is the status byte of IEEE 488.2, and how often service was requested so far; nil: it has none.
	Status func() (status byte, requests uint64)
	// Holder is who has the instrument's lock; it is shared by all sessions with the instrument.
	Holder *Lock
}

// waiting is how many messages and answers may lie in a session.
const waiting = 64

// Session is one client's. It is safe for use by several goroutines.
type Session struct {
	device Device
	in     chan said
	out    chan said
	ended  chan struct{}
	end    sync.Once
	served sync.WaitGroup

	mu     sync.Mutex // guards what follows
	clears int        // how often it was cleared
	begun  int        // the clears when the message was read that is under way
	rest   []byte     // of a message that was read in part
}

// Open begins a session.
func Open(d Device) *Session {
	s := &Session{device: d, in: make(chan said, waiting), out: make(chan said, waiting), ended: make(chan struct{})}
	s.served.Go(func() { d.Serve(conn{s}) })
	return s
}

// Take takes bytes of a message. They wait where earlier ones were not taken yet.
func (s *Session) Take(p []byte) error {
	s.mu.Lock()
	clears := s.clears
	s.mu.Unlock()
	select {
	case s.in <- said{bytes.Clone(p), clears}:
		return nil
	case <-s.ended:
		return io.ErrClosedPipe
	}
}

// said is a part of a message, or an answer to one, with how often the session was cleared before.
type said struct {
	text   []byte
	clears int
}

// Answer is the next answer; os.ErrDeadlineExceeded if there is none in time. Whoever sends it later asks Stands first.
func (s *Session) Answer(within time.Duration) (text []byte, clears int, err error) {
	timer := time.NewTimer(within)
	defer timer.Stop()
	select {
	case a := <-s.out:
		return a.text, a.clears, nil
	case <-timer.C:
		return nil, 0, os.ErrDeadlineExceeded
	case <-s.ended:
		return nil, 0, io.EOF
	}
}

// Stands tells whether an answer that was taken still answers something: nobody has cleared the device since.
func (s *Session) Stands(clears int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.clears == clears
}

// Clear drops messages that nobody has read yet, and answers, also those that are being made.
func (s *Session) Clear() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clears++
	s.rest = nil
	for {
		select {
		case <-s.in:
		case <-s.out:
		default:
			return
		}
	}
}

// Status is the device's status byte, and how often it has requested service.
func (s *Session) Status() (status byte, requests uint64) {
	if s.device.Status == nil {
		return 0, 0
	}
	return s.device.Status()
}

// watchEvery is how often a device is looked at for requests of service.
const watchEvery = 2 * time.Millisecond

// Watch returns what tells whenever the device has requested service from now on, until it cannot be told any longer or
// is over: what was requested before that begins to run is not lost.
func (s *Session) Watch(over <-chan struct{}, tell func(status byte) error) (watch func()) {
	_, told := s.Status()
	return func() { s.watch(told, over, tell) }
}

func (s *Session) watch(told uint64, over <-chan struct{}, tell func(status byte) error) {
	ticker := time.NewTicker(watchEvery)
	defer ticker.Stop()
	for {
		select {
		case <-over:
			return
		case <-s.ended:
			return
		case <-ticker.C:
		}
		status, requests := s.Status()
		if requests != told && tell(status) != nil {
			return
		}
		told = requests
	}
}

// Lock takes the instrument's lock, or waits for it for a while; Unlock gives it back. They tell whether the session
// has it, and had it.
func (s *Session) Lock(within time.Duration) bool { return s.device.Holder.take(s, within) }

// Unlock gives the lock back.
func (s *Session) Unlock() bool { return s.device.Holder.giveBack(s) }

// Free tells whether no other session has the lock.
func (s *Session) Free() bool { return s.device.Holder.freeFor(s) }

// Close ends the session.
func (s *Session) Close() {
	s.end.Do(func() { close(s.ended) })
	s.Unlock()
}

// Ended is closed when the session is over, from whichever side.
func (s *Session) Ended() <-chan struct{} { return s.ended }

// conn is the session as who serves lines sees it.
type conn struct{ *Session }

func (c conn) Read(p []byte) (int, error) {
	c.mu.Lock()
	part := said{c.rest, c.begun}
	c.mu.Unlock()
	for len(part.text) == 0 {
		select {
		case part = <-c.in:
		case <-c.ended:
			return 0, io.EOF
		}
		if !c.Stands(part.clears) { // it was cleared between being taken and being read
			part.text = nil
		}
	}
	n := copy(p, part.text)
	c.mu.Lock()
	if c.rest, c.begun = part.text[n:], part.clears; c.begun != c.clears {
		c.rest = nil
	}
	c.mu.Unlock()
	return n, nil
}

func (c conn) Write(p []byte) (int, error) {
	c.mu.Lock()
	begun, dropped := c.begun, c.begun != c.clears
	c.mu.Unlock()
	if dropped {
		return len(p), nil
	}
	select {
	case c.out <- said{bytes.Clone(p), begun}:
		return len(p), nil
	case <-c.ended:
		return 0, io.ErrClosedPipe
	}
}

func (c conn) Close() error {
	c.end.Do(func() { close(c.ended) })
	return nil
}

// Lock is an instrument's lock. The zero value is free.
type Lock struct {
	mu     sync.Mutex
	holder *Session
}

// tryAgain is how often one who waits for a lock looks.
const tryAgain = 5 * time.Millisecond

func (l *Lock) take(s *Session, within time.Duration) bool {
	for until := time.Now().Add(within); ; time.Sleep(tryAgain) {
		l.mu.Lock()
		if l.holder == nil || l.holder == s {
			l.holder = s
			l.mu.Unlock()
			return true
		}
		l.mu.Unlock()
		if !time.Now().Before(until) {
			return false
		}
	}
}

func (l *Lock) giveBack(s *Session) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.holder != s {
		return false
	}
	l.holder = nil
	return true
}

func (l *Lock) freeFor(s *Session) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.holder == nil || l.holder == s
}
