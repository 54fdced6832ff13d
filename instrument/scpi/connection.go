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
	c.setFor = 0
	c.shared, _ = c.Link.(transport.Turns)
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
	if c.shared != nil {
		var err error
		if release, err = c.shared.Turn(ctx); err != nil {
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
// without a bound of its own may have an eighth of its time more, and those that follow within that eighth are bounded
// well enough by the deadline that is in force.
func (c *Client) setDeadline(ctx context.Context, within time.Duration) error {
	bound := c.bound(within)
	slack := bound / 8
	by, own := ctx.Deadline()
	if since := time.Since(c.setAt); !own && bound == c.setFor && since <= slack {
		c.now = c.setAt.Add(since)
		return nil
	}
	c.now = time.Now()
	until := c.now.Add(bound + slack)
	c.setAt, c.setFor = c.now, bound
	if own {
		c.setFor = 0 // it is for this exchange alone
		until = c.now.Add(min(bound, by.Sub(c.now)))
	}
	return c.Link.SetDeadline(until)
}
