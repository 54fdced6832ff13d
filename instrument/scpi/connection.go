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
	fresh, err := c.Connect(ctx, c.deadline(ctx, within))
	if err != nil || !fresh {
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
	at := time.Now()
	err := c.send(greeting)
	c.Trace.Note(at, greeting, "", err)
	return err
}

func (c *Client) deadline(ctx context.Context, within time.Duration) time.Time {
	if within == 0 {
		within = c.options.Within
	}
	return wire.Within(ctx, within)
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
	return c.Link.SetDeadline(until)
}
