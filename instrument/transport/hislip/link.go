package hislip

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"
)

// Link is a connection to an instrument. Each Write is one message; what is read are answers, each of which ends with a
// line feed, whether the instrument sent one or not. It is used by one at a time.
type Link struct {
	sync, async net.Conn
	reader      *bufio.Reader // of sync
	most        int           // the longest payload that the instrument takes
	overlapped  bool          // answers have numbers of their own
	next        uint32        // number of the message that comes next
	delivered   byte          // 1: the last answer was read to its end
	deadline    time.Time

	left    uint64 // of the payload that is being read
	last    bool   // it is the last of an answer
	newline bool   // a line feed is still to be added
	fed     bool   // what was read last was a line feed

	replies   chan reply
	requested chan struct{}
	listened  sync.WaitGroup
}

type reply struct {
	head    Head
	payload []byte
	err     error
}

// lockWithin is how long a lock is waited for that somebody else has.
const lockWithin = 100 * time.Millisecond

// vendor is the two letters by which a client names itself; they mean nothing.
const vendor = 'U'<<8 | 'B'

// Open connects to an instrument at host:port, to the part of it that is named, such as "hislip0". With lock nobody
// else can use the instrument until the link is closed. The context bounds the opening.
func Open(ctx context.Context, host, part string, lock bool) (*Link, error) {
	l := &Link{next: firstMessage, replies: make(chan reply, 1), requested: make(chan struct{}, 1)}
	if err := l.open(ctx, host, part, lock); err != nil {
		_ = l.Close() // the error is why it cannot be used
		return nil, err
	}
	return l, nil
}

func (l *Link) open(ctx context.Context, host, part string, lock bool) (err error) {
	var d net.Dialer
	if l.sync, err = d.DialContext(ctx, "tcp", host); err != nil {
		return err
	}
	by, _ := ctx.Deadline() // none: no bound
	if err := l.sync.SetDeadline(by); err != nil {
		return err
	}
	l.reader = bufio.NewReaderSize(l.sync, 4096)
	if err := WriteFrame(l.sync, Head{Kind: Initialize, Param: Version<<16 | vendor}, []byte(part)); err != nil {
		return err
	}
	h, _, err := l.expect(l.reader, InitializeResponse)
	if err != nil {
		return err
	}
	l.overlapped = h.Control&1 != 0
	session := h.Param & 0xffff
	if l.async, err = d.DialContext(ctx, "tcp", host); err != nil {
		return err
	}
	if err := l.async.SetDeadline(by); err != nil {
		return err
	}
	if err := WriteFrame(l.async, Head{Kind: AsyncInitialize, Param: session}, nil); err != nil {
		return err
	}
	if _, _, err := l.expect(l.async, AsyncInitializeResponse); err != nil {
		return err
	}
	_ = l.async.SetReadDeadline(time.Time{}) // what is heard there comes when it comes
	l.listened.Go(l.listen)
	l.deadline = by
	return l.agree(lock)
}

// agree finds out how long payloads may be, takes the lock, and has the instrument answer one message after another.
func (l *Link) agree(lock bool) error {
	_, size, err := l.ask(Head{Kind: AsyncMaximumMessageSize}, binary.BigEndian.AppendUint64(nil, largest),
		AsyncMaximumMessageSizeResponse)
	if err != nil {
		return err
	}
	if l.most = largest; len(size) == 8 {
		l.most = int(min(max(binary.BigEndian.Uint64(size), headSize+1)-headSize, largest))
	}
	if lock {
		wait := uint32(lockWithin.Milliseconds())
		if h, _, err := l.ask(Head{Kind: AsyncLock, Control: 1, Param: wait}, nil, AsyncLockResponse); err != nil {
			return err
		} else if h.Control != 1 {
			return errors.New("the instrument is locked by somebody else; it is free again when they close their connection")
		}
	}
	if l.overlapped {
		return l.Clear()
	}
	return nil
}

// expect reads one frame, of this kind.
func (l *Link) expect(r io.Reader, kind Kind) (Head, []byte, error) {
	h, payload, err := ReadFrame(r)
	if err == nil {
		err = refused(h, payload, kind)
	}
	return h, payload, err
}

// refused is what a frame says that is not of the kind that was expected; nil if it is.
func refused(h Head, payload []byte, expected Kind) error {
	switch h.Kind {
	case expected:
		return nil
	case FatalError, Failure:
		return fmt.Errorf("the instrument says: %s (error %d of HiSLIP)", payload, h.Control)
	}
	return fmt.Errorf("a frame of the kind %d came, %d was expected", h.Kind, expected)
}

// listen hears what comes on the second connection, until it is closed.
func (l *Link) listen() {
	for {
		h, payload, err := ReadFrame(l.async)
		switch {
		case err == nil && h.Kind == AsyncServiceRequest:
			select {
			case l.requested <- struct{}{}:
			default: // nobody has looked since the last one
			}
			continue
		case err == nil && h.Kind == AsyncInterrupted:
			continue // what was interrupted is recognised by its number
		}
		select {
		case l.replies <- reply{h, payload, err}:
		default: // nobody asked
		}
		if err != nil {
			return
		}
	}
}

// ask sends a frame on the second connection and waits for its reply.
func (l *Link) ask(h Head, payload []byte, expected Kind) (Head, []byte, error) {
	select {
	case <-l.replies: // of a question that was given up
	default:
	}
	if err := WriteFrame(l.async, h, payload); err != nil {
		return h, nil, err
	}
	var late <-chan time.Time
	if !l.deadline.IsZero() {
		timer := time.NewTimer(time.Until(l.deadline))
		defer timer.Stop()
		late = timer.C
	}
	select {
	case r := <-l.replies:
		if r.err == nil {
			r.err = refused(r.head, r.payload, expected)
		}
		return r.head, r.payload, r.err
	case <-late:
		return h, nil, os.ErrDeadlineExceeded
	}
}

// SetDeadline bounds what follows.
func (l *Link) SetDeadline(t time.Time) error {
	l.deadline = t
	return errors.Join(l.sync.SetDeadline(t), l.async.SetWriteDeadline(t))
}

// dropRest drops what was not read of the part of an answer that is being read. Its other parts have an old number.
func (l *Link) dropRest() error {
	_, err := io.CopyN(io.Discard, l.reader, int64(l.left))
	l.left, l.newline, l.last, l.fed = 0, false, false, false
	return err
}

// Write sends one message. What was not read of the answer to the last one is dropped.
func (l *Link) Write(p []byte) (int, error) {
	if err := l.dropRest(); err != nil {
		return 0, err
	}
	number := l.next
	l.next += 2
	written := 0
	for {
		part, kind := p[written:], DataEnd
		if len(part) > l.most {
			part, kind = part[:l.most], Data
		}
		if err := WriteFrame(l.sync, Head{Kind: kind, Control: l.delivered, Param: number}, part); err != nil {
			return written, err
		}
		l.delivered = 0
		if written += len(part); kind == DataEnd {
			return written, nil
		}
	}
}

// Read reads of answers to the last message; what belongs to an earlier one is dropped.
func (l *Link) Read(p []byte) (int, error) {
	for l.left == 0 && !l.newline {
		if err := l.nextPart(); err != nil {
			return 0, err
		}
	}
	if l.left == 0 {
		l.newline = false
		return copy(p, "\n"), nil
	}
	n, err := l.reader.Read(p[:min(uint64(len(p)), l.left)])
	l.left -= uint64(n)
	if n > 0 {
		l.fed = p[n-1] == '\n'
	}
	if l.left == 0 {
		l.partEnds()
	}
	return n, err
}

// nextPart finds the next part of an answer.
func (l *Link) nextPart() error {
	h, err := ReadHead(l.reader)
	if err != nil {
		return err
	}
	if (h.Kind != Data && h.Kind != DataEnd) || !l.overlapped && h.Param != l.next-2 {
		said, err := io.ReadAll(io.LimitReader(l.reader, int64(h.Length)))
		if err == nil && (h.Kind == FatalError || h.Kind == Failure) {
			err = refused(h, said, Data)
		}
		return err
	}
	l.left, l.last = h.Length, h.Kind == DataEnd
	if l.left == 0 {
		l.partEnds()
	}
	return nil
}

func (l *Link) partEnds() {
	if l.last {
		l.newline, l.delivered, l.last, l.fed = !l.fed, 1, false, false
	}
}

// Clear has the instrument drop what it was doing and answering (device clear). One that refuses can be used all the
// same: nothing may keep an off-command from it.
func (l *Link) Clear() error {
	h, _, err := l.ask(Head{Kind: AsyncDeviceClear}, nil, AsyncDeviceClearAcknowledge)
	switch {
	case err != nil && h.Kind == Failure:
		return nil
	case err != nil:
		return err
	}
	const oneAfterAnother = 0
	if err := WriteFrame(l.sync, Head{Kind: DeviceClearComplete, Control: oneAfterAnother}, nil); err != nil {
		return err
	}
	if err := l.dropRest(); err != nil {
		return err
	}
	l.delivered, l.next = 0, firstMessage
	for {
		h, _, err := ReadFrame(l.reader)
		if err != nil {
			return err
		}
		if h.Kind == DeviceClearAcknowledge {
			l.overlapped = h.Control&1 != 0
			return nil
		}
	}
}

// Status is the status byte.
func (l *Link) Status() (byte, error) {
	h, _, err := l.ask(Head{Kind: AsyncStatusQuery, Control: l.delivered, Param: l.next - 2}, nil, AsyncStatusResponse)
	l.delivered = 0
	return h.Control, err
}

// Requests tells whenever the instrument has requested service.
func (l *Link) Requests() (<-chan struct{}, error) { return l.requested, nil }

// Close ends the connection, and gives back a lock.
func (l *Link) Close() error {
	var errs []error
	for _, conn := range []net.Conn{l.sync, l.async} {
		if conn != nil {
			errs = append(errs, conn.Close())
		}
	}
	l.listened.Wait()
	return errors.Join(errs...)
}
