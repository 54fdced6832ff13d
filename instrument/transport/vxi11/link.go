package vxi11

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"sync"
	"time"
)

// PortmapPort is where a computer's port mapper tells the ports of its programs (RFC 1833).
const PortmapPort = 111

// Flags of a call, and reasons why a read ended.
const (
	flagWaitLock = 1 << 0
	flagEnd      = 1 << 3
	reasonEnd    = 1 << 2
)

// lockWithin is how long a lock is waited for that somebody else has.
const lockWithin = 100 * time.Millisecond

// Link is a connection to an instrument. Each Write is one message; what is read are answers, each of which ends with a
// line feed, whether the instrument sent one or not. It is used by one at a time.
type Link struct {
	conn     net.Conn
	reader   *bufio.Reader
	id       uint32 // of the call that was sent last
	link     uint32 // the instrument's number of the link
	most     int    // the most bytes that it takes with one call
	deadline time.Time
	answer   []byte // what was not read yet of what came

	interrupts net.Listener // nil: service is not listened for
	requested  chan struct{}
	listened   sync.WaitGroup
}

// Open connects to an instrument at host:port, the port of its core channel, and there to the part that is named, such
// as "inst0". With lock nobody else can use the instrument until the link is closed. The context bounds the opening.
func Open(ctx context.Context, host, part string, lock bool) (*Link, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, err
	}
	l := &Link{conn: conn, reader: bufio.NewReaderSize(conn, 4096), requested: make(chan struct{}, 1)}
	l.deadline, _ = ctx.Deadline()
	if err := l.open(part, lock); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return l, nil
}

func (l *Link) open(part string, lock bool) error {
	if err := l.conn.SetDeadline(l.deadline); err != nil {
		return err
	}
	var w writer
	w.number(uint32(os.Getpid()))
	w.flag(lock)
	w.number(uint32(lockWithin.Milliseconds()))
	w.opaque([]byte(part))
	r, err := l.call(createLink, w)
	if err != nil {
		return err
	}
	l.link = r.number()
	r.number() // the port of the abort channel: a call that hangs ends with its connection
	l.most = int(min(max(r.number(), 1024), longest/2))
	return r.err
}

// Find asks the port mapper at host:port where the instruments of that computer are.
func Find(ctx context.Context, host string) (port int, err error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return 0, fmt.Errorf("its port mapper: %w", err)
	}
	defer conn.Close()
	if by, ok := ctx.Deadline(); ok {
		if err := conn.SetDeadline(by); err != nil {
			return 0, err
		}
	}
	const id, tcp = 1, 6
	w := writeCall(id, portmapProgram, portmapVersion, getPort)
	w.number(coreProgram, version, tcp, 0)
	if err := writeRecord(conn, w); err != nil {
		return 0, err
	}
	record, err := readRecord(bufio.NewReader(conn))
	if err != nil {
		return 0, err
	}
	r, err := readReply(record, id)
	if err != nil {
		return 0, err
	}
	if port = int(r.number()); r.err != nil || port < 1 || port > 65535 {
		return 0, errors.New("the port mapper there knows no instruments of VXI-11")
	}
	return port, nil
}

// timeout is how long the instrument may take for a call, ms: a little less than is waited for here, so that its own
// error comes.
func (l *Link) timeout() uint32 {
	const forLong = 3600 * 1000
	if l.deadline.IsZero() {
		return forLong
	}
	return uint32(max(time.Until(l.deadline)*9/10, 0).Milliseconds())
}

// call calls a procedure and takes the error from the head of its results.
func (l *Link) call(procedure uint32, arguments writer) (reader, error) {
	l.id++
	if err := writeRecord(l.conn, append(writeCall(l.id, coreProgram, version, procedure), arguments...)); err != nil {
		return reader{}, err
	}
	record, err := readRecord(l.reader)
	if err != nil {
		return reader{}, err
	}
	r, err := readReply(record, l.id)
	if err != nil {
		return r, err
	}
	return r, failure(r.number())
}

// Errors that an instrument tells (VXI-11, table B.2).
const (
	errorLink     = 4
	errorUnknown  = 8
	errorLocked   = 11
	errorUnlocked = 12
	errorTimeout  = 15
	errorPart     = 3
)

var failures = map[uint32]string{
	1: "syntax error", errorPart: "there is no such part", errorLink: "the link is not known", 5: "a parameter is wrong",
	6: "a channel could not be made", errorUnknown: "it cannot do that", 9: "it has no room left",
	errorLocked:   "the instrument is locked by somebody else; it is free again when they close their connection",
	errorUnlocked: "it was not locked", 17: "input or output failed", 21: "the address is wrong", 23: "it was aborted",
	29: "the channel is there already",
}

func failure(code uint32) error {
	switch text, known := failures[code]; {
	case code == 0:
		return nil
	case code == errorTimeout:
		return os.ErrDeadlineExceeded
	case known:
		return fmt.Errorf("the instrument %w: %s (error %d of VXI-11)", errSays, text, code)
	}
	return fmt.Errorf("the instrument %w: error %d of VXI-11", errSays, code)
}

// errSays marks what an instrument answers that does not do what it was asked; the connection is well.
var errSays = errors.New("says")

// SetDeadline bounds what follows.
func (l *Link) SetDeadline(t time.Time) error {
	l.deadline = t
	return l.conn.SetDeadline(t)
}

// Write sends one message. What was not read of the answer to the last one is dropped.
func (l *Link) Write(p []byte) (written int, err error) {
	l.answer = nil
	for {
		part, flags := p[written:], uint32(flagWaitLock|flagEnd)
		if len(part) > l.most {
			part, flags = part[:l.most], flagWaitLock
		}
		timeout := l.timeout()
		var w writer
		w.number(l.link, timeout, timeout, flags)
		w.opaque(part)
		r, err := l.call(deviceWrite, w)
		if err != nil {
			return written, err
		}
		taken := int(r.number())
		if r.err != nil || taken < 1 && len(part) > 0 || taken > len(part) {
			return written, fmt.Errorf("%w: %d bytes of %d were taken", ErrMessage, taken, len(part))
		}
		if written += taken; written == len(p) {
			return written, nil
		}
	}
}

// readAtOnce is how much of an answer is asked for at once.
const readAtOnce = 1 << 20

// Read reads of an answer.
func (l *Link) Read(p []byte) (int, error) {
	for len(l.answer) == 0 {
		timeout := l.timeout()
		var w writer
		w.number(l.link, readAtOnce, timeout, timeout, flagWaitLock, 0)
		r, err := l.call(deviceRead, w)
		if err != nil {
			return 0, err
		}
		reason := r.number()
		if l.answer = r.opaque(); r.err != nil {
			return 0, r.err
		}
		if n := len(l.answer); reason&reasonEnd != 0 && (n == 0 || l.answer[n-1] != '\n') {
			l.answer = append(l.answer[:n:n], '\n')
		}
	}
	n := copy(p, l.answer)
	l.answer = l.answer[n:]
	return n, nil
}

// generic are the arguments that most calls have.
func (l *Link) generic() (w writer) {
	timeout := l.timeout()
	w.number(l.link, flagWaitLock, timeout, timeout)
	return w
}

// Clear has the instrument drop what it was doing and answering (device clear). One that has no device clear can be
// used all the same: nothing may keep an off-command from it.
func (l *Link) Clear() error {
	l.answer = nil
	_, err := l.call(deviceClear, l.generic())
	if errors.Is(err, errSays) {
		return nil
	}
	return err
}

// Status is the status byte.
func (l *Link) Status() (byte, error) {
	r, err := l.call(deviceReadSTB, l.generic())
	return byte(r.number()), err
}

// Requests tells whenever the instrument has requested service. For that it connects to this computer, over IPv4; nil:
// it cannot, and has to be asked.
func (l *Link) Requests() (<-chan struct{}, error) {
	if l.interrupts != nil {
		return l.requested, nil
	}
	here, ok := l.conn.LocalAddr().(*net.TCPAddr)
	if !ok || here.IP.To4() == nil {
		return nil, nil
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(here.IP.String(), "0"))
	if err != nil {
		return nil, err
	}
	l.interrupts = listener
	l.listened.Go(func() { l.listen(listener) })
	const tcp = 0
	var w writer
	w.number(binary.BigEndian.Uint32(here.IP.To4()), uint32(listener.Addr().(*net.TCPAddr).Port), interruptProgram,
		version, tcp)
	if _, err = l.call(createInterruptChan, w); err == nil {
		w = nil
		w.number(l.link)
		w.flag(true)
		w.opaque([]byte(strconv.Itoa(int(l.link))))
		_, err = l.call(deviceEnableSRQ, w)
	}
	if errors.Is(err, errSays) {
		l.interrupts = nil
		return nil, listener.Close()
	}
	return l.requested, err
}

// listen takes the instrument's calls, until the link is closed.
func (l *Link) listen(listener net.Listener) {
	conn, err := listener.Accept()
	if err != nil {
		return
	}
	defer conn.Close()
	l.listened.Go(func() { // whoever closes the listener ends this too
		_, _ = listener.Accept()
		conn.Close()
	})
	serveCalls(conn, func(a asked) (writer, bool) {
		if a.procedure == interruptRequested {
			select {
			case l.requested <- struct{}{}:
			default: // nobody has looked since the last one
			}
		}
		return nil, true
	})
}

// Close ends the connection, and gives back a lock.
func (l *Link) Close() error {
	err := l.conn.Close()
	if l.interrupts != nil {
		err = errors.Join(err, l.interrupts.Close())
	}
	l.listened.Wait()
	return err
}
