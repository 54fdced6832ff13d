package scpi

import (
	"bufio"
	"context"
	"fmt"
	"time"

	"usherbench/instrument/messages"
	"usherbench/instrument/transport"
)

// connect opens the link if there is none.
func (c *Client) connect(ctx context.Context, within time.Duration) error {
	if c.closed {
		return ErrClosed
	}
	if c.link != nil {
		return nil
	}
	if time.Now().Before(c.notBefore) && !messages.IsUrgent(ctx) {
		return fmt.Errorf("%s is not connected: %w", c.address, c.lastError)
	}
	dial, cancel := context.WithDeadline(ctx, c.deadline(ctx, within))
	defer cancel()
	at := time.Now()
	link, err := transport.Open(dial, c.address)
	if err != nil {
		c.Trace.Note(at, "(connect)", "", err)
		c.putOff(err)
		return err
	}
	c.Trace.Connected()
	c.link, c.reader, c.chosen = link, bufio.NewReaderSize(link, 4096), ""
	c.until = time.Time{}
	if err := c.setDeadline(ctx, within); err != nil {
		return c.lose("", err)
	}
	for _, greeting := range c.options.Greeting {
		if err := c.greet(ctx, greeting); err != nil {
			return err
		}
	}
	return nil
}

func (c *Client) greet(ctx context.Context, greeting string) error {
	release := func() {}
	if shared, ok := c.link.(transport.Turns); ok {
		var err error
		if release, err = shared.Turn(ctx); err != nil {
			return c.lose(greeting, err)
		}
	}
	defer release()
	c.wait()
	at := time.Now()
	err := c.send(greeting)
	c.Trace.Note(at, greeting, "", err)
	return err
}

func (c *Client) deadline(ctx context.Context, within time.Duration) time.Time {
	if within == 0 {
		within = c.options.Within
	}
	deadline := time.Now().Add(within)
	if d, ok := ctx.Deadline(); ok && d.Before(deadline) {
		deadline = d
	}
	return deadline
}

// setDeadline bounds the exchange that follows. Setting a deadline costs as much as a tenth of a quick exchange, so one
// without a bound of its own may have an eighth of its time more, and the next ones find the deadline as they need it.
func (c *Client) setDeadline(ctx context.Context, within time.Duration) error {
	until := c.deadline(ctx, within)
	if _, bound := ctx.Deadline(); !bound {
		slack := time.Until(until) / 8
		if !c.until.Before(until) && !c.until.After(until.Add(slack)) {
			return nil
		}
		until = until.Add(slack)
	}
	c.until = until
	return c.link.SetDeadline(until)
}

// lose closes the link after a failed exchange.
func (c *Client) lose(message string, err error) error {
	if c.link != nil {
		_ = c.link.Close() // it is already of no use
		c.link = nil
	}
	c.putOff(err)
	if message == "" {
		return fmt.Errorf("%s: %w", c.address, err)
	}
	return fmt.Errorf("%s: no answer to %q: %w", c.address, message, err)
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
