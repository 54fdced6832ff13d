// Package bench is what stands there: instruments, the dialects that they speak, and bays whose seats their channels
// fill. The configuration file says how it began, and what was changed through the API lies over it. A bench opens and
// asks instruments, and energises nothing; those who do are its [Bays], which it asks before a change.
package bench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"

	"usherbench/api"
	"usherbench/core/document"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/lane"
	"usherbench/instrument/messages"
	"usherbench/instrument/transport/memory"
	"usherbench/store"
)

// Bench keeps the configuration and the opened instruments. It is safe for use by several goroutines.
type Bench struct {
	options  Options
	changing lane.Lane // one change at a time

	mu          sync.RWMutex // guards what follows
	config      Config       // the file's, with what was changed through the API
	dialects    dialect.Library
	instruments map[string]*instrument.Instrument
	looks       map[string]*look

	holds   holds // the places of the instruments
	looking sync.WaitGroup
	endLook context.CancelFunc
	looked  chan struct{} // closed when nobody looks any longer
}

// Options of a bench.
type Options struct {
	File     Config // as the configuration file has it
	Dialects dialect.Library
	Store    *store.Store // keeps the changes; nil: nobody knows of any, and none are made
	// Data is the folder that has the folder of the user's own dialects.
	Data string
	Bays Bays
	// Memory is this process's part of a network in memory; nil: the computer's network.
	Memory *memory.Network
	// Journal writes down who changed what.
	Journal func(store.JournalEntry)
}

// Bays are what works on a bench, with the instruments that it has opened.
type Bays interface {
	// Halt takes bays out of service: no run, outputs off, nobody at their instruments. If one cannot, none is halted.
	Halt(names []string) error
	// Renew takes halted and new bays into service as they are configured now, and forgets those that no longer are.
	Renew(names []string)
	// Removable says why a bay cannot be taken away.
	Removable(name string) error
}

// ErrUnknownInstrument means that the bench has no such instrument.
var ErrUnknownInstrument = errors.New("there is no such instrument")

// Open checks the configuration, and opens the instruments, none of which is connected to yet. The bays begin when
// whoever opened the bench begins them.
func Open(o Options) (*Bench, error) {
	b := &Bench{options: o, dialects: o.Dialects, instruments: map[string]*instrument.Instrument{},
		looks: map[string]*look{}, looked: make(chan struct{}),
		holds: holds{all: map[string]*hold{}, places: map[string]string{}}}
	config, err := b.overlay()
	if err == nil {
		err = config.complete(o.Dialects)
	}
	if err != nil {
		return nil, fmt.Errorf("configuration of the bench: %w", err)
	}
	b.config = config
	if b.instruments, err = b.open(config, func(string) bool { return true }, o.Dialects); err != nil {
		return nil, err
	}
	if o.Memory != nil {
		o.Memory.AtEnd(b.holds.end)
	}
	ctx, cancel := context.WithCancel(context.Background())
	b.endLook = cancel
	go func() {
		defer close(b.looked)
		b.keepLooking(ctx)
	}()
	return b, nil
}

// Freeze waits for a change that is being made, and allows no further one.
func (b *Bench) Freeze() { b.changing.Enter() }

// Close closes the connections; nobody may use the instruments any more.
func (b *Bench) Close() error {
	b.endLook()
	<-b.looked
	b.looking.Wait()
	var errs []error
	for _, i := range b.Opened() {
		errs = append(errs, i.Close())
		b.holds.give(i.Address)
	}
	return errors.Join(errs...)
}

// Config is the bench as it is configured now.
func (b *Bench) Config() Config {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.config
}

// Opened are the instruments by name.
func (b *Bench) Opened() map[string]*instrument.Instrument {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return maps.Clone(b.instruments)
}

// Instrument finds an instrument. It fails with ErrUnknownInstrument.
func (b *Bench) Instrument(name string) (*instrument.Instrument, error) {
	opened := b.Opened()
	i, ok := opened[name]
	if !ok {
		return nil, fmt.Errorf("%w: %q; %s", ErrUnknownInstrument, name,
			document.Suggest(name, slices.Collect(maps.Keys(opened))))
	}
	return i, nil
}

// Dialects lists the dialects that the bench knows.
func (b *Bench) Dialects() dialect.Library {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return maps.Clone(b.dialects)
}

// DialectFolder is where the user's own dialects are.
func (b *Bench) DialectFolder() string { return filepath.Join(b.options.Data, "dialects") }

// Statistics sums up the messages of every instrument.
func (b *Bench) Statistics() map[string]messages.Statistics {
	all := map[string]messages.Statistics{}
	for name, i := range b.Opened() {
		all[name] = i.Trace().Statistics()
	}
	return all
}

// Documented is the configuration with where each entry comes from.
func (b *Bench) Documented() (api.BenchConfig, error) {
	c := b.Config()
	all := api.BenchConfig{Instruments: c.Instruments, Bays: c.Bays, Origin: map[string]string{}}
	for name := range c.Instruments {
		all.Origin["instruments."+name] = "file"
	}
	for name := range c.Bays {
		all.Origin["bays."+name] = "file"
	}
	entries, err := b.entries()
	for _, entry := range entries {
		if !entry.Removed {
			all.Origin[entry.Kind+"s."+entry.Name] = "console"
		}
	}
	return all, err
}

// overlay is the configuration file with what was changed through the API.
func (b *Bench) overlay() (Config, error) {
	file := b.options.File
	c := Config{TimeFactor: file.TimeFactor, StallAfter: file.StallAfter, Copies: file.Copies,
		Instruments: maps.Clone(file.Instruments), Bays: maps.Clone(file.Bays)}
	if c.Instruments == nil {
		c.Instruments = map[string]api.InstrumentConfig{}
	}
	if c.Bays == nil {
		c.Bays = map[string]api.BayConfig{}
	}
	entries, err := b.entries()
	if err != nil {
		return c, err
	}
	for _, entry := range entries {
		if entry.Kind == store.InstrumentEntry {
			err = lay(c.Instruments, entry)
		} else {
			err = lay(c.Bays, entry)
		}
		if err != nil {
			return c, fmt.Errorf("%s %s as it was configured in the console: %w", entry.Kind, entry.Name, err)
		}
	}
	for name, bay := range c.Bays { // complete writes into the seats
		bay.Seats = maps.Clone(bay.Seats)
		c.Bays[name] = bay
	}
	return c, nil
}

// lay puts an entry over what the file has of the same name.
func lay[T any](all map[string]T, entry store.BenchEntry) error {
	delete(all, entry.Name)
	if entry.Removed {
		return nil
	}
	var one T
	if err := json.Unmarshal([]byte(entry.Text), &one); err != nil {
		return err
	}
	all[entry.Name] = one
	return nil
}

// Exchanges lists the last messages to an instrument, oldest first. It fails with ErrUnknownInstrument.
func (b *Bench) Exchanges(name string, n int) ([]api.Exchange, error) {
	i, err := b.Instrument(name)
	if err != nil {
		return nil, err
	}
	list := []api.Exchange{}
	for _, x := range i.Trace().Last(n) {
		list = append(list, api.Exchange{At: x.At, Message: x.Message, Answer: x.Answer, Latency: x.Latency.Seconds(),
			Error: x.Error})
	}
	return list, nil
}

// Instruments describes the bench as it is known; nobody's looking costs an instrument anything.
func (b *Bench) Instruments(ctx context.Context) ([]api.Instrument, error) {
	config, err := b.Documented()
	if err != nil {
		return nil, err
	}
	opened, fills := b.Opened(), fills(config)
	names := slices.Sorted(maps.Keys(opened))
	list := make([]api.Instrument, len(names))
	var wg sync.WaitGroup
	for k, name := range names {
		c := config.Instruments[name]
		list[k] = api.Instrument{Name: name, Address: c.Address, Calibrated: c.Calibrated, Due: c.Due,
			Fills: append([]string{}, fills[name]...), Origin: config.Origin["instruments."+name]}
		l := b.lookOf(opened[name])
		if l.said.Load() != nil {
			l.describe(ctx, &list[k])
			continue
		}
		wg.Go(func() { l.describe(ctx, &list[k]) })
	}
	wg.Wait()
	return list, nil
}

// fills lists for each instrument the seats that it fills, as "bay.seat".
func fills(config api.BenchConfig) map[string][]string {
	fills := map[string][]string{}
	for _, bay := range slices.Sorted(maps.Keys(config.Bays)) {
		for _, seat := range slices.Sorted(maps.Keys(config.Bays[bay].Seats)) {
			for _, ref := range config.Bays[bay].Seats[seat].All() {
				if name := bay + "." + seat; !slices.Contains(fills[ref.Instrument], name) {
					fills[ref.Instrument] = append(fills[ref.Instrument], name)
				}
			}
		}
	}
	return fills
}

// describe says what is known of the instrument.
func (l *look) describe(ctx context.Context, a *api.Instrument) {
	a.Dialect = l.of.Dialect.Name
	identity, err := l.known(ctx)
	a.Identity, a.Healthy = identity, err == nil
	if err != nil {
		a.Problem = err.Error()
	}
	stats := l.of.Trace().Statistics()
	a.Messages, a.Errors, a.Connects = stats.Messages, stats.Errors, stats.Connects
	a.Median, a.P99 = stats.Median.Seconds(), stats.P99.Seconds()
}

// entries are the changes that are on record.
func (b *Bench) entries() ([]store.BenchEntry, error) {
	if b.options.Store == nil {
		return nil, nil
	}
	return b.options.Store.BenchEntries()
}
