package instrument

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/modbus"
	"usherbench/instrument/scpi"
	"usherbench/instrument/transport"
)

// Bounds of a suspicion: how long an answer to one guess may take, whatever the dialect says (which may be what is
// wrong, and a computer that is busy answers late), and up to which unit of a line is asked.
const (
	guessWithin = 600 * time.Millisecond
	mostGuessed = 16
)

// Suspect names what is probably wrong where nobody answered the question of a dialect: how messages end, or the number
// of the unit. It asks once for each guess, sets nothing, and belongs to an address that nothing else uses. Empty: none
// of its guesses was answered.
func Suspect(ctx context.Context, a transport.Address, d *dialect.Dialect) string {
	if a.Registers() {
		return suspectUnit(ctx, a, d)
	}
	return suspectEnd(ctx, a, d)
}

// suspectEnd tries the other ends of messages.
func suspectEnd(ctx context.Context, a transport.Address, d *dialect.Dialect) string {
	names := slices.SortedFunc(maps.Keys(dialect.Terminators), func(x, y string) int {
		return len(dialect.Terminators[x]) - len(dialect.Terminators[y])
	})
	for _, name := range names {
		end := dialect.Terminators[name]
		if end == d.Send || d.Identity.Ask.Message == "" {
			continue
		}
		other := *d
		other.Send, other.Receive, other.Within, other.Greeting = end, end[len(end)-1:], guessWithin, nil
		i, err := OpenAt("guess", a, &other)
		if err != nil {
			return ""
		}
		identity, err := i.Identify(ctx)
		_ = i.Close() // it was only asked
		if identity != "" {
			return fmt.Sprintf("it answers when messages end with %s (%s): in the dialect write terminator: {send: %s}", name,
				messages.Excerpt(identity), name)
		}
		if unended := new(scpi.UnendedError); errors.As(err, &unended) {
			return fmt.Sprintf("it answers when messages end with %s, and ends its answers differently: it sent %s", name,
				messages.Excerpt(unended.Got))
		}
	}
	return ""
}

// suspectUnit asks the other units of a line, or behind a gateway.
func suspectUnit(ctx context.Context, a transport.Address, d *dialect.Dialect) string {
	ask := d.Identity.Ask.Register
	if ask == nil && len(d.Read) > 0 {
		ask = d.Read[0].Register
	}
	if ask == nil {
		return ""
	}
	for unit := 1; unit <= mostGuessed && ctx.Err() == nil; unit++ {
		if unit == a.Unit {
			continue
		}
		c := modbus.New(a.WithUnit(unit), guessWithin, d.Pause)
		_, err := c.Read(ctx, ask.Input, uint16(ask.Address), 1)
		_ = c.Close() // it was only asked
		if refused := new(modbus.Exception); err == nil || errors.As(err, &refused) && !refused.NobodyThere() {
			return fmt.Sprintf("unit %d does not answer, but unit %d does: is that its number? Then write unit=%d in its "+
				"address", a.Unit, unit, unit)
		}
	}
	return ""
}
