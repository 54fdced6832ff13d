package modbus

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"usherbench/instrument/lane"
	"usherbench/instrument/messages"
	"usherbench/instrument/transport"
)

// Client speaks to one instrument. It connects when it is first used and again after a loss. Its methods may be
// called by several goroutines; messages take turns, also with the other instruments of a serial line, and those that
// make safe go first.
type Client struct {
	address transport.Address
	within  time.Duration
	pause   time.Duration
	Trace   messages.Trace

	lane        lane.Lane // taken for the length of an exchange; guards what follows
	closed      bool
	link        transport.Link
	transaction uint16
	ready       time.Time // when the line may be spoken on again
	notBefore   time.Time
	failures    int
	lastError   error
}

const (
	defaultWithin = time.Second
	pauseOnLoss   = 200 * time.Millisecond
	longestPause  = 2 * time.Second
)

// ErrClosed is returned after Close.
var ErrClosed = errors.New("the connection was closed")

// New makes a client. within bounds a message and its answer (one second if 0), pause is the least time between
// messages beyond what the standard asks of a serial line.
func New(address transport.Address, within, pause time.Duration) *Client {
	if within == 0 {
		within = defaultWithin
	}
	return &Client{address: address, within: within, pause: pause}
}

// Read reads count registers from an address on; input tells which of the two kinds.
func (c *Client) Read(ctx context.Context, input bool, address uint16, count int) ([]uint16, error) {
	if count < 1 || count > MostRead {
		return nil, fmt.Errorf("%d registers at once: 1 to %d can be read", count, MostRead)
	}
	function := ReadHolding
	if input {
		function = ReadInput
	}
	return c.do(ctx, request(function, address, uint16(count)), fmt.Sprintf("read %s %d × %d", kind(input), address,
		count))
}

func kind(input bool) string {
	if input {
		return "input"
	}
	return "holding"
}

// Write writes registers from an address on: one with function 6, several with function 16, or always with 16.
func (c *Client) Write(ctx context.Context, address uint16, several bool, words ...uint16) error {
	if len(words) < 1 || len(words) > MostWrite {
		return fmt.Errorf("%d registers at once: 1 to %d can be written", len(words), MostWrite)
	}
	function := WriteOne
	if several || len(words) > 1 {
		function = WriteSeveral
	}
	_, err := c.do(ctx, request(function, address, words...), fmt.Sprintf("write %d = %s", address,
		strings.Trim(fmt.Sprint(words), "[]")))
	return err
}

func (c *Client) do(ctx context.Context, pdu []byte, shown string) (words []uint16, err error) {
	leave, err := c.lane.Take(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.address, err)
	}
	defer leave()
	if err := c.connect(ctx); err != nil {
		return nil, err
	}
	if shared, ok := c.link.(transport.Turns); ok {
		release, err := shared.Turn(ctx)
		if err != nil {
			return nil, c.lose(shown, err)
		}
		defer release()
	}
	time.Sleep(time.Until(c.ready))
	if err := context.Cause(ctx); err != nil { // what was stopped meanwhile is not sent
		return nil, err
	}
	if err := c.link.SetDeadline(c.deadline(ctx)); err != nil {
		return nil, c.lose(shown, err)
	}
	at := time.Now()
	words, err = c.exchange(pdu)
	c.ready = time.Now().Add(c.pause + c.gap())
	var refused *Exception
	if err != nil && !errors.As(err, &refused) {
		err = c.lose(shown, err)
	} else {
		c.failures = 0
	}
	answer := "ok"
	if len(words) > 0 {
		answer = strings.Trim(fmt.Sprint(words), "[]")
	}
	if err != nil {
		answer = ""
	}
	c.Trace.Note(at, shown, answer, err)
	return words, err
}

// gap is the silence that parts frames on a serial line: 3.5 characters, and 1.75 ms above 19,200 baud (MODBUS
// over Serial Line V1.02, chapter 2.5.1.1).
func (c *Client) gap() time.Duration {
	if !c.address.IsSerial() {
		return 0
	}
	if c.address.Line.Baud > 19200 {
		return 1750 * time.Microsecond
	}
	const bitsOfCharacter = 11
	return time.Duration(3.5 * bitsOfCharacter / float64(c.address.Line.Baud) * float64(time.Second))
}

func (c *Client) exchange(pdu []byte) ([]uint16, error) {
	var got []byte
	var err error
	if c.address.IsSerial() {
		time.Sleep(c.gap()) // another instrument may just have spoken
		got, err = c.exchangeRTU(pdu)
	} else {
		got, err = c.exchangeTCP(pdu)
	}
	if err != nil {
		return nil, err
	}
	return answerTo(pdu, got)
}

func (c *Client) exchangeRTU(pdu []byte) ([]byte, error) {
	unit := byte(c.address.Unit)
	if _, err := c.link.Write(sealRTU(unit, pdu)); err != nil {
		return nil, err
	}
	frame := make([]byte, 0, 256)
	for want := 3; len(frame) < want; {
		n, err := c.link.Read(frame[len(frame):want])
		frame = frame[:len(frame)+n]
		if err != nil {
			if len(frame) > 0 && errors.Is(err, os.ErrDeadlineExceeded) {
				return nil, fmt.Errorf("%w: %w", ErrShort, err)
			}
			return nil, err
		}
		if length := answerLength(frame); length > want {
			want = length
		}
	}
	return openRTU(unit, frame)
}

func (c *Client) exchangeTCP(pdu []byte) ([]byte, error) {
	c.transaction++
	unit := byte(c.address.Unit)
	if _, err := c.link.Write(sealTCP(c.transaction, unit, pdu)); err != nil {
		return nil, err
	}
	header := make([]byte, headerTCP)
	if _, err := io.ReadFull(c.link, header); err != nil {
		return nil, err
	}
	length, err := lengthTCP(header)
	if err != nil {
		return nil, err
	}
	got := make([]byte, length)
	if _, err := io.ReadFull(c.link, got); err != nil {
		return nil, err
	}
	if binary.BigEndian.Uint16(header) != c.transaction || header[6] != unit {
		return nil, fmt.Errorf("%w: transaction %d of unit %d answers %d of %d", ErrForeign, binary.BigEndian.Uint16(header),
			header[6], c.transaction, unit)
	}
	return got, nil
}

func (c *Client) deadline(ctx context.Context) time.Time {
	deadline := time.Now().Add(c.within)
	if d, ok := ctx.Deadline(); ok && d.Before(deadline) {
		deadline = d
	}
	return deadline
}

func (c *Client) connect(ctx context.Context) error {
	if err := context.Cause(ctx); err != nil {
		return err
	}
	if c.closed {
		return ErrClosed
	}
	if c.link != nil {
		return nil
	}
	if time.Now().Before(c.notBefore) && !messages.IsUrgent(ctx) {
		return fmt.Errorf("%s is not connected: %w", c.address, c.lastError)
	}
	dial, cancel := context.WithDeadline(ctx, c.deadline(ctx))
	defer cancel()
	at := time.Now()
	link, err := transport.Open(dial, c.address)
	if err != nil {
		c.Trace.Note(at, "(connect)", "", err)
		c.putOff(err)
		return err
	}
	c.Trace.Connected()
	c.link = link
	return nil
}

// lose closes the link after a failed exchange, so that a late answer is never taken for the next question's.
func (c *Client) lose(shown string, err error) error {
	_ = c.link.Close() // it is already of no use
	c.link = nil
	c.putOff(err)
	return fmt.Errorf("%s: no answer to %q: %w", c.address, shown, err)
}

// putOff delays the next attempt; on a line that others share longer each time, so that a dead instrument does
// not take their turns.
func (c *Client) putOff(err error) {
	c.failures++
	pause := pauseOnLoss
	if c.address.IsSerial() {
		pause = min(pauseOnLoss<<min(c.failures-1, 8), longestPause)
	}
	c.notBefore, c.lastError = time.Now().Add(pause), err
}

// Close ends the connection; later messages fail with ErrClosed.
func (c *Client) Close() error {
	leave, err := c.lane.Take(context.Background())
	if err != nil {
		return err
	}
	defer leave()
	c.closed = true
	if c.link == nil {
		return nil
	}
	err = c.link.Close()
	c.link = nil
	return err
}
