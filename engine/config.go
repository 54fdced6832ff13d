package engine

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"time"

	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
)

// Config is the bench: instruments, and bays whose seats their channels fill.
type Config struct {
	// TimeFactor speeds the run clock up, for a simulated bench that runs as fast; 1 for hardware.
	TimeFactor  float64                     `mapstructure:"time_factor" yaml:"time_factor,omitempty"`
	Instruments map[string]InstrumentConfig `mapstructure:"instruments" yaml:"instruments"`
	Bays        map[string]BayConfig        `mapstructure:"bays" yaml:"bays"`
}

// InstrumentConfig is where an instrument is and how it is spoken to. Dates are written 2026-03-31.
type InstrumentConfig struct {
	Address    string `mapstructure:"address" yaml:"address"`
	Dialect    string `mapstructure:"dialect" yaml:"dialect"`
	Calibrated string `mapstructure:"calibrated" yaml:"calibrated,omitempty"`
	Due        string `mapstructure:"due" yaml:"due,omitempty"`
}

// BayConfig is a place where one unit at a time is tested.
type BayConfig struct {
	Title string                `mapstructure:"title" yaml:"title,omitempty"`
	Seats map[string]SeatConfig `mapstructure:"seats" yaml:"seats"`
	// Interval between frames, in bench time; 20 ms if not given.
	Interval time.Duration `mapstructure:"interval" yaml:"interval,omitempty"`
	// LostAfter is how long an instrument may be silent before the bay is made safe; 2 s if not given.
	LostAfter time.Duration `mapstructure:"lost_after" yaml:"lost_after,omitempty"`
	// Handler is the HTTP address of a unit handler: it is told each serial number before anything is energised, and answers when
	// the unit is in place.
	Handler string `mapstructure:"handler" yaml:"handler,omitempty"`
}

// SeatConfig names the channel that fills a seat.
type SeatConfig struct {
	Instrument string `mapstructure:"instrument" yaml:"instrument"`
	Channel    int    `mapstructure:"channel" yaml:"channel,omitempty"`
}

const (
	defaultInterval  = 20 * time.Millisecond
	defaultLostAfter = 2 * time.Second
	fastestFactor    = 3600
)

// complete fills in defaults and reports everything that is wrong, each with its place in the configuration.
func (c *Config) complete(dialects dialect.Library) error {
	var errs []error
	fail := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	if c.TimeFactor == 0 {
		c.TimeFactor = 1
	}
	if c.TimeFactor < 1 || c.TimeFactor > fastestFactor {
		fail("time_factor: %g is not between 1 and %d", c.TimeFactor, fastestFactor)
	}
	for _, name := range slices.Sorted(maps.Keys(c.Instruments)) {
		i := c.Instruments[name]
		if !nameplate.NamePattern.MatchString(name) {
			fail("instruments: %q is not a name; use small letters, digits and hyphens", name)
		}
		if err := transport.Check(i.Address); err != nil {
			fail("instruments.%s: %w", name, err)
		}
		if _, ok := dialects[i.Dialect]; !ok {
			fail("instruments.%s: unknown dialect %q; %s", name, i.Dialect, document.Suggest(i.Dialect, slices.Collect(maps.Keys(dialects))))
		}
		for key, date := range map[string]string{"calibrated": i.Calibrated, "due": i.Due} {
			if _, err := time.Parse(time.DateOnly, date); date != "" && err != nil {
				fail("instruments.%s.%s: %q is not a date; write it like 2026-03-31", name, key, date)
			}
		}
	}
	used := map[SeatConfig]string{}
	for _, name := range slices.Sorted(maps.Keys(c.Bays)) {
		b := c.Bays[name]
		errs = append(errs, c.completeBay(name, &b, dialects, used)...)
		c.Bays[name] = b
	}
	return errors.Join(errs...)
}

func (c *Config) completeBay(name string, b *BayConfig, dialects dialect.Library, used map[SeatConfig]string) (errs []error) {
	fail := func(format string, args ...any) {
		errs = append(errs, fmt.Errorf("bays.%s"+format, append([]any{name}, args...)...))
	}
	if !nameplate.NamePattern.MatchString(name) {
		fail(": this is not a name; use small letters, digits and hyphens")
	}
	if b.Interval == 0 {
		b.Interval = defaultInterval
	}
	if b.LostAfter == 0 {
		b.LostAfter = defaultLostAfter
	}
	if b.Interval < time.Millisecond || b.LostAfter < 100*time.Millisecond {
		fail(": interval must be at least 1ms and lost_after at least 100ms")
	}
	if u, err := url.Parse(b.Handler); b.Handler != "" && (err != nil || u.Host == "") {
		fail(".handler: %q is not an HTTP address", b.Handler)
	}
	if len(b.Seats) == 0 {
		fail(": it has no seats; give it at least a source")
	}
	for _, seat := range slices.Sorted(maps.Keys(b.Seats)) {
		s := b.Seats[seat]
		if s.Channel == 0 {
			s.Channel = 1
			b.Seats[seat] = s
		}
		kind, ok := procedure.KindOfSeat(seat)
		if !ok {
			fail(".seats: unknown seat %q; %s", seat, document.Suggest(seat, procedure.SeatKindNames()))
			continue
		}
		i, ok := c.Instruments[s.Instrument]
		if !ok {
			fail(".seats.%s: unknown instrument %q; %s", seat, s.Instrument, document.Suggest(s.Instrument, slices.Collect(maps.Keys(c.Instruments))))
			continue
		}
		if other, taken := used[s]; taken {
			fail(".seats.%s: channel %d of %s fills %s already; a channel can be in one place only", seat, s.Channel, s.Instrument, other)
		}
		used[s] = name + "." + seat
		d, ok := dialects[i.Dialect]
		if !ok {
			continue // reported with the instrument
		}
		if s.Channel < 1 || s.Channel > d.Channels {
			fail(".seats.%s: %s has no channel %d, it has %d", seat, s.Instrument, s.Channel, d.Channels)
		}
		if !slices.Contains(d.Seats, kind.Name) {
			fail(".seats.%s: %s cannot fill it; its dialect %s is for %v", seat, s.Instrument, d.Name, d.Seats)
		}
	}
	return errs
}
