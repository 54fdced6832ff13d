package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/document"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// Config is the bench as it is configured now.
func (e *Engine) Config() Config {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.config
}

func (e *Engine) instrumentConfig(name string) InstrumentConfig { return e.Config().Instruments[name] }

// BenchConfig is the configuration with where each entry comes from.
func (e *Engine) BenchConfig() (api.BenchConfig, error) {
	c := e.Config()
	all := api.BenchConfig{Instruments: c.Instruments, Bays: c.Bays, Origin: map[string]string{}}
	for name := range c.Instruments {
		all.Origin["instruments."+name] = "file"
	}
	for name := range c.Bays {
		all.Origin["bays."+name] = "file"
	}
	entries, err := e.store.BenchEntries()
	for _, entry := range entries {
		if !entry.Removed {
			all.Origin[entry.Kind+"s."+entry.Name] = "console"
		}
	}
	return all, err
}

// overlay is the configuration file with what was changed through the API.
func (e *Engine) overlay() (Config, error) {
	c := Config{TimeFactor: e.file.TimeFactor, Instruments: maps.Clone(e.file.Instruments), Bays: maps.Clone(e.file.Bays)}
	if c.Instruments == nil {
		c.Instruments = map[string]InstrumentConfig{}
	}
	if c.Bays == nil {
		c.Bays = map[string]BayConfig{}
	}
	entries, err := e.store.BenchEntries()
	if err != nil {
		return c, err
	}
	for _, entry := range entries {
		var err error
		switch {
		case entry.Kind == store.InstrumentEntry && entry.Removed:
			delete(c.Instruments, entry.Name)
		case entry.Kind == store.InstrumentEntry:
			var i InstrumentConfig
			err = json.Unmarshal([]byte(entry.Text), &i)
			c.Instruments[entry.Name] = i
		case entry.Removed:
			delete(c.Bays, entry.Name)
		default:
			var b BayConfig
			err = json.Unmarshal([]byte(entry.Text), &b)
			c.Bays[entry.Name] = b
		}
		if err != nil {
			return c, fmt.Errorf("%s %s as it was configured in the console: %w", entry.Kind, entry.Name, err)
		}
	}
	for name, b := range c.Bays { // complete writes into the seats
		b.Seats = maps.Clone(b.Seats)
		c.Bays[name] = b
	}
	return c, nil
}

// PutInstrument adds an instrument or changes one.
func (e *Engine) PutInstrument(by, name string, i InstrumentConfig) error {
	text, err := json.Marshal(i)
	if err != nil {
		return err
	}
	return e.change(by, store.BenchEntry{Kind: store.InstrumentEntry, Name: name, Text: string(text), By: by},
		"instrument configured",
		fmt.Sprintf("%s at %s speaks %s", name, i.Address, i.Dialect))
}

// PutBay adds a bay or changes one.
func (e *Engine) PutBay(by, name string, b BayConfig) error {
	text, err := json.Marshal(b)
	if err != nil {
		return err
	}
	return e.change(by, store.BenchEntry{Kind: store.BayEntry, Name: name, Text: string(text), By: by}, "bay configured",
		string(text))
}

// RemoveInstrument takes an instrument away; no seat may need it.
func (e *Engine) RemoveInstrument(by, name string) error {
	if _, ok := e.Config().Instruments[name]; !ok {
		return fmt.Errorf("%w: %q; %s", ErrUnknownInstrument, name,
			document.Suggest(name, slices.Collect(maps.Keys(e.Config().Instruments))))
	}
	return e.change(by, store.BenchEntry{Kind: store.InstrumentEntry, Name: name, Removed: true, By: by},
		"instrument removed", name)
}

// RemoveBay takes a bay away; its runs stay on record.
func (e *Engine) RemoveBay(by, name string) error {
	b, err := e.Bay(name)
	if err != nil {
		return err
	}
	if alarm := b.Status().Alarm; alarm != "" {
		return fmt.Errorf("%w: %s is not removed while nobody knows whether its outputs are off: %s", ErrNotReady, name,
			alarm)
	}
	return e.change(by, store.BenchEntry{Kind: store.BayEntry, Name: name, Removed: true, By: by}, "bay removed", name)
}

// change tries an entry, and keeps it if the bench can be built with it.
func (e *Engine) change(by string, entry store.BenchEntry, what, detail string) error {
	e.changing.Lock()
	defer e.changing.Unlock()
	before, err := e.store.BenchEntries()
	if err != nil {
		return err
	}
	if err := e.store.SaveBenchEntry(entry); err != nil {
		return err
	}
	if err := e.rebuild(e.dialects); err != nil {
		return errors.Join(err, e.putBack(before, entry))
	}
	e.Journal(store.JournalEntry{By: by, What: what, Detail: detail})
	return nil
}

// putBack restores what an entry replaced.
func (e *Engine) putBack(before []store.BenchEntry, entry store.BenchEntry) error {
	i := slices.IndexFunc(before, func(b store.BenchEntry) bool { return b.Kind == entry.Kind && b.Name == entry.Name })
	if i < 0 {
		return e.store.DropBenchEntry(entry.Kind, entry.Name)
	}
	return e.store.SaveBenchEntry(before[i])
}

// rebuild puts the effective configuration into force. Bays that do not change go on, also with live runs;
// those that do must be idle.
func (e *Engine) rebuild(dialects dialect.Library) error {
	next, err := e.overlay()
	if err != nil {
		return err
	}
	if err := next.complete(dialects); err != nil {
		return fmt.Errorf("%w: %w", ErrBadRequest, err)
	}
	fresh := map[string]bool{} // instruments that are opened anew
	for name, i := range next.Instruments {
		old, known := e.config.Instruments[name]
		fresh[name] = !known || old.Address != i.Address || old.Dialect != i.Dialect ||
			e.dialects[i.Dialect] != dialects[i.Dialect]
	}
	var affected []*Bay
	for _, b := range e.Bays() {
		if to, stays := next.Bays[b.name]; !stays || !sameBay(b.config, to) || slices.ContainsFunc(instrumentsOf(b.config),
			func(i string) bool { return fresh[i] }) {
			affected = append(affected, b)
		}
	}
	if err := e.halt(affected); err != nil {
		return err
	}
	instruments, err := e.open(next, fresh, dialects)
	// Complete has opened them all before, so this does not happen; the bays must not stay halted all the same
	if err != nil {
		for _, b := range affected {
			e.revive(b.name, e.config)
		}
		return err
	}
	e.mu.Lock()
	old := e.instruments
	e.config, e.dialects, e.instruments = next, dialects, instruments
	for _, b := range affected {
		if _, stays := next.Bays[b.name]; !stays {
			delete(e.bays, b.name)
		}
	}
	e.mu.Unlock()
	for name, i := range old {
		if instruments[name] != i {
			_ = i.Close() // nobody uses it any more
		}
	}
	for name := range next.Bays {
		if b, err := e.Bay(name); err != nil || slices.Contains(affected, b) {
			e.revive(name, next)
		}
	}
	e.tellPlan()
	return nil
}

// halt takes bays out of service: idle, safe, and without goroutines.
func (e *Engine) halt(bays []*Bay) error {
	for i, b := range bays {
		err := b.ownForChange()
		if err == nil && b.outputs.ByHand() {
			if doErr := b.do(b.ctx, func() { err = b.outputs.MakeSafe("the bay is configured anew", "") }); doErr != nil {
				err = doErr
			}
			if err != nil {
				b.release()
			}
		}
		if err != nil {
			for _, owned := range bays[:i] {
				owned.release()
			}
			return err
		}
	}
	for _, b := range bays {
		b.stop()
	}
	return nil
}

func (e *Engine) open(c Config, fresh map[string]bool, dialects dialect.Library) (map[string]*instrument.Instrument,
	error) {
	all := map[string]*instrument.Instrument{}
	for name, i := range c.Instruments {
		if !fresh[name] {
			all[name] = e.instruments[name]
			continue
		}
		var err error
		if all[name], err = instrument.Open(name, i.Address, dialects[i.Dialect]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// revive builds a bay and begins to sample it. An alarm that it had before stays until its outputs are confirmed off.
func (e *Engine) revive(name string, c Config) {
	e.mu.Lock()
	before := e.bays[name]
	b := newBay(e, name, c.Bays[name])
	if before != nil {
		b.outputs.TakeOver(before.outputs)
	}
	e.bays[name] = b
	e.mu.Unlock()
	b.start()
	b.publish()
}

func sameBay(a, b BayConfig) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

func instrumentsOf(b BayConfig) (names []string) {
	for _, s := range b.Seats {
		for _, ref := range s.All() {
			names = append(names, ref.Instrument)
		}
	}
	return names
}

// Dialects lists the dialects that the bench knows.
func (e *Engine) Dialects() dialect.Library {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return maps.Clone(e.dialects)
}

// DialectFolder is where the user's own dialects are.
func (e *Engine) DialectFolder() string { return filepath.Join(e.options.Data, "dialects") }

// PutDialect checks a dialect, keeps it in the folder of dialects, and puts it into force. The bays that use it
// must be idle.
func (e *Engine) PutDialect(by, text string) (*dialect.Dialect, error) {
	e.changing.Lock()
	defer e.changing.Unlock()
	d, err := e.Dialects().Read(dialect.Source{File: "sent", Text: text})
	if err != nil {
		return nil, err
	}
	path := filepath.Join(e.DialectFolder(), d.Name+".yaml")
	before, readErr := os.ReadFile(path)
	if err := os.MkdirAll(e.DialectFolder(), 0o700); err != nil {
		return nil, err
	}
	if err := writeBeside(path, text); err != nil {
		return nil, err
	}
	library, err := dialect.Load(e.DialectFolder())
	if err == nil || library[d.Name] != nil {
		err = e.rebuild(e.unchanged(library))
	}
	if err != nil {
		if readErr == nil {
			return nil, errors.Join(err, writeBeside(path, string(before)))
		}
		return nil, errors.Join(err, os.Remove(path))
	}
	e.Journal(store.JournalEntry{By: by, What: "dialect stored", Detail: d.Name + ": " + d.Title})
	return e.Dialects()[d.Name], nil
}

// unchanged keeps the dialects whose text is the same, so that instruments which speak them go on.
func (e *Engine) unchanged(library dialect.Library) dialect.Library {
	for name, d := range library {
		if old, ok := e.dialects[name]; ok && slices.Equal(old.Sources, d.Sources) {
			library[name] = old
		}
	}
	return library
}

// writeBeside writes a file so that nobody reads half of it.
func writeBeside(path, text string) error {
	if err := os.WriteFile(path+".new", []byte(text), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// DescribeDialect is a dialect as the API gives it.
func DescribeDialect(d *dialect.Dialect) api.Dialect {
	own := d.Sources[len(d.Sources)-1]
	return api.Dialect{Name: d.Name, Title: d.Title, Protocol: string(d.Protocol), Channels: d.Channels, Seats: d.Seats,
		File: strings.TrimPrefix(own.File, "shipped dialect/"), Text: own.Text}
}
