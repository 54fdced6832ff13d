package transport

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"go.bug.st/serial"
	"golang.org/x/sys/unix"

	"usherbench/instrument/lane"
	"usherbench/instrument/transport/memory"
)

// line is a serial port that all instruments on it share. Lines are found by their place, since that is what they are:
// one wire.
type line struct {
	mode LineMode

	turns lane.Lane

	mu    sync.Mutex // guards what follows
	port  port
	users int
}

// port is what is needed of a serial port.
type port interface {
	io.ReadWriteCloser
	SetReadTimeout(t time.Duration) error
	ResetInputBuffer() error
	ResetOutputBuffer() error
}

var lines = struct {
	sync.Mutex
	byWire map[wire]*line
}{byWire: map[wire]*line{}}

// serialLink is one instrument's use of a line.
type serialLink struct {
	line     *line
	address  Address
	deadline time.Time
	broken   bool // the port failed, not only the answer
}

var errLineLost = errors.New("the serial port was lost")

func openSerial(ctx context.Context, a Address) (Link, error) {
	lines.Lock()
	defer lines.Unlock()
	l := lines.byWire[a.wire()]
	if l == nil {
		l = &line{mode: a.Line}
		lines.byWire[a.wire()] = l
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.mode != a.Line && l.port != nil {
		return nil, fmt.Errorf("%s: another instrument uses this line with %s; give both the same", a, l.mode)
	}
	if l.port == nil {
		port, err := openPort(ctx, a)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a, err)
		}
		l.port, l.mode = port, a.Line
	}
	l.users++
	return &serialLink{line: l, address: a}, nil
}

var (
	parities = map[string]serial.Parity{"none": serial.NoParity, "even": serial.EvenParity, "odd": serial.OddParity,
		"mark": serial.MarkParity, "space": serial.SpaceParity}
	stopBits = map[string]serial.StopBits{"1": serial.OneStopBit, "1.5": serial.OnePointFiveStopBits,
		"2": serial.TwoStopBits}
)

func openPort(ctx context.Context, a Address) (port, error) {
	if a.Scheme == Memory {
		conn, err := a.network.Dial(ctx, a.Host)
		return memoryPort{conn}, err
	}
	path, err := device(a.Path)
	if err != nil {
		return nil, err
	}
	// Flow control is set through a descriptor of our own, opened before the port is taken for us alone.
	control := -1
	if a.Line.Flow != "none" {
		if control, err = unix.Open(path, unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK, 0); err != nil {
			return nil, err
		}
		defer unix.Close(control)
	}
	port, err := serial.Open(path, &serial.Mode{BaudRate: a.Line.Baud, DataBits: a.Line.DataBits,
		Parity: parities[a.Line.Parity], StopBits: stopBits[a.Line.StopBits]})
	if err != nil {
		return nil, err
	}
	if control >= 0 {
		if err := setFlow(control, a.Line.Flow); err != nil {
			return nil, errors.Join(fmt.Errorf("flow control %s: %w", a.Line.Flow, err), port.Close())
		}
	}
	return port, nil
}

// wire is what the instruments of one line have in common.
type wire struct {
	network    *memory.Network
	path, name string
}

func (a Address) wire() wire { return wire{a.network, a.Path, a.Host} }

// memoryPort is the end of a line in memory.
type memoryPort struct{ *memory.Conn }

func (p memoryPort) SetReadTimeout(t time.Duration) error {
	if t == serial.NoTimeout {
		return p.SetReadDeadline(time.Time{})
	}
	return p.SetReadDeadline(time.Now().Add(t))
}

// Read gives nothing when its time is up, as a serial port does.
func (p memoryPort) Read(b []byte) (int, error) {
	n, err := p.Conn.Read(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = nil
	}
	return n, err
}

func (p memoryPort) ResetInputBuffer() error { p.Discard(); return nil }

// ResetOutputBuffer ends writes that wait for room.
func (p memoryPort) ResetOutputBuffer() error { return p.SetWriteDeadline(time.Now()) }

func setFlow(fd int, flow string) error {
	t, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return err
	}
	if flow == "rts-cts" {
		t.Cflag |= unix.CRTSCTS
	} else {
		t.Iflag |= unix.IXON | unix.IXOFF
	}
	return unix.IoctlSetTermios(fd, unix.TCSETS, t)
}

// Turn waits for the line. What came in before belongs to nobody and is dropped.
func (s *serialLink) Turn(ctx context.Context) (func(), error) {
	release, err := s.line.turns.Take(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: the line was busy with other instruments: %w", s.address, err)
	}
	port, err := s.port()
	if err == nil {
		err = port.ResetInputBuffer()
	}
	if err != nil {
		s.broken = true
		release()
		return nil, fmt.Errorf("%s: %w", s.address, err)
	}
	return release, nil
}

func (s *serialLink) port() (port, error) {
	s.line.mu.Lock()
	defer s.line.mu.Unlock()
	if s.line.port == nil {
		return nil, errLineLost
	}
	return s.line.port, nil
}

func (s *serialLink) SetDeadline(t time.Time) error { s.deadline = t; return nil }

func (s *serialLink) Read(p []byte) (int, error) {
	port, err := s.port()
	if err != nil {
		return 0, err
	}
	left := serial.NoTimeout
	if !s.deadline.IsZero() {
		if left = time.Until(s.deadline); left <= 0 {
			return 0, os.ErrDeadlineExceeded
		}
	}
	if err := port.SetReadTimeout(left); err != nil {
		s.broken = true
		return 0, err
	}
	n, err := port.Read(p)
	switch {
	case err != nil:
		s.broken = true
		return n, err
	case n == 0:
		return 0, os.ErrDeadlineExceeded
	}
	return n, nil
}

func (s *serialLink) Write(p []byte) (int, error) {
	port, err := s.port()
	if err != nil {
		return 0, err
	}
	type result struct {
		n   int
		err error
	}
	done := make(chan result, 1)
	go func() { // flow control may hold a write back for ever
		n, err := port.Write(p)
		done <- result{n, err}
	}()
	var late <-chan time.Time
	if !s.deadline.IsZero() {
		timer := time.NewTimer(time.Until(s.deadline))
		defer timer.Stop()
		late = timer.C
	}
	select {
	case r := <-done:
		s.broken = s.broken || r.err != nil
		return r.n, r.err
	case <-late:
		_ = port.ResetOutputBuffer() // wakes the write
		return 0, os.ErrDeadlineExceeded
	}
}

// Close gives the line up. The port is closed with its last user, or at once if it failed, so that it is opened
// anew by its path.
func (s *serialLink) Close() error {
	lines.Lock()
	defer lines.Unlock()
	l := s.line
	l.mu.Lock()
	defer l.mu.Unlock()
	l.users--
	if l.port == nil || l.users > 0 && !s.broken {
		return nil
	}
	err := l.port.Close()
	l.port = nil
	return err
}

// SerialDevices lists the serial devices of this machine.
func SerialDevices() ([]string, error) { return serial.GetPortsList() }
