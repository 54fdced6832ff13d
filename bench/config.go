package bench

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/core/burden"
	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/seats"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
)

// Config is the bench: instruments, and bays whose seats their channels fill.
type Config struct {
	// TimeFactor speeds the run clock up, for a simulated bench that runs as fast; 1 for hardware.
	TimeFactor float64 `mapstructure:"time_factor" yaml:"time_factor,omitempty"`
	// StallAfter is how long the service, or one bay of it, may stand still before the warden switches off; 550 ms if
	// not given. A computer that does other work too needs longer.
	StallAfter  api.Span                        `mapstructure:"stall_after" yaml:"stall_after,omitempty"`
	Instruments map[string]api.InstrumentConfig `mapstructure:"instruments" yaml:"instruments"`
	Bays        map[string]api.BayConfig        `mapstructure:"bays" yaml:"bays"`
	// Copies says whether copies of the records are made by themselves; nil: none are.
	Copies *Copies `mapstructure:"copies" yaml:"copies,omitempty"`
}

// Copies are copies of the records that are made into a folder every so often, and of which so many are kept.
type Copies struct {
	Folder string   `mapstructure:"folder" yaml:"folder"`
	Every  api.Span `mapstructure:"every" yaml:"every"`
	Keep   int      `mapstructure:"keep" yaml:"keep"`
}

// The bounds and the usual values of copies.
const (
	leastCopiesEvery = api.Span(time.Minute)
	usualCopiesEvery = api.Span(24 * time.Hour)
	usualCopiesKept  = 14
)

// complete fills in what is usual, and says what is wrong.
func (c *Copies) complete() error {
	if c.Every == 0 {
		c.Every = usualCopiesEvery
	}
	if c.Keep == 0 {
		c.Keep = usualCopiesKept
	}
	switch {
	case c.Folder == "":
		return errors.New("copies: say into which folder they are made, one that is on another disk")
	case !filepath.IsAbs(c.Folder):
		return fmt.Errorf("copies.folder: %q is not a path from the root", c.Folder)
	case c.Every < leastCopiesEvery:
		return fmt.Errorf("copies.every: %s is less than %s", time.Duration(c.Every), time.Duration(leastCopiesEvery))
	case c.Keep < 1:
		return fmt.Errorf("copies.keep: %d; one is kept at least", c.Keep)
	}
	return nil
}

const (
	defaultInterval  = api.Span(20 * time.Millisecond)
	defaultLostAfter = api.Span(2 * time.Second)
	defaultHandFor   = api.Span(30 * time.Minute)
	leastHandFor     = api.Span(2 * time.Minute)
	mostHandFor      = api.Span(24 * time.Hour)
	fastestFactor    = 3600
	leastStallAfter  = api.Span(300 * time.Millisecond)
	mostStallAfter   = api.Span(5 * time.Second)
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
	if c.StallAfter != 0 && (c.StallAfter < leastStallAfter || c.StallAfter > mostStallAfter) {
		fail("stall_after: %s is not between %s and %s", time.Duration(c.StallAfter), time.Duration(leastStallAfter),
			time.Duration(mostStallAfter))
	}
	if c.Copies != nil {
		if err := c.Copies.complete(); err != nil {
			errs = append(errs, err)
		}
	}
	where := placesOf(c.Instruments)
	places := map[string]string{} // which instrument is where
	for _, name := range slices.Sorted(maps.Keys(c.Instruments)) {
		i := c.Instruments[name]
		if !nameplate.NamePattern.MatchString(name) {
			fail("instruments: %q is not a name; use small letters, digits and hyphens", name)
		}
		d, ok := dialects[i.Dialect]
		if !ok {
			fail("instruments.%s: unknown dialect %q; %s", name, i.Dialect,
				document.Suggest(i.Dialect, slices.Collect(maps.Keys(dialects))))
			d = &dialect.Dialect{Protocol: dialect.Messages} // the address is looked at all the same
			if a, err := transport.Parse(i.Address); err == nil && a.Registers() {
				d.Protocol = dialect.Registers
			}
		}
		if _, err := instrument.Open(name, i.Address, d); err != nil { // it connects to nothing yet
			fail("instruments.%s: %w", name, err)
		}
		if place, known := where[name]; known {
			if other, taken := places[place]; taken {
				fail("instruments.%s: %s is where %s is too, so that both are one instrument; use its channels in several bays "+
					"instead", name, i.Address, other)
			}
			places[place] = name
		}
		for key, date := range map[string]string{"calibrated": i.Calibrated, "due": i.Due} {
			if _, err := time.Parse(time.DateOnly, date); date != "" && err != nil {
				fail("instruments.%s.%s: %q is not a date; write it like 2026-03-31", name, key, date)
			}
		}
	}
	used := map[api.ChannelRef]string{}
	for _, name := range slices.Sorted(maps.Keys(c.Bays)) {
		b := c.Bays[name]
		errs = append(errs, c.completeBay(name, &b, dialects, used)...)
		c.Bays[name] = b
	}
	return errors.Join(errs...)
}

// placesOf finds where the addresses of instruments lead, all at once, since a name may take its time to be looked
// up. Addresses that are wrong are left out.
func placesOf(instruments map[string]api.InstrumentConfig) map[string]string {
	places := map[string]string{}
	var mu sync.Mutex // guards places
	var wg sync.WaitGroup
	for name, i := range instruments {
		wg.Go(func() {
			a, err := transport.Parse(i.Address)
			if err != nil {
				return
			}
			place := a.Place()
			mu.Lock()
			defer mu.Unlock()
			places[name] = place
		})
	}
	wg.Wait()
	return places
}

func (c *Config) completeBay(bay string, b *api.BayConfig, dialects dialect.Library,
	used map[api.ChannelRef]string) (errs []error) {
	fail := func(format string, args ...any) {
		errs = append(errs, fmt.Errorf("bays.%s"+format, append([]any{bay}, args...)...))
	}
	if !nameplate.NamePattern.MatchString(bay) {
		fail(": this is not a name; use small letters, digits and hyphens")
	}
	if b.Interval == 0 {
		b.Interval = defaultInterval
	}
	if b.LostAfter == 0 {
		b.LostAfter = defaultLostAfter
	}
	if b.Interval < api.Span(time.Millisecond) || b.LostAfter < api.Span(100*time.Millisecond) {
		fail(": interval must be at least 1ms and lost_after at least 100ms")
	}
	if b.HandFor == 0 {
		b.HandFor = defaultHandFor
	}
	if b.HandFor < leastHandFor || b.HandFor > mostHandFor {
		fail(".hand_for: outputs that are on by hand go off after %s at least and %s at most", time.Duration(leastHandFor),
			time.Duration(mostHandFor))
	}
	if u, err := url.Parse(b.Handler); b.Handler != "" && (err != nil || u.Host == "") {
		fail(".handler: %q is not an HTTP address", b.Handler)
	}
	if len(b.Seats) == 0 {
		fail(": it has no seats; give it at least a source")
	}
	for _, name := range slices.Sorted(maps.Keys(b.Seats)) {
		for _, err := range c.completeSeat(name, b, dialects, used, bay) {
			fail(".seats.%s: %w", name, err)
		}
	}
	return errs
}

// readsBeside tells whether of two seats of a bay that one channel fills one at least only reads.
func readsBeside(kind seats.Kind, other string) bool {
	_, seat, _ := strings.Cut(other, ".")
	second, _ := seats.KindOf(seat)
	return !kind.HasOutput() || !second.HasOutput()
}

func (c *Config) completeSeat(name string, b *api.BayConfig, dialects dialect.Library, used map[api.ChannelRef]string,
	bay string) (errs []error) {
	fail := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	kind, ok := seats.KindOf(name)
	if !ok {
		fail("unknown seat; %s", document.Suggest(name, seats.Names()))
		return errs
	}
	s := b.Seats[name]
	switch {
	case len(s.Channels) > 0 && s.Instrument != "":
		fail("give either instrument and channel, or gang and channels")
		return errs
	case len(s.Channels) > 0 && (len(s.Channels) < 2 || s.Gang != api.GangSeries && s.Gang != api.GangParallel):
		fail("channels that work as one are at least two, and gang says series or parallel")
	case s.Gang != "" && len(s.Channels) == 0:
		fail("gang %s needs channels: [{instrument: …, channel: 1}, …]", s.Gang)
	case kind.Is(seats.Drains) && s.Gang == api.GangSeries:
		fail("loads work together in parallel only: in series they would fight over the current")
	case !kind.HasOutput() && s.Gang != "":
		fail("only what has an output can be ganged")
	}
	s.Channels = slices.Clone(s.Channels)
	if len(s.Channels) == 0 && s.Channel == 0 {
		s.Channel = 1
	}
	for i := range s.Channels {
		s.Channels[i].Channel = max(s.Channels[i].Channel, 1)
	}
	b.Seats[name] = s
	first := ""
	for _, ref := range s.All() {
		i, ok := c.Instruments[ref.Instrument]
		if !ok {
			fail("unknown instrument %q; %s", ref.Instrument,
				document.Suggest(ref.Instrument, slices.Collect(maps.Keys(c.Instruments))))
			continue
		}
		d, ok := dialects[i.Dialect]
		if !ok {
			continue // reported with the instrument
		}
		if other, taken := used[ref]; taken && !(strings.HasPrefix(other, bay+".") &&
			(bothWays(d) || readsBeside(kind, other))) {
			fail("channel %d of %s fills %s already; a channel can be in one place only", ref.Channel, ref.Instrument, other)
		}
		used[ref] = bay + "." + name
		if ref.Channel < 1 || ref.Channel > d.Channels {
			fail("%s has no channel %d, it has %d", ref.Instrument, ref.Channel, d.Channels)
		}
		if !slices.Contains(d.Seats, kind.Name) {
			fail("%s cannot fill it; its dialect %s is for %s", ref.Instrument, d.Name, strings.Join(d.Seats, ", "))
		}
		if first != "" && first != d.Name {
			fail("the channels of a gang speak one dialect; these speak %s and %s", first, d.Name)
		}
		first = d.Name
		errs = append(errs, checkExtras(s, kind, d.For(kind.Name))...)
	}
	return errs
}

// mostSensor bounds what a sensor may make of a reading: beyond it nothing that is read is of this world.
const mostSensor = 1e9

// checkExtras checks the sensors and defaults of a seat.
func checkExtras(s api.SeatConfig, kind seats.Kind, d *dialect.Dialect) (errs []error) {
	fail := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	for _, q := range slices.Sorted(maps.Keys(s.Sensors)) {
		sensor := s.Sensors[q]
		from := sensor.From
		if from == "" {
			from = q
		}
		if !kind.CanRead(q) {
			fail("sensors: a %s has no %q; %s", kind.Name, q, document.Suggest(q, kind.Reads))
		}
		if !slices.Contains(d.Gives(), from) {
			fail("sensors.%s: the instrument does not read %q; %s", q, from, document.Suggest(from, d.Gives()))
		}
		for _, x := range []float64{sensor.Zero, sensor.Scale, sensor.Offset} {
			if math.IsNaN(x) || math.Abs(x) > mostSensor {
				fail("sensors.%s: zero, scale and offset are numbers of at most ±%g", q, mostSensor)
			}
		}
		if scale := math.Abs(sensor.Scale); scale > 0 && scale < 1/mostSensor {
			fail("sensors.%s: the scale is less than %g, so that nothing is left of a reading", q, 1/mostSensor)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Probes)) {
		errs = append(errs, checkProbe(name, s.Probes[name], kind, d)...)
	}
	if kind.Is(seats.Captures) && len(s.Probes) == 0 {
		fail("say what its channels see: probes: {output: {channel: 1, factor: 10}}")
	}
	if s.Wiring != "" {
		if err := checkWiring(s.Wiring, d); err != nil {
			fail("wiring: %w", err)
		}
	}
	if s.Leads != nil {
		if err := checkLeads(*s.Leads, kind, d); err != nil {
			fail("leads: %w", err)
		}
	}
	for _, q := range slices.Sorted(maps.Keys(s.Defaults)) {
		if q == seats.Output {
			fail("defaults: an output is not switched on by default; take it away")
			continue
		}
		if _, err := ReadSetting(d, "defaults", q, s.Defaults[q]); err != nil {
			fail("defaults: %w", err)
		}
	}
	return errs
}

// checkWiring checks where the voltage input of a meter is said to be.
func checkWiring(wiring string, d *dialect.Dialect) error {
	known := []string{string(burden.AtSupply), string(burden.AtUnit)}
	switch {
	case !slices.Contains(known, wiring):
		return fmt.Errorf("%q is none; %s", wiring, document.Suggest(wiring, known))
	case !slices.Contains(d.Gives(), "watts"):
		return errors.New("its instrument reads no power that it would take a part of itself")
	}
	return nil
}

// mostLeads bounds the resistance of leads, Ω.
const mostLeads = 100

// checkLeads checks what the leads of a seat are said to have.
func checkLeads(l api.LeadsConfig, kind seats.Kind, d *dialect.Dialect) error {
	if _, senses := kind.Choice(seats.Sensed); !senses {
		return fmt.Errorf("a %s carries no current of the unit through leads at which it reads volts; take them away",
			kind.Name)
	}
	switch {
	case !(l.Ohms > 0 && l.Ohms <= mostLeads):
		return fmt.Errorf("ohms is the resistance of both leads together, above 0 and up to %d Ω", mostLeads)
	case !(l.Within > 0 && l.Within <= l.Ohms):
		return errors.New("within is how well that is known, ± Ω, above 0 and up to ohms: nobody knows it exactly")
	case !slices.Contains(d.Gives(), "amps"):
		return errors.New("its instrument reads no amps, by which volts could be corrected")
	}
	return nil
}

// mostProbe bounds the factor of a probe.
const mostProbe = 1e6

// checkProbe checks a probe of a scope.
func checkProbe(name string, p api.ProbeConfig, kind seats.Kind, d *dialect.Dialect) (errs []error) {
	fail := func(format string, args ...any) {
		errs = append(errs, fmt.Errorf("probes."+name+": "+format, args...))
	}
	switch {
	case !kind.Is(seats.Captures):
		fail("a %s has no probes; take them away", kind.Name)
	case !nameplate.NamePattern.MatchString(name):
		fail("use small letters, digits and hyphens for the name")
	case p.Channel < 1 || p.Channel > d.Channels:
		fail("channel %d is none of the scope, which has %d", p.Channel, d.Channels)
	case math.IsNaN(p.Factor) || math.Abs(p.Factor) > mostProbe || p.Factor != 0 && math.Abs(p.Factor) < 1/mostProbe:
		fail("the factor is what is seen over the volts at the connector, from %g to %g", 1/mostProbe, mostProbe)
	case p.Unit != "" && p.Unit != "V" && p.Unit != "A":
		fail("the unit is V or A, not %q", p.Unit)
	}
	return errs
}

// bothWays tells whether a channel may fill a seat that feeds and drains: it then may fill one of each in its place.
func bothWays(d *dialect.Dialect) bool {
	return slices.ContainsFunc(d.Seats, func(name string) bool {
		kind, ok := seats.KindOf(name)
		return ok && kind.Is(seats.Feeds|seats.Drains)
	})
}
