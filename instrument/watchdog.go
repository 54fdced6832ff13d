package instrument

import (
	"context"
	"strings"

	"usherbench/instrument/lane"
)

// watchdogs knows who has armed the watchdogs of an instrument. Several bays may share an instrument and with it one
// watchdog: it is disarmed when the last of them needs it no longer.
type watchdogs struct {
	lane  lane.Lane // taken while one is armed or disarmed; guards what follows
	users map[int]map[*Channel]bool
}

// ArmWatchdog arms the watchdog that looks after the channel.
func (c *Channel) ArmWatchdog(ctx context.Context) error {
	leave, err := c.watch.lane.Take(ctx)
	if err != nil {
		return c.wrap("arm the watchdog", err)
	}
	defer leave()
	if c.watch.users == nil {
		c.watch.users = map[int]map[*Channel]bool{}
	}
	which := c.whichWatchdog()
	if c.watch.users[which] == nil {
		c.watch.users[which] = map[*Channel]bool{}
	}
	c.watch.users[which][c] = true
	w := c.Dialect.Watchdog
	return c.set(ctx, "arm the watchdog", w.Arm, w.After.Seconds())
}

// DisarmWatchdog disarms the watchdog that looks after the channel, unless another channel needs it.
func (c *Channel) DisarmWatchdog(ctx context.Context) error {
	leave, err := c.watch.lane.Take(ctx)
	if err != nil {
		return c.wrap("disarm the watchdog", err)
	}
	defer leave()
	users := c.watch.users[c.whichWatchdog()]
	if delete(users, c); len(users) > 0 {
		return nil
	}
	disarm := c.Dialect.Watchdog.Disarm
	return c.set(ctx, "disarm the watchdog", disarm, disarm.Word)
}

// whichWatchdog is the number of the channel where each has its own watchdog, and 0 where the instrument has one.
func (c *Channel) whichWatchdog() int {
	own := c.Dialect.Select != ""
	for _, m := range c.Dialect.Watchdog.Arm.Messages {
		own = own || strings.Contains(m, "{channel}")
	}
	if own {
		return c.Number
	}
	return 0
}
