package memory

import (
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"
)

// onTheWay bounds the bytes that were written and are not read yet.
const onTheWay = 64 << 10

// Conn is one end of a connection. It is a [net.Conn] and may be used by several goroutines.
type Conn struct {
	in, out         *stream
	reading, writes deadline
	local, remote   net.Addr
	closed          chan struct{}
	once            sync.Once
	forget          func() // it is closed; nil: nobody needs to know
	holding         sync.Mutex
	holds           []<-chan struct{} // nothing passes until all are closed
}

// Pair gives the two ends of a new connection.
func Pair(a, b net.Addr) (*Conn, *Conn) {
	there, back := newStream(), newStream()
	first := &Conn{in: back, out: there, local: a, remote: b, closed: make(chan struct{})}
	second := &Conn{in: there, out: back, local: b, remote: a, closed: make(chan struct{})}
	for _, c := range []*Conn{first, second} {
		c.reading.expired, c.writes.expired = make(chan struct{}), make(chan struct{})
	}
	return first, second
}

// stream is one direction of a connection.
type stream struct {
	mu      sync.Mutex // guards what follows, never held while somebody waits
	bytes   []byte
	ended   bool          // nothing more will be written
	gone    bool          // nobody will read
	changed chan struct{} // closed with the next change
}

func newStream() *stream { return &stream{changed: make(chan struct{})} }

// change changes the stream and wakes who waits for that.
func (s *stream) change(how func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	how()
	s.wake()
}

// wake wakes who waits for a change. The stream's mutex is held.
func (s *stream) wake() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// take reads what there is; wait is not nil if there is nothing yet.
func (s *stream) take(p []byte) (n int, wait <-chan struct{}, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case len(s.bytes) > 0:
		n = copy(p, s.bytes)
		s.bytes = s.bytes[n:]
		s.wake()
		return n, nil, nil
	case s.ended:
		return 0, nil, io.EOF
	}
	return 0, s.changed, nil
}

// put writes what finds room; wait is not nil if something is left.
func (s *stream) put(p []byte) (n int, wait <-chan struct{}, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gone || s.ended {
		return 0, nil, syscall.EPIPE
	}
	n = min(len(p), onTheWay-len(s.bytes))
	if n > 0 {
		s.bytes = append(s.bytes, p[:n]...)
		s.wake()
	}
	if n < len(p) {
		wait = s.changed
	}
	return n, wait, nil
}

// Read reads what has come, and waits if nothing has.
func (c *Conn) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for {
		if err := c.pass(&c.reading); err != nil {
			return 0, err
		}
		n, wait, err := c.in.take(p)
		if wait == nil {
			return n, err
		}
		if err := c.wait(wait, &c.reading); err != nil {
			return 0, err
		}
	}
}

// Write writes all, and waits for room if there is none.
func (c *Conn) Write(p []byte) (written int, err error) {
	for {
		if err := c.pass(&c.writes); err != nil {
			return written, err
		}
		n, wait, err := c.out.put(p[written:])
		written += n
		if err != nil || wait == nil {
			return written, err
		}
		if err := c.wait(wait, &c.writes); err != nil {
			return written, err
		}
	}
}

// wait waits for a change of a stream.
func (c *Conn) wait(changed <-chan struct{}, d *deadline) error {
	select {
	case <-changed:
		return nil
	case <-c.closed:
		return net.ErrClosed
	case <-d.reached():
		return os.ErrDeadlineExceeded
	}
}

// pass waits for as long as the connection is held.
func (c *Conn) pass(d *deadline) error {
	for {
		select {
		case <-c.closed:
			return net.ErrClosed
		case <-d.reached():
			return os.ErrDeadlineExceeded
		default:
		}
		held := c.heldUp()
		if held == nil {
			return nil
		}
		select {
		case <-held:
		case <-c.closed:
			return net.ErrClosed
		}
	}
}

// heldUp is one of the holds that are not over; nil: there is none.
func (c *Conn) heldUp() <-chan struct{} {
	c.holding.Lock()
	defer c.holding.Unlock()
	for len(c.holds) > 0 {
		select {
		case <-c.holds[0]:
			c.holds = c.holds[1:]
		default:
			return c.holds[0]
		}
	}
	return nil
}

// Hold lets nothing pass this end until the channel is closed: who is held up notices no deadline meanwhile, like a
// process that is not scheduled. Of several holds the last to end counts.
func (c *Conn) Hold(until <-chan struct{}) {
	c.holding.Lock()
	defer c.holding.Unlock()
	c.holds = append(c.holds, until)
}

// Discard drops what has come and was not read.
func (c *Conn) Discard() { c.in.change(func() { c.in.bytes = nil }) }

// Close ends both directions; what was written before can still be read.
func (c *Conn) Close() error {
	c.once.Do(func() {
		close(c.closed)
		c.out.change(func() { c.out.ended = true })
		c.in.change(func() { c.in.gone, c.in.bytes = true, nil })
		c.reading.set(time.Time{})
		c.writes.set(time.Time{})
		if c.forget != nil {
			c.forget()
		}
	})
	return nil
}

// LocalAddr is this end.
func (c *Conn) LocalAddr() net.Addr { return c.local }

// RemoteAddr is the other end.
func (c *Conn) RemoteAddr() net.Addr { return c.remote }

// SetDeadline bounds reads and writes; the zero time lifts the bound.
func (c *Conn) SetDeadline(t time.Time) error {
	return firstError(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// SetReadDeadline bounds reads.
func (c *Conn) SetReadDeadline(t time.Time) error { return c.bound(&c.reading, t) }

// SetWriteDeadline bounds writes.
func (c *Conn) SetWriteDeadline(t time.Time) error { return c.bound(&c.writes, t) }

func (c *Conn) bound(d *deadline, t time.Time) error {
	select {
	case <-c.closed:
		return net.ErrClosed
	default:
		d.set(t)
		return nil
	}
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// deadline is a point in time that can be moved while somebody waits for it.
type deadline struct {
	mu      sync.Mutex // guards what follows
	timer   *time.Timer
	expired chan struct{} // closed when it is reached; another one after it was moved
}

// reached gives what is closed when the deadline is reached.
func (d *deadline) reached() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.expired
}

// set moves the deadline.
func (d *deadline) set(t time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timer != nil && !d.timer.Stop() {
		<-d.expired // the timer has fired: wait until it has said so
	}
	d.timer = nil
	select {
	case <-d.expired:
		d.expired = make(chan struct{})
	default:
	}
	if t.IsZero() {
		return
	}
	expired := d.expired
	if left := time.Until(t); left > 0 {
		d.timer = time.AfterFunc(left, func() { close(expired) })
	} else {
		close(expired)
	}
}
