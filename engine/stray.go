package engine

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/store"
	"usherbench/warden"
)

// A stray is an output that could not be confirmed off when its bay was configured anew. No bay has it any longer, but
// it is not forgotten: it keeps its alarm, the warden knows it, and it is tried until it reads back as off.

// stray is what is left of a bay.
type stray struct {
	name        string // in messages, and to the warden
	board       *outputs.Switchboard
	instruments map[string]*instrument.Instrument // connections of its own
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
	s := &stray{name: bay + " (before)", instruments: map[string]*instrument.Instrument{}}
	config := map[string]api.SeatConfig{}
	for _, x := range seats {
		config[x.Name] = x.Config
		for _, m := range x.Members {
			i, err := instrument.OpenAt(m.Name, m.Address, m.Instrument.Dialect)
			if err != nil { // it was open before
				e.log.Error("keep an output that no bay has any longer", "instrument", m.Name, "err", err)
				return
			}
			s.instruments[m.Name] = i
		}
	}
	o := outputs.Options{Bay: s.name, Alive: func(time.Duration) {}, Log: e.log,
		Journal: func(what, detail, run string) {
			e.journal.Add(store.JournalEntry{By: "service", Bay: s.name, RunID: run, What: what, Detail: detail})
		}}
	if w := e.options.Warden; w != nil {
		o.Energised = func(on bool) { w.Energised(s.name, on) }
	}
	s.board = outputs.New(config, s.instruments, o)
	s.board.TakeOver(before)
	e.mu.Lock()
	for e.strays[s.name] != nil { // a bay that was changed twice
		s.name += "′"
	}
	e.strays[s.name] = s
	e.mu.Unlock()
	if o.Energised != nil {
		o.Energised(true)
	}
	e.wg.Go(func() { e.chase(s) })
}

// chase tries a stray until it is confirmed off, or the service ends.
func (e *Engine) chase(s *stray) {
	defer func() {
		for _, i := range s.instruments {
			_ = i.Close() // nobody uses it any more
		}
	}()
	ticker := time.NewTicker(strayEvery)
	defer ticker.Stop()
	for s.board.Alarm() != "" {
		s.board.Retry(e.ctx)
		select {
		case <-e.ctx.Done():
			return
		case <-ticker.C:
		}
	}
	e.mu.Lock()
	delete(e.strays, s.name)
	e.mu.Unlock()
	e.tellPlan()
}

// strayList lists the strays by name.
func (e *Engine) strayList() []*stray {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return slices.SortedFunc(maps.Values(e.strays), func(a, b *stray) int { return strings.Compare(a.name, b.name) })
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
