// Package instrument is how hardware is spoken to: an [Instrument] joins a dialect with a connection, and each
// [Channel] of it offers what the engine needs: set, read, confirm. It knows nothing of procedures.
package instrument

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"strings"
	"time"

	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/modbus"
	"usherbench/instrument/scpi"
	"usherbench/instrument/transport"
)

// Instrument is a device on the bench. Its methods may be called by several goroutines; messages take turns.
type Instrument struct {
	Name    string
	Address transport.Address
	Dialect *dialect.Dialect
	tongue  proven
	watch   watchdogs
}

// tongue is the protocol of an instrument: it carries out setters and answers queries.
type tongue interface {
	// set carries a setter out for a channel; value is in SI.
	set(ctx context.Context, d *dialect.Dialect, s dialect.Setter, channel int, value float64) error
	// ask answers a query with a text; confirm does so surely, for what must not be mistaken.
	ask(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error)
	confirm(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error)
	// read answers a query with numbers in SI, in the order of what it gives, without those that are skipped.
	read(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int, values []float64) error
	// codes fetches the codes of a waveform that has so many; 0: they come with their number.
	codes(ctx context.Context, d *dialect.Dialect, q dialect.Samples, channel, samples int) ([]int16, error)
	errors(ctx context.Context) ([]string, error)
	trace() *messages.Trace
	// giveUp closes the connection because what comes over it cannot be relied on; it is made again when it is needed.
	giveUp()
	close() error
}

// WrongIdentity means that something else answers at the address than the dialect expects, or that the instrument
// answers something else than it was asked.
type WrongIdentity struct {
	Says, Dialect, Expected string
}

func (e *WrongIdentity) Error() string {
	return fmt.Sprintf("another instrument answers: asked who it is, it says %s, but dialect %s expects %s; check the "+
		"address or choose another dialect", messages.Excerpt(e.Says), e.Dialect, e.Expected)
}

// TimeIsUp tells that an exchange was cut off because its time had passed: that says less than why the attempt before
// it failed.
func TimeIsUp(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded)
}

// Refused tells whether an instrument was reached, and would not take what it was sent.
func Refused(err error) bool {
	var refused *scpi.InstrumentError
	var exception *modbus.Exception
	return errors.As(err, &refused) || errors.As(err, &exception)
}

// Open prepares an instrument; it connects when it is first used. The error is about an address that the
// dialect cannot use.
func Open(name, address string, d *dialect.Dialect) (*Instrument, error) {
	a, err := transport.Parse(address)
	if err != nil {
		return nil, err
	}
	return OpenAt(name, a, d)
}

// OpenAt prepares an instrument at an address that was read already.
func OpenAt(name string, a transport.Address, d *dialect.Dialect) (*Instrument, error) {
	i := &Instrument{Name: name, Address: a, Dialect: d}
	i.tongue.of = i
	if a.Registers() != (d.Protocol == dialect.Registers) {
		return nil, fmt.Errorf("address %q: dialect %s speaks %s, which this transport does not carry; use %s", a,
			d.Name, d.Protocol,
			map[bool]string{true: "modbus-rtu or modbus-tcp",
				false: "tcp, hislip, vxi11, serial or usbtmc"}[d.Protocol == dialect.Registers])
	}
	if d.Protocol == dialect.Registers {
		i.tongue.tongue = &registers{modbus.New(a, d.Within, d.Pause)}
		return i, nil
	}
	i.tongue.tongue = &texts{scpi.New(a, scpi.Options{
		Within: d.Within, ErrorQuery: d.Errors.Query, NoError: d.Errors.None, Joined: d.Errors.Joined, Send: d.Send,
		Receive:  d.Receive,
		Greeting: d.Greeting, Pause: d.Pause,
	})}
	return i, nil
}

// Close ends the connection.
func (i *Instrument) Close() error { return i.tongue.close() }

// Trace keeps the last messages and statistics over them.
func (i *Instrument) Trace() *messages.Trace { return i.tongue.trace() }

// Identify asks who the instrument is and compares with the dialect. The identity is returned also with
// [*WrongIdentity]. A dialect without identity is believed.
func (i *Instrument) Identify(ctx context.Context) (string, error) {
	identity, err := i.tongue.identify(ctx)
	return identity, i.wrap("identify", err)
}

// Errors empties the instrument's error queue and returns its entries.
func (i *Instrument) Errors(ctx context.Context) ([]string, error) {
	queue, err := i.tongue.errors(ctx)
	return queue, i.wrap("read the error queue", err)
}

func (i *Instrument) wrap(doing string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("instrument %s: %s: %w", i.Name, doing, err)
}

// Channel is one output or input of an instrument as it fills a kind of seat.
type Channel struct {
	*Instrument
	Number  int
	Dialect *dialect.Dialect // as the channel fills its seat
}

// Channel gives a channel that fills a kind of seat.
func (i *Instrument) Channel(number int, kind string) *Channel {
	return &Channel{i, number, i.Dialect.For(kind)}
}

// Read takes all readings, in the order of the dialect's Gives. A reading that the instrument has not is NaN, one that
// is beyond what it can measure an infinity.
func (c *Channel) Read(ctx context.Context, values []float64) error {
	at := 0
	for _, q := range c.Dialect.Read {
		n := 0
		for _, g := range q.Gives {
			if g.Quantity != "" {
				n++
			}
		}
		if err := c.tongue.read(ctx, c.Dialect, q, c.Number, values[at:at+n]); err != nil {
			return c.wrap("read", err)
		}
		for _, g := range q.Gives {
			if g.Quantity == "" {
				continue
			}
			if absurd(c.Dialect.ReadRanges[quantity.WholeOf(g.Quantity)], values[at]) {
				values[at] = math.Copysign(math.Inf(1), values[at])
			}
			at++
		}
	}
	return nil
}

// absurd tells whether a number cannot be a reading: no instrument reads twice its largest range, and none of which no
// range is known reads a million million of anything.
func absurd(ranges uncertainty.Spec, x float64) bool {
	const beyond, most = 2, 1e12
	if len(ranges) == 0 {
		return math.Abs(x) > most
	}
	return math.Abs(x) > beyond*ranges[len(ranges)-1].To
}

// Set sets a quantity to a number in SI.
func (c *Channel) Set(ctx context.Context, quantity string, value float64) error {
	s, ok := c.Dialect.Set[quantity]
	if !ok {
		return c.wrap("set "+quantity, fmt.Errorf("dialect %s has no message for it", c.Dialect.Name))
	}
	return c.set(ctx, "set "+quantity, s, value)
}

// SetWord sets what takes a word: "output" to "on", "mode" to "current", "sense" to "remote".
func (c *Channel) SetWord(ctx context.Context, quantity, word string) error {
	s, ok := c.Dialect.Words[quantity][word]
	if !ok && quantity == seats.Mode && word == c.Dialect.BuiltMode() {
		return nil // it is in no other
	}
	if !ok {
		return c.wrap("set "+quantity, fmt.Errorf("dialect %s has no message for %s %s", c.Dialect.Name, quantity, word))
	}
	return c.set(ctx, "set "+quantity+" "+word, s, s.Word)
}

// Protect sets a hardware protection, in SI.
func (c *Channel) Protect(ctx context.Context, protection string, value float64) error {
	s, ok := c.Dialect.Protect[protection]
	if !ok {
		return c.wrap("protect "+protection, fmt.Errorf("dialect %s has no such protection", c.Dialect.Name))
	}
	return c.set(ctx, "protect "+protection, s, value)
}

// Count has an instrument begin anew to count charge and energy, where it does that by itself.
func (c *Channel) Count(ctx context.Context) error {
	if !c.Dialect.Count.Exists() {
		return nil
	}
	return c.set(ctx, "begin to count", c.Dialect.Count, c.Dialect.Count.Word)
}

// ClearTrip frees a protection that tripped, where the dialect can.
func (c *Channel) ClearTrip(ctx context.Context) error {
	if !c.Dialect.ClearTrip.Exists() {
		return nil
	}
	return c.set(ctx, "clear a protection", c.Dialect.ClearTrip, c.Dialect.ClearTrip.Word)
}

// Send carries out any setter of the dialect.
func (c *Channel) Send(ctx context.Context, doing string, s dialect.Setter, value float64) error {
	return c.set(ctx, doing, s, value)
}

func (c *Channel) set(ctx context.Context, doing string, s dialect.Setter, value float64) error {
	if err := c.tongue.set(ctx, c.Dialect, s, c.Number, value); err != nil {
		return c.wrap(doing, err)
	}
	if s.Settle > 0 {
		pause(ctx, s.Settle)
	}
	return nil
}

func pause(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}

// SwitchOff sends what makes the channel safe.
func (c *Channel) SwitchOff(ctx context.Context) error {
	if len(c.Dialect.MakeSafe) == 0 {
		return c.SetWord(ctx, seats.Output, "off")
	}
	var errs []error
	for _, s := range c.Dialect.MakeSafe {
		errs = append(errs, c.set(ctx, "make safe", s, s.Word))
	}
	return errors.Join(errs...)
}

// OutputOn reads back whether the output is on; with an error it is to be taken for on.
func (c *Channel) OutputOn(ctx context.Context) (bool, error) {
	answer, err := c.tongue.confirm(ctx, c.Dialect, c.Dialect.Confirm, c.Number)
	on := true
	if err == nil {
		on, err = yesOrNo(answer, c.Dialect.Confirm)
	}
	if err != nil {
		return true, c.wrap("read the output back", err)
	}
	return on, nil
}

// Tripped tells whether a protection of the channel has tripped; false where the dialect cannot ask.
func (c *Channel) Tripped(ctx context.Context) (bool, error) {
	if !c.Dialect.Tripped.Exists() {
		return false, nil
	}
	tripped, err := c.YesNo(ctx, c.Dialect.Tripped)
	return tripped, c.wrap("ask whether a protection has tripped", err)
}

// YesNo asks a question with two answers.
func (c *Channel) YesNo(ctx context.Context, q dialect.Query) (bool, error) {
	answer, err := c.tongue.ask(ctx, c.Dialect, q, c.Number)
	if err != nil {
		return false, err
	}
	return yesOrNo(answer, q)
}

// yesOrNo reads one of two answers.
func yesOrNo(answer string, q dialect.Query) (bool, error) {
	yes, no := longestMatch(answer, q.Yes), longestMatch(answer, q.No)
	switch {
	case yes > no:
		return true, nil
	case no > yes:
		return false, nil
	}
	return false, fmt.Errorf("the answer %s is neither %s (yes) nor %s (no)", messages.Excerpt(answer),
		strings.Join(q.Yes, " or "), strings.Join(q.No, " or "))
}

// longestMatch is the length of the longest text with which the answer begins; numbers match by value.
func longestMatch(answer string, beginnings []string) (longest int) {
	for _, b := range beginnings {
		x, errX := parseNumber(answer)
		y, errY := parseNumber(b)
		switch {
		case errX == nil && errY == nil:
			if x == y {
				longest = max(longest, len(answer)+1)
			}
		case strings.HasPrefix(strings.ToUpper(answer), strings.ToUpper(b)):
			longest = max(longest, len(b))
		}
	}
	return longest
}

// Setting reads a number back that was set, in SI; ok is false if the dialect cannot.
func (c *Channel) Setting(ctx context.Context, quantity string) (value float64, ok bool, err error) {
	q, ok := c.Dialect.Ask[quantity]
	if !ok {
		return 0, false, nil
	}
	var values [1]float64
	err = c.tongue.read(ctx, c.Dialect, q, c.Number, values[:])
	return values[0], true, c.wrap("read "+quantity+" back", err)
}

// Word reads a word back that was set; ok is false if the dialect cannot.
func (c *Channel) Word(ctx context.Context, quantity string) (word string, ok bool, err error) {
	q, ok := c.Dialect.Ask[quantity]
	if !ok {
		return "", false, nil
	}
	answer, err := c.tongue.ask(ctx, c.Dialect, q, c.Number)
	if err != nil {
		return "", true, c.wrap("read "+quantity+" back", err)
	}
	best := 0
	for text, w := range q.Words {
		if n := longestMatch(answer, []string{text}); n > best {
			best, word = n, w
		}
	}
	if word == "" {
		return "", true, c.wrap("read "+quantity+" back", fmt.Errorf("the answer %s is not among what the dialect names",
			messages.Excerpt(answer)))
	}
	return word, true, nil
}

// LoadProgram stores levels (SI) and how long each lasts; times is how often it is played.
func (c *Channel) LoadProgram(ctx context.Context, levels, dwells []float64, times int) error {
	p := c.Dialect.Program
	if len(levels) != len(dwells) || len(levels) == 0 || len(levels) > p.Most {
		return c.wrap("load a program", fmt.Errorf("%d levels with %d dwells: it holds up to %d of each", len(levels),
			len(dwells), p.Most))
	}
	list := func(s dialect.Setter, values []float64) dialect.Setter {
		numbers := c.Dialect.Numbers
		texts := make([]string, len(values))
		for i, x := range values {
			texts[i] = numbers.Format(x)
		}
		filled := s
		filled.Messages = make([]string, len(s.Messages))
		for i, m := range s.Messages {
			filled.Messages[i] = strings.ReplaceAll(m, "{values}", strings.Join(texts, ","))
		}
		return filled
	}
	errs := []error{c.set(ctx, "load a program", list(p.Levels, levels), 0),
		c.set(ctx, "load a program", list(p.Dwells, dwells), 0)}
	if p.Times.Exists() {
		errs = append(errs, c.set(ctx, "load a program", p.Times, float64(times)))
	}
	return errors.Join(errs...)
}

// Ask answers any query of the dialect with its text.
func (c *Channel) Ask(ctx context.Context, q dialect.Query) (string, error) {
	return c.tongue.ask(ctx, c.Dialect, q, c.Number)
}

// ReadQuery answers one query of the dialect with numbers in SI.
func (c *Channel) ReadQuery(ctx context.Context, q dialect.Query, values []float64) error {
	return c.tongue.read(ctx, c.Dialect, q, c.Number, values)
}
