// Package scpi carries messages of SCPI-1999 and IEEE 488.2 instruments over a transport: one question, one answer, in a bounded
// time. A connection on which an answer did not come is closed, so that a late answer is never taken for the next question's.
package scpi

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"usherbench/instrument/transport"
)

// Options says how an instrument is spoken to.
type Options struct {
	// Within is how long a message and its answer may take; 0 means one second.
	Within time.Duration
	// ErrorQuery asks for the oldest error of the queue; empty: the instrument has no queue. NoError is how an answer begins
	// when the queue is empty.
	ErrorQuery, NoError string
}

// Client speaks to one instrument. It connects when it is first used and again after a loss. Its methods may be called by several
// goroutines; messages take turns.
type Client struct {
	address string
	options Options

	mu     sync.Mutex // held for the length of a message; guards what follows
	link   transport.Link
	reader *bufio.Reader
	buffer []byte
	// notBefore is when the next attempt to connect may begin, after one that failed.
	notBefore time.Time
	lastError error

	stats Statistics
}

// Statistics counts what happened on a connection.
type Statistics struct {
	Messages, Errors, Connects uint64
}

const (
	defaultWithin = time.Second
	pauseOnLoss   = 200 * time.Millisecond
	longestAnswer = 1 << 20
	// mostErrors bounds how many entries of an error queue are read at once.
	mostErrors = 20
)

// ErrClosed is returned after Close.
var ErrClosed = errors.New("the connection was closed")

// InstrumentError is what an instrument put into its error queue.
type InstrumentError struct {
	Message string   // the message that was sent
	Queue   []string // the entries, oldest first
}

func (e *InstrumentError) Error() string {
	return fmt.Sprintf("the instrument refused %q: %s", e.Message, strings.Join(e.Queue, "; "))
}

// New makes a client; it connects when it is first used.
func New(address string, o Options) *Client {
	if o.Within == 0 {
		o.Within = defaultWithin
	}
	return &Client{address: address, options: o}
}

// Query sends a message and returns its answer without terminator.
func (c *Client) Query(ctx context.Context, message string) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.exchange(ctx, message)
}

// Command sends a message that has no answer and reads the error queue in the same exchange. What the queue holds is returned as
// an *InstrumentError. Without an error query it only sends.
func (c *Client) Command(ctx context.Context, message string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.options.ErrorQuery == "" {
		return c.send(ctx, message)
	}
	answer, err := c.exchange(ctx, message+";:"+c.options.ErrorQuery)
	if err != nil {
		return err
	}
	if queue, err := c.drain(ctx, answer); err != nil || len(queue) > 0 {
		return errors.Join(err, &InstrumentError{message, queue})
	}
	return nil
}

// Errors reads the error queue until it is empty.
func (c *Client) Errors(ctx context.Context) ([]string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.options.ErrorQuery == "" {
		return nil, nil
	}
	answer, err := c.exchange(ctx, c.options.ErrorQuery)
	if err != nil {
		return nil, err
	}
	return c.drain(ctx, answer)
}

// drain collects entries until the queue is empty, beginning with one that was already read.
func (c *Client) drain(ctx context.Context, answer string) (queue []string, err error) {
	for !strings.HasPrefix(answer, c.options.NoError) && len(queue) < mostErrors {
		queue = append(queue, answer)
		if answer, err = c.exchange(ctx, c.options.ErrorQuery); err != nil {
			return queue, err
		}
	}
	return queue, nil
}

func (c *Client) send(ctx context.Context, message string) error {
	if err := c.connect(ctx); err != nil {
		return err
	}
	c.stats.Messages++
	c.buffer = append(append(c.buffer[:0], message...), '\n')
	if _, err := c.link.Write(c.buffer); err != nil {
		return c.lose(message, err)
	}
	return nil
}

func (c *Client) exchange(ctx context.Context, message string) (string, error) {
	if err := c.send(ctx, message); err != nil {
		return "", err
	}
	line, err := c.reader.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		line, err = c.readLong(line)
	}
	if err != nil {
		return "", c.lose(message, err)
	}
	return strings.TrimRight(string(line), "\r\n"), nil
}

func (c *Client) readLong(head []byte) ([]byte, error) {
	line := append([]byte(nil), head...)
	for {
		part, err := c.reader.ReadSlice('\n')
		line = append(line, part...)
		if !errors.Is(err, bufio.ErrBufferFull) {
			return line, err
		}
		if len(line) > longestAnswer {
			return nil, fmt.Errorf("the answer is longer than %d bytes", longestAnswer)
		}
	}
}

// connect opens the link if there is none, and sets the deadline of this exchange.
func (c *Client) connect(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	deadline := time.Now().Add(c.options.Within)
	if d, ok := ctx.Deadline(); ok && d.Before(deadline) {
		deadline = d
	}
	if c.link == nil {
		if c.options.Within < 0 {
			return ErrClosed
		}
		if time.Now().Before(c.notBefore) {
			return fmt.Errorf("%s is not connected: %w", c.address, c.lastError)
		}
		dial, cancel := context.WithDeadline(ctx, deadline)
		defer cancel()
		link, err := transport.Open(dial, c.address)
		if err != nil {
			c.stats.Errors++
			c.notBefore, c.lastError = time.Now().Add(pauseOnLoss), err
			return err
		}
		c.stats.Connects++
		c.link, c.reader = link, bufio.NewReaderSize(link, 4096)
	}
	return c.link.SetDeadline(deadline)
}

// lose closes the link after a failed exchange.
func (c *Client) lose(message string, err error) error {
	c.stats.Errors++
	_ = c.link.Close() // it is already of no use
	c.link = nil
	c.notBefore, c.lastError = time.Now().Add(pauseOnLoss), err
	return fmt.Errorf("%s: no answer to %q: %w", c.address, message, err)
}

// Statistics tells what happened so far.
func (c *Client) Statistics() Statistics {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.stats
}

// Close ends the connection; later messages fail with ErrClosed.
func (c *Client) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.options.Within = -1
	if c.link == nil {
		return nil
	}
	err := c.link.Close()
	c.link = nil
	return err
}
