// Package scpi carries messages of SCPI-1999 and IEEE 488.2 instruments over a transport: one question, one
// answer, in a bounded time. A connection on which an answer did not come is closed, so that a late answer is
// never taken for the next question's.
package scpi

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"usherbench/instrument/messages"
	"usherbench/instrument/transport"
	"usherbench/instrument/wire"
)

// Options says how an instrument is spoken to.
type Options struct {
	// Within is how long a message and its answer may take; 0 means one second.
	Within time.Duration
	// ErrorQuery asks for the oldest error of the queue; empty: the instrument has no queue. NoError is how an
	// answer begins when the queue is empty. Joined sends the query in one line with the message that it is about.
	ErrorQuery, NoError string
	Joined              bool
	// Send ends a message, Receive an answer; both are a line feed if empty.
	Send, Receive string
	// Greeting is sent after every connection.
	Greeting []string
	// Pause is the least time between the end of an exchange and the next message.
	Pause time.Duration
}

// Request is one message, with what must come before it and how its answer is read.
type Request struct {
	// Select is sent before the message, in the same turn, unless it was the last one sent; it chooses the channel.
	Select  string
	Message string
	// Within replaces the time of the options.
	Within time.Duration
	// Block says that the answer is a block of IEEE 488.2.
	Block bool
	// Data receives the data of a block as they come, in place of the answer; it is asked when their length is known.
	Data func(length int) io.Writer
	// Twice has the question asked twice with nothing in between, for the second answer: an instrument that answers each
	// question with the answer to the one before has then answered this one.
	Twice bool
}

// Client speaks to one instrument. It connects when it is first used and again after a loss. Its methods may be
// called by several goroutines; messages take turns, and those that make safe go first.
type Client struct {
	wire.Wire
	options Options
	ends    string // the characters with which an answer may end, beside carriage return and line feed
	last    byte   // the very last of them

	// The wire's lane guards what follows.
	reader *bufio.Reader
	shared transport.Turns // the link, where others use its line too; nil: it is nobody else's
	buffer []byte
	// The deadline in force was set at a time, for exchanges that may take so long; 0: for none that comes.
	setAt  time.Time
	setFor time.Duration
	chosen string    // the last Select that was sent on this connection
	ready  time.Time // when the next message may be sent
	now    time.Time // when the clock was looked at last, which costs: the message that comes next is sent then
}

const (
	defaultWithin = time.Second
	longestAnswer = 1 << 20
	longestBlock  = 64 << 20
	// mostErrors bounds how many entries of an error queue are read at once.
	mostErrors = 20
)

// InstrumentError is what an instrument put into its error queue.
type InstrumentError struct {
	Message string   // the message that was sent
	Queue   []string // the entries, oldest first
}

func (e *InstrumentError) Error() string {
	return fmt.Sprintf("the instrument refused %q: %s", shortened(e.Message), strings.Join(e.Queue, "; "))
}

// UnendedError is an answer whose end did not come: the instrument ends its answers otherwise, or stopped in the
// middle.
type UnendedError struct {
	Got, End string
	Err      error
}

func (e *UnendedError) Error() string {
	return fmt.Sprintf("%s came, but not %q, with which its dialect ends an answer: %v; does it end them otherwise "+
		"(terminator: {receive: …})?", messages.Excerpt(e.Got), e.End, e.Err)
}

func (e *UnendedError) Unwrap() error { return e.Err }

// New makes a client; it connects when it is first used.
func New(address transport.Address, o Options) *Client {
	if o.Within == 0 {
		o.Within = defaultWithin
	}
	if o.Send == "" {
		o.Send = "\n"
	}
	if o.Receive == "" {
		o.Receive = "\n"
	}
	return &Client{Wire: wire.Wire{Address: address}, options: o, ends: strings.Trim(o.Receive, "\r\n"),
		last: o.Receive[len(o.Receive)-1]}
}

// Query sends a message and returns its answer without terminator; of a block its data.
func (c *Client) Query(ctx context.Context, r Request) (string, error) {
	release, err := c.begin(ctx, r)
	if err != nil {
		return "", err
	}
	defer release()
	if r.Twice {
		if _, err := c.exchange(r); err != nil {
			return "", err
		}
		c.wait()
		if err := c.setDeadline(ctx, r.Within); err != nil { // each answer has its own time
			return "", c.Lose(r.Message, err)
		}
	}
	return c.exchange(r)
}

// Command sends a message that has no answer and reads the error queue. What the queue holds is returned as an
// *InstrumentError. Without an error query it only sends.
func (c *Client) Command(ctx context.Context, r Request) error {
	release, err := c.begin(ctx, r)
	if err != nil {
		return err
	}
	defer release()
	if c.options.ErrorQuery == "" {
		err := c.send(r.Message)
		c.now = c.Trace.Note(c.now, r.Message, "", err)
		return err
	}
	query := Request{Message: r.Message + ";:" + c.options.ErrorQuery}
	if !c.options.Joined {
		err := c.send(r.Message)
		c.now = c.Trace.Note(c.now, r.Message, "", err)
		if err != nil {
			return err
		}
		c.wait()
		query.Message = c.options.ErrorQuery
	}
	answer, err := c.exchange(query)
	if err != nil {
		return err
	}
	if queue, err := c.drain(answer); err != nil || len(queue) > 0 {
		return errors.Join(err, &InstrumentError{r.Message, queue})
	}
	return nil
}

// Requests tells whenever the instrument has requested service over the connection that it has now; nil: it cannot do
// that over its transport.
func (c *Client) Requests(ctx context.Context) (<-chan struct{}, error) {
	release, err := c.begin(ctx, Request{})
	if err != nil {
		return nil, err
	}
	defer release()
	link, can := c.Link.(transport.Requester)
	if !can {
		return nil, nil
	}
	requests, err := link.Requests()
	if err != nil {
		return nil, c.Lose("", err)
	}
	return requests, nil
}

// Errors reads the error queue until it is empty.
func (c *Client) Errors(ctx context.Context) ([]string, error) {
	if c.options.ErrorQuery == "" {
		return nil, nil
	}
	release, err := c.begin(ctx, Request{})
	if err != nil {
		return nil, err
	}
	defer release()
	answer, err := c.exchange(Request{Message: c.options.ErrorQuery})
	if err != nil {
		return nil, err
	}
	return c.drain(answer)
}

// drain collects entries until the queue is empty, beginning with one that was already read.
func (c *Client) drain(answer string) (queue []string, err error) {
	for !strings.HasPrefix(strings.TrimSpace(answer), c.options.NoError) && len(queue) < mostErrors {
		queue = append(queue, answer)
		c.wait()
		if answer, err = c.exchange(Request{Message: c.options.ErrorQuery}); err != nil {
			return queue, err
		}
	}
	return queue, nil
}

// begin waits for its turn, connects if need be, sets the deadline of the exchange, and sends what chooses the
// channel. A message whose context has ended meanwhile is not sent.
func (c *Client) begin(ctx context.Context, r Request) (release func(), err error) {
	leave, err := c.Lane.Take(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Address, err)
	}
	done, err := c.prepare(ctx, r)
	if err != nil {
		leave()
		return nil, err
	}
	release = leave
	if done != nil {
		release = func() {
			done()
			leave()
		}
	}
	if err := context.Cause(ctx); err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// prepare does what must come before a message, when it is its turn. release is what must be done after it; nil:
// nothing.
func (c *Client) prepare(ctx context.Context, r Request) (release func(), err error) {
	if err := context.Cause(ctx); err != nil {
		return nil, err
	}
	if err := c.connect(ctx, r.Within); err != nil {
		return nil, err
	}
	if c.shared != nil {
		if release, err = c.shared.Turn(ctx); err != nil {
			return nil, c.Lose("", err)
		}
		c.reader.Reset(c.Link)
	}
	if stale := c.reader.Buffered(); stale > 0 { // an answer that nobody asked for must not answer this question
		_, _ = c.reader.Discard(stale)
	}
	if err = c.setDeadline(ctx, r.Within); err != nil {
		err = c.Lose("", err)
	} else {
		err = c.choose(r.Select)
	}
	if err != nil && release != nil {
		release()
	}
	return c.thenPause(release), err
}

// thenPause begins the pause between messages after one, before others have their turn.
func (c *Client) thenPause(release func()) func() {
	if c.options.Pause == 0 {
		return release
	}
	return func() {
		c.ready = time.Now().Add(c.options.Pause)
		if release != nil {
			release()
		}
	}
}

// choose sends what chooses the channel, if another was chosen last.
func (c *Client) choose(channel string) error {
	c.wait()
	if channel == "" || channel == c.chosen {
		return nil
	}
	if err := c.send(channel); err != nil {
		return err
	}
	c.chosen = channel
	c.wait()
	return nil
}

// wait keeps the pause between messages.
func (c *Client) wait() {
	if c.options.Pause > 0 {
		time.Sleep(time.Until(c.ready))
		c.now = time.Now()
		c.ready = c.now.Add(c.options.Pause)
	}
}

func (c *Client) send(message string) error {
	c.buffer = append(append(c.buffer[:0], message...), c.options.Send...)
	if _, err := c.Link.Write(c.buffer); err != nil {
		return c.Lose(message, err)
	}
	return nil
}

func (c *Client) exchange(r Request) (answer string, err error) {
	length := 0
	err = c.send(r.Message)
	c.Trace.Sent(c.now, r.Message)
	if err == nil {
		if r.Block {
			answer, err = c.data(r, &length)
		} else {
			answer, err = c.line()
		}
		if err != nil {
			err = c.Lose(r.Message, err)
		}
	}
	shown := answer
	if r.Block && err == nil {
		shown = fmt.Sprintf("(block of %d bytes)", length)
	}
	c.now = c.Trace.Answered(shown, err)
	if err == nil {
		c.Well(c.now)
	}
	return answer, err
}

// data reads the block that answers a request, and notes its length.
func (c *Client) data(r Request, length *int) (string, error) {
	var text strings.Builder
	err := c.block(func(n int) io.Writer {
		if *length = n; r.Data != nil {
			return r.Data(n)
		}
		text.Grow(min(n, atOnce))
		return &text
	})
	return text.String(), err
}

// line reads up to the terminator.
func (c *Client) line() (string, error) {
	line, err := c.reader.ReadSlice(c.last)
	if err != nil {
		line, err = c.unended(line, err)
	}
	if err != nil {
		return "", err
	}
	end := len(line)
	for end > 0 && c.isEnd(line[end-1]) {
		end--
	}
	return string(line[:end]), nil
}

// isEnd tells whether an answer may end with a character.
func (c *Client) isEnd(of byte) bool {
	return of == '\n' || of == '\r' || c.ends != "" && strings.IndexByte(c.ends, of) >= 0
}

// unended reads on where an answer is longer than the buffer; every other error is the answer's.
func (c *Client) unended(head []byte, err error) ([]byte, error) {
	line := head
	if errors.Is(err, bufio.ErrBufferFull) {
		line, err = c.readLong(head)
	}
	if err != nil && len(line) > 0 {
		err = &UnendedError{Got: string(line), End: c.options.Receive, Err: err}
	}
	return line, err
}

func (c *Client) readLong(head []byte) ([]byte, error) {
	line := append([]byte(nil), head...)
	for {
		part, err := c.reader.ReadSlice(c.last)
		line = append(line, part...)
		if !errors.Is(err, bufio.ErrBufferFull) {
			return line, err
		}
		if len(line) > longestAnswer {
			return nil, fmt.Errorf("the answer is longer than %d bytes", longestAnswer)
		}
	}
}

// longestShown is how much of a message an error quotes.
const longestShown = 80

func shortened(message string) string {
	if len(message) <= longestShown {
		return message
	}
	return message[:longestShown/2] + " … " + message[len(message)-longestShown/4:]
}
