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

	"usherbench/instrument/transport"
	"usherbench/instrument/wire"
)

// Client speaks to one instrument. It connects when it is first used and again after a loss. Its methods may be
// called by several goroutines; messages take turns, also with the other instruments of a serial line, and those that
// make safe go first.
type Client struct {
	wire.Wire
	within time.Duration
	pause  time.Duration

	// The wire's lane guards what follows.
	transaction uint16
	ready       time.Time // when the line may be spoken on again
}

const defaultWithin = time.Second

// New makes a client. within bounds a message and its answer (one second if 0), pause is the least time between
// messages beyond what the standard asks of a serial line.
func New(address transport.Address, within, pause time.Duration) *Client {
	if within == 0 {
		within = defaultWithin
	}
	return &Client{Wire: wire.Wire{Address: address}, within: within, pause: pause}
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
	leave, err := c.Lane.Take(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Address, err)
	}
	defer leave()
	if err := context.Cause(ctx); err != nil {
		return nil, err
	}
	if err := c.Connect(ctx, wire.Within(ctx, c.within)); err != nil {
		return nil, err
	}
	if shared, ok := c.Link.(transport.Turns); ok {
		release, err := shared.Turn(ctx)
		if err != nil {
			return nil, c.Lose(shown, err)
		}
		defer release()
	}
	time.Sleep(time.Until(c.ready))
	if err := context.Cause(ctx); err != nil { // what was stopped meanwhile is not sent
		return nil, err
	}
	if err := c.Link.SetDeadline(wire.Within(ctx, c.within)); err != nil {
		return nil, c.Lose(shown, err)
	}
	at := time.Now()
	words, err = c.exchange(pdu)
	c.ready = time.Now().Add(c.pause + c.gap())
	var refused *Exception
	if err != nil && !errors.As(err, &refused) {
		err = c.Lose(shown, err)
	} else {
		c.Well(time.Now())
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
	if !c.Address.IsSerial() {
		return 0
	}
	if c.Address.Line.Baud > 19200 {
		return 1750 * time.Microsecond
	}
	const bitsOfCharacter = 11
	return time.Duration(3.5 * bitsOfCharacter / float64(c.Address.Line.Baud) * float64(time.Second))
}

func (c *Client) exchange(pdu []byte) ([]uint16, error) {
	var got []byte
	var err error
	if c.Address.IsSerial() {
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
	unit := byte(c.Address.Unit)
	if _, err := c.Link.Write(sealRTU(unit, pdu)); err != nil {
		return nil, err
	}
	frame := make([]byte, 0, 256)
	for want := 3; len(frame) < want; {
		n, err := c.Link.Read(frame[len(frame):want])
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
	unit := byte(c.Address.Unit)
	if _, err := c.Link.Write(sealTCP(c.transaction, unit, pdu)); err != nil {
		return nil, err
	}
	header := make([]byte, headerTCP)
	if _, err := io.ReadFull(c.Link, header); err != nil {
		return nil, err
	}
	length, err := lengthTCP(header)
	if err != nil {
		return nil, err
	}
	got := make([]byte, length)
	if _, err := io.ReadFull(c.Link, got); err != nil {
		return nil, err
	}
	if binary.BigEndian.Uint16(header) != c.transaction || header[6] != unit {
		return nil, fmt.Errorf("%w: transaction %d of unit %d answers %d of %d", ErrForeign, binary.BigEndian.Uint16(header),
			header[6], c.transaction, unit)
	}
	return got, nil
}
