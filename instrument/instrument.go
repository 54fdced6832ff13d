// Package instrument is how hardware is spoken to: an [Instrument] joins a dialect with a connection and offers what the engine
// needs of a channel: set, read, confirm. It knows nothing of procedures.
package instrument

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"usherbench/instrument/dialect"
	"usherbench/instrument/scpi"
)

// Instrument is a device on the bench. Its methods may be called by several goroutines; messages take turns.
type Instrument struct {
	Name    string
	Address string
	Dialect *dialect.Dialect
	client  *scpi.Client
}

// ErrWrongIdentity means that something else answers at the address than the dialect expects.
var ErrWrongIdentity = errors.New("another instrument answers")

// Open prepares an instrument; it connects when it is first used.
func Open(name, address string, d *dialect.Dialect) *Instrument {
	return &Instrument{Name: name, Address: address, Dialect: d, client: scpi.New(address, scpi.Options{
		Within: d.Within, ErrorQuery: d.ErrorQuery, NoError: d.NoError,
	})}
}

// Close ends the connection.
func (i *Instrument) Close() error { return i.client.Close() }

// Statistics counts messages, errors and connections.
func (i *Instrument) Statistics() scpi.Statistics { return i.client.Statistics() }

// Identify asks who the instrument is and compares with the dialect. The identity is returned also with ErrWrongIdentity.
func (i *Instrument) Identify(ctx context.Context) (string, error) {
	identity, err := i.client.Query(ctx, "*IDN?")
	if err != nil {
		return "", i.wrap("identify", err)
	}
	if !i.Dialect.Identity.MatchString(identity) {
		return identity, fmt.Errorf("instrument %s at %s: %w: it says %q, but dialect %s expects %s; check the address or choose another dialect",
			i.Name, i.Address, ErrWrongIdentity, identity, i.Dialect.Name, i.Dialect.Identity)
	}
	return identity, nil
}

// Errors empties the instrument's error queue and returns its entries.
func (i *Instrument) Errors(ctx context.Context) ([]string, error) {
	queue, err := i.client.Errors(ctx)
	return queue, i.wrap("read the error queue", err)
}

// Read takes all readings of a channel, in the order of the dialect's Gives. A reading that the instrument marks as not a number
// or as overload is NaN.
func (i *Instrument) Read(ctx context.Context, channel int, values []float64) error {
	answer, err := i.client.Query(ctx, i.Dialect.Fill(i.Dialect.Read, channel, 0))
	if err != nil {
		return i.wrap("read", err)
	}
	for k := range i.Dialect.Gives {
		part, rest, more := strings.Cut(answer, ";")
		if !more && strings.Contains(answer, ",") {
			part, rest, _ = strings.Cut(answer, ",")
		}
		x, err := strconv.ParseFloat(strings.TrimSpace(part), 64)
		if err != nil {
			return i.wrap("read", fmt.Errorf("%q is not a number: %d were expected for %s", part, len(i.Dialect.Gives), strings.Join(i.Dialect.Gives, ", ")))
		}
		values[k] = valid(x)
		answer = rest
	}
	return nil
}

// The numbers that SCPI uses for "not a number" (9.91E37) and for overload (9.9E37) are beyond any reading.
const beyondReadings = 9e36

func valid(x float64) float64 {
	if math.Abs(x) > beyondReadings {
		return math.NaN()
	}
	return x
}

// Set sets a quantity of a channel to a number in SI.
func (i *Instrument) Set(ctx context.Context, channel int, quantity string, value float64) error {
	message, ok := i.Dialect.Set[quantity]
	if !ok {
		return i.wrap("set "+quantity, fmt.Errorf("dialect %s has no message for it", i.Dialect.Name))
	}
	return i.wrap("set "+quantity, i.client.Command(ctx, i.Dialect.Fill(message, channel, value)))
}

// SetWord sets what takes a word: "output" to "on", "mode" to "current".
func (i *Instrument) SetWord(ctx context.Context, channel int, quantity, word string) error {
	message, ok := i.Dialect.Words[quantity][word]
	if !ok {
		return i.wrap("set "+quantity, fmt.Errorf("dialect %s has no message for %s %s", i.Dialect.Name, quantity, word))
	}
	return i.wrap("set "+quantity+" "+word, i.client.Command(ctx, i.Dialect.Fill(message, channel, 0)))
}

// OutputOn reads back whether the output of a channel is on.
func (i *Instrument) OutputOn(ctx context.Context, channel int) (bool, error) {
	d := i.Dialect
	answer, err := i.client.Query(ctx, d.Fill(d.Confirm, channel, 0))
	if err != nil {
		return true, i.wrap("read the output back", err)
	}
	switch {
	case strings.HasPrefix(answer, d.ConfirmOn):
		return true, nil
	case strings.HasPrefix(answer, d.ConfirmOff):
		return false, nil
	}
	return true, i.wrap("read the output back", fmt.Errorf("the answer %q is neither %q (on) nor %q (off)", answer, d.ConfirmOn, d.ConfirmOff))
}

func (i *Instrument) wrap(doing string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("instrument %s: %s: %w", i.Name, doing, err)
}
