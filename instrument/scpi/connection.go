package scpi

import (
	"bufio"
	"context"
	"time"

	"usherbench/instrument/transport"
	"usherbench/instrument/wire"
)

// connect opens the link if there is none.
func (c *Client) connect(ctx context.Context, within time.Duration) error {
	if c.Connected() {
		return nil
	}
	if err := c.Connect(ctx, c.deadline(ctx, within)); err != nil {
		return err
	}
	c.reader, c.chosen = bufio.NewReaderSize(c.Link, 4096), ""
	c.until = time.Time{}
	if err := c.setDeadline(ctx, within); err != nil {
		return c.Lose("", err)
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
	if shared, ok := c.Link.(transport.Turns); ok {
		var err error
		if release, err = shared.Turn(ctx); err != nil {
			return c.Lose(greeting, err)
		}
	}
	defer release()
	c.wait()
	err := c.send(greeting)
	c.now = c.Trace.Note(c.now, greeting, "", err)
	return err
}

func (c *Client) deadline(ctx context.Context, within time.Duration) time.Time {
	return wire.Within(ctx, c.bound(within))
}

// bound is how long an exchange may take that states within, or 0.
func (c *Client) bound(within time.Duration) time.Duration {
	if within == 0 {
		return c.options.Within
	}
	return within
}

// setDeadline bounds the exchange that follows. Setting a deadline costs as much as a tenth of a quick exchange, so one
// without a bound of its own may have an eighth of its time more, and the next ones find the deadline as they need it.
func (c *Client) setDeadline(ctx context.Context, within time.Duration) error {
	c.now = time.Now()
	until := c.now.Add(c.bound(within))
	if by, bound := ctx.Deadline(); !bound {
		slack := c.bound(within) / 8
		if !c.until.Before(until) && !c.until.After(until.Add(slack)) {
			return nil
		}
		until = until.Add(slack)
	} else if by.Before(until) {
		until = by
	}
	c.until = until
	return c.Link.SetDeadline(until)
}
