package bench

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
	"usherbench/store"
)

// PutInstrument adds an instrument or changes one.
func (b *Bench) PutInstrument(by, name string, i api.InstrumentConfig) error {
	text, err := json.Marshal(i)
	if err != nil {
		return err
	}
	return b.change(by, store.BenchEntry{Kind: store.InstrumentEntry, Name: name, Text: string(text), By: by},
		"instrument configured",
		fmt.Sprintf("%s at %s speaks %s", name, i.Address, i.Dialect))
}

// PutBay adds a bay or changes one.
func (b *Bench) PutBay(by, name string, c api.BayConfig) error {
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return b.change(by, store.BenchEntry{Kind: store.BayEntry, Name: name, Text: string(text), By: by}, "bay configured",
		string(text))
}

// RemoveInstrument takes an instrument away; no seat may need it.
func (b *Bench) RemoveInstrument(by, name string) error {
	if _, err := b.Instrument(name); err != nil {
		return err
	}
	if seats := b.seatsOf(name); len(seats) > 0 {
		return fmt.Errorf("%w: %s is in use: it fills %s; give the bay another instrument or take the bay away first",
			api.ErrBadRequest, name, strings.Join(seats, ", "))
	}
	return b.change(by, store.BenchEntry{Kind: store.InstrumentEntry, Name: name, Removed: true, By: by},
		"instrument removed", name)
}

// RemoveBay takes a bay away, if its owner lets it go; its runs stay on record.
func (b *Bench) RemoveBay(by, name string) error {
	if err := b.options.Bays.Removable(name); err != nil {
		return err
	}
	return b.change(by, store.BenchEntry{Kind: store.BayEntry, Name: name, Removed: true, By: by}, "bay removed", name)
}

// change tries an entry, and keeps it if the bench can be built with it.
func (b *Bench) change(by string, entry store.BenchEntry, what, detail string) error {
	defer b.changing.Enter()()
	before, err := b.options.Store.BenchEntries()
	if err != nil {
		return err
	}
	if err := b.options.Store.SaveBenchEntry(entry); err != nil {
		return err
	}
	if err := b.rebuild(b.dialects); err != nil {
		return errors.Join(err, b.putBack(before, entry))
	}
	b.options.Journal(store.JournalEntry{By: by, What: what, Detail: detail})
	return nil
}

// putBack restores what an entry replaced.
func (b *Bench) putBack(before []store.BenchEntry, entry store.BenchEntry) error {
	i := slices.IndexFunc(before, func(b store.BenchEntry) bool { return b.Kind == entry.Kind && b.Name == entry.Name })
	if i < 0 {
		return b.options.Store.DropBenchEntry(entry.Kind, entry.Name)
	}
	return b.options.Store.SaveBenchEntry(before[i])
}

// rebuild puts the effective configuration into force. Bays that do not change go on, also with live runs;
// those that do must be idle.
func (b *Bench) rebuild(dialects dialect.Library) error {
	next, err := b.overlay()
	if err != nil {
		return err
	}
	if err := next.complete(dialects); err != nil {
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	fresh := func(name string) bool { return b.isFresh(name, next, dialects) }
	halted := b.affected(next, fresh)
	if err := b.options.Bays.Halt(halted); err != nil {
		return err
	}
	instruments, err := b.open(next, fresh, dialects)
	if err != nil { // such as one that another service uses; no bay may stay halted for it
		b.options.Bays.Renew(halted)
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	b.mu.Lock()
	before, old := b.config, b.instruments
	b.config, b.dialects, b.instruments = next, dialects, instruments
	b.mu.Unlock()
	for name, i := range old {
		if instruments[name] != i {
			_ = i.Close() // nobody uses it any more
			b.holds.give(i.Address)
		}
	}
	changed := halted
	for name := range next.Bays {
		if _, known := before.Bays[name]; !known {
			changed = append(changed, name)
		}
	}
	b.options.Bays.Renew(changed)
	return nil
}

// isFresh tells whether an instrument is to be opened anew.
func (b *Bench) isFresh(name string, next Config, dialects dialect.Library) bool {
	old, known := b.config.Instruments[name]
	i := next.Instruments[name]
	return !known || old.Address != i.Address || old.Dialect != i.Dialect || b.dialects[i.Dialect] != dialects[i.Dialect]
}

// affected are the bays that change, or whose instruments do.
func (b *Bench) affected(next Config, fresh func(instrument string) bool) (names []string) {
	for _, name := range slices.Sorted(maps.Keys(b.config.Bays)) {
		from := b.config.Bays[name]
		to, stays := next.Bays[name]
		if !stays || !sameBay(from, to) || slices.ContainsFunc(instrumentsOf(from), fresh) {
			names = append(names, name)
		}
	}
	return names
}

// open opens the fresh instruments of a configuration, and keeps the others.
func (b *Bench) open(c Config, fresh func(instrument string) bool,
	dialects dialect.Library) (map[string]*instrument.Instrument, error) {
	all := map[string]*instrument.Instrument{}
	var taken []transport.Address
	for _, name := range slices.Sorted(maps.Keys(c.Instruments)) {
		i := c.Instruments[name]
		if !fresh(name) {
			all[name] = b.instruments[name]
			continue
		}
		opened, err := b.reach(name, i.Address, dialects[i.Dialect])
		if err == nil {
			err = b.holds.take(opened.Address)
		}
		if err != nil {
			for _, a := range taken {
				b.holds.give(a)
			}
			return nil, fmt.Errorf("instruments.%s: %w", name, err)
		}
		all[name], taken = opened, append(taken, opened.Address)
	}
	return all, nil
}

// reach prepares an instrument.
func (b *Bench) reach(name, address string, d *dialect.Dialect) (*instrument.Instrument, error) {
	a, err := transport.Parse(address)
	if err != nil {
		return nil, err
	}
	return instrument.OpenAt(name, a.Through(b.options.Memory), d)
}

func sameBay(a, b api.BayConfig) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

func instrumentsOf(b api.BayConfig) (names []string) {
	for _, s := range b.Seats {
		for _, ref := range s.All() {
			names = append(names, ref.Instrument)
		}
	}
	return names
}

// seatsOf lists the seats that an instrument fills, as "source of bay1".
func (b *Bench) seatsOf(instrument string) (all []string) {
	for bay, c := range b.Config().Bays {
		for seat, s := range c.Seats {
			if slices.ContainsFunc(s.All(), func(r api.ChannelRef) bool { return r.Instrument == instrument }) {
				all = append(all, seat+" of "+bay)
			}
		}
	}
	slices.Sort(all)
	return all
}
