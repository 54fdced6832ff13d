package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
	"usherbench/store"
	"usherbench/warden"
)

// A stray is an output that could not be confirmed off when its bay was configured anew. No bay has it any longer, but
// it is not forgotten: it keeps its alarm, the warden knows it, and it is tried until it reads back as off, also by the
// services that come after this one.

// stray is what is left of a bay.
type stray struct {
	leftover
	board       *outputs.Switchboard
	instruments map[string]*instrument.Instrument // connections of its own
	forget      chan struct{}                     // gets something when a person says that it is off or gone
	over        chan struct{}                     // closed when it is tried no longer
}

// leftover is what must be known to switch off what is left of a bay.
type leftover struct {
	Name        string                    `json:"name"` // in messages, and to the warden
	Alarm       string                    `json:"alarm"`
	Seats       map[string]api.SeatConfig `json:"seats"`
	Instruments map[string]spokenTo       `json:"instruments"`
}

// spokenTo is where an instrument is and what it speaks.
type spokenTo struct {
	Address string           `json:"address"`
	Dialect []dialect.Source `json:"dialect"` // bases first
}

// leftovers are files beside the database, one for each stray.
type leftovers struct{ folder string } // no folder: none are kept

func (l leftovers) file(name string) string { return filepath.Join(l.folder, name+".json") }

func (l leftovers) keep(x leftover) error {
	if l.folder == "" {
		return nil
	}
	text, err := json.Marshal(x)
	if err != nil {
		return err
	}
	return errors.Join(os.MkdirAll(l.folder, 0o700), os.WriteFile(l.file(x.Name), text, 0o600))
}

func (l leftovers) drop(name string) error {
	if l.folder == "" {
		return nil
	}
	return remove(l.file(name))
}

// all are those of former services. The error tells of files that nobody can read: of them only the name is known.
func (l leftovers) all() (all []leftover, err error) {
	if l.folder == "" {
		return nil, nil
	}
	files, err := filepath.Glob(filepath.Join(l.folder, "*.json"))
	for _, file := range files {
		var x leftover
		text, readErr := os.ReadFile(file)
		if readErr == nil {
			readErr = json.Unmarshal(text, &x)
		}
		if readErr != nil {
			err = errors.Join(err, fmt.Errorf("what is left of %s cannot be read: %w",
				strings.TrimSuffix(filepath.Base(file), ".json"), readErr))
			continue
		}
		all = append(all, x)
	}
	return all, err
}

// lookedFor is how long the word counts of a person who has looked at the outputs of a bay with an alarm.
const lookedFor = 10 * time.Minute

// strayEvery is how often strays are tried.
const strayEvery = time.Second

// Looked notes that a person states that they looked at the outputs of a bay with an alarm, and that they are off: for
// a while the bay may be configured anew. The alarm stays until they read back as off.
func (b *Bay) Looked(by string) error {
	alarm := b.outputs.Alarm()
	if alarm == "" {
		return fmt.Errorf("%w: %s has no alarm", ErrIdle, b.name)
	}
	if err := b.engine.journal.Write(b.ctx, store.JournalEntry{By: by, Bay: b.name, What: "looked at the outputs",
		Detail: "states that they are off at the instruments, though: " + alarm}); err != nil {
		return fmt.Errorf("%w: %w", ErrNotReady, err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.looked = time.Now()
	return nil
}

// unlooked says why a bay with an alarm is not configured anew; nil: it has none, or somebody has looked.
func (b *Bay) unlooked() error {
	alarm := b.outputs.Alarm()
	b.mu.Lock()
	defer b.mu.Unlock()
	if alarm == "" || time.Since(b.looked) < lookedFor {
		return nil
	}
	return fmt.Errorf("%w: %s is not changed while nobody knows whether its outputs are off: %s If you have looked and "+
		"they are, say so first: usher bench looked %s", ErrNotReady, b.name, alarm, b.name)
}

// adopt goes on trying outputs of a bay's former switchboard that no bay has any longer.
func (e *Engine) adopt(bay string, before *outputs.Switchboard, seats []*outputs.Seat) {
	if len(seats) == 0 {
		return
	}
	left := leftover{Name: bay + " (before)", Alarm: before.Alarm(), Seats: map[string]api.SeatConfig{},
		Instruments: map[string]spokenTo{}}
	for _, x := range seats {
		left.Seats[x.Name] = x.Config
		for _, m := range x.Members {
			left.Instruments[m.Name] = spokenTo{Address: m.Address.String(), Dialect: m.Instrument.Dialect.Sources}
		}
	}
	e.mu.RLock()
	for e.strays[left.Name] != nil { // a bay that was changed twice
		left.Name += "′"
	}
	e.mu.RUnlock()
	if err := e.leftovers.keep(left); err != nil { // it is tried all the same, while this service lives
		e.log.Error("keep an output that no bay has any longer", "left", left.Name, "err", err)
	}
	if err := e.follow(left); err != nil { // it was open before
		e.log.Error("go on trying an output that no bay has any longer", "left", left.Name, "err", err)
	}
}

// followAgain goes on trying what former services could not confirm off.
func (e *Engine) followAgain() {
	all, err := e.leftovers.all()
	for _, left := range all {
		err = errors.Join(err, e.follow(left))
	}
	if err != nil {
		e.log.Error("go on trying outputs that no bay has any longer", "err", err)
		e.unfollowed = err
		e.Journal(store.JournalEntry{By: "service", What: "ALARM: make safe not possible", Detail: "outputs that no bay " +
			"has any longer may still be on; check them by hand: " + err.Error()})
	}
}

// follow tries what is left of a bay until it reads back as off.
func (e *Engine) follow(left leftover) error {
	s := &stray{leftover: left, instruments: map[string]*instrument.Instrument{}, forget: make(chan struct{}, 1),
		over: make(chan struct{})}
	for name, x := range left.Instruments {
		a, err := transport.Parse(x.Address)
		if err != nil {
			return err
		}
		d, err := dialect.Whole(x.Dialect)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if s.instruments[name], err = instrument.OpenAt(name, a.Through(e.options.Memory), d); err != nil {
			return err
		}
	}
	o := outputs.Options{Bay: s.Name, Alive: func(time.Duration) {}, Log: e.log,
		Journal: func(what, detail, run string) {
			e.journal.Add(store.JournalEntry{By: "service", Bay: s.Name, RunID: run, What: what, Detail: detail})
		}}
	if w := e.options.Warden; w != nil {
		o.Energised = func(on bool) { w.Energised(s.Name, on) }
	}
	s.board = outputs.New(left.Seats, s.instruments, o)
	s.board.TakeUp(left.Alarm)
	e.mu.Lock()
	e.strays[s.Name] = s
	e.mu.Unlock()
	if o.Energised != nil {
		o.Energised(true)
	}
	e.beside.Go(func() { e.chase(s) })
	return nil
}

// Forget stops trying outputs that no bay has any longer, since a person states that they are off, or gone for good.
func (e *Engine) Forget(ctx context.Context, name, by string) error {
	e.mu.RLock()
	s := e.strays[name]
	e.mu.RUnlock()
	if s == nil {
		return fmt.Errorf("%w: %q, of outputs that no bay has any longer", ErrUnknownBay, name)
	}
	if err := e.journal.Write(ctx, store.JournalEntry{By: by, Bay: name, What: "forgot the outputs",
		Detail: "states that they are off, or gone for good, though: " + s.board.Alarm()}); err != nil {
		return fmt.Errorf("%w: %w", ErrNotReady, err)
	}
	select {
	case s.forget <- struct{}{}:
	default: // somebody has said so already
	}
	select {
	case <-s.over:
		if e.ctx.Err() != nil {
			return ErrStopping // it may be that the service that comes after goes on trying
		}
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// chase tries a stray until it is confirmed off, a person says that it is, or the service ends.
func (e *Engine) chase(s *stray) {
	defer close(s.over)
	defer func() {
		for _, i := range s.instruments {
			_ = i.Close() // nobody uses it any more
		}
	}()
	ticker := time.NewTicker(strayEvery)
	defer ticker.Stop()
	for forgotten := false; !forgotten; {
		if s.board.Retry(e.ctx); s.board.Alarm() == "" {
			break
		}
		select {
		case <-e.ctx.Done():
			return
		case <-s.forget:
			forgotten = true
		case <-ticker.C:
		}
	}
	if err := e.leftovers.drop(s.Name); err != nil { // the next service finds it off
		e.log.Error("forget an output that no bay has any longer", "left", s.Name, "err", err)
	}
	e.mu.Lock()
	delete(e.strays, s.Name)
	e.mu.Unlock()
	if w := e.options.Warden; w != nil { // of what was forgotten nobody else tells it
		w.Energised(s.Name, false)
	}
	e.tellPlan()
}

// strayList lists the strays by name.
func (e *Engine) strayList() []*stray {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return slices.SortedFunc(maps.Values(e.strays), func(a, b *stray) int { return strings.Compare(a.Name, b.Name) })
}

// channelsOf are the outputs of a switchboard as the warden switches them off.
func channelsOf(board *outputs.Switchboard) []warden.Channel {
	channels := []warden.Channel{}
	for _, x := range board.OffOrder() {
		for _, m := range x.Members {
			channels = append(channels, warden.Channel{Seat: x.Name, Kind: x.Kind.Name, Instrument: m.Name,
				Address: m.Address.String(), Number: m.Number, Dialect: m.Instrument.Dialect.Sources})
		}
	}
	return channels
}
