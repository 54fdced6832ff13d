package simulation

import (
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing/synctest"
	"time"

	"usherbench/instrument/transport/memory"
	"usherbench/simbench"
)

// troubles lists what breaks.
func troubles() []kind {
	lasting := func(name string, least, most time.Duration) func(d draw, s Scenario, _ []instrument) []Event {
		return func(d draw, s Scenario, _ []instrument) []Event {
			return []Event{{At: d.between(began, s.Troubled), Kind: name, For: d.between(least, most)}}
		}
	}
	return []kind{
		{"kill service", 4, func(d draw, s Scenario, _ []instrument) []Event {
			e := Event{At: d.between(began, s.Troubled), Kind: "kill service",
				For: d.between(100*time.Millisecond, 2*time.Second)}
			if d.chance(0.3) { // again while it starts
				again := e
				again.At += e.For + d.between(time.Millisecond, 200*time.Millisecond)
				return []Event{e, again}
			}
			return []Event{e}
		}, func(h *house, e Event) { h.kill(e.For) }},
		{"kill warden", 2, anywhere("kill warden"), func(h *house, _ Event) { h.killWarden() }},
		{"kill both", 2, lasting("kill both", 200*time.Millisecond, 2*time.Second), func(h *house, e Event) {
			h.killWarden()
			h.kill(e.For)
		}},
		{"stall", 3, lasting("stall", 50*time.Millisecond, 1500*time.Millisecond), func(h *house, e Event) {
			p := h.service
			if p.dead.Load() {
				return
			}
			h.tell("service", "stands still for %s", e.For)
			h.mu.Lock()
			h.downs = append(h.downs, down{time.Now(), time.Now().Add(e.For), "stalled"})
			h.mu.Unlock()
			time.AfterFunc(e.For, p.network.Hold(memory.Everybody))
		}},
		{"break", 12, func(d draw, s Scenario, all []instrument) []Event {
			return []Event{breaks(d, s, d.instrument(all))}
		}, breakFor},
		{"break some", 3, func(d draw, s Scenario, all []instrument) (events []Event) {
			first := breaks(d, s, d.instrument(all))
			for _, i := range all {
				if d.chance(0.4) && slices.Contains(i.faults, first.Fault) {
					e := first
					e.Instrument, e.For = i.name, d.between(50*time.Millisecond, s.Troubled-began)
					events = append(events, e)
				}
			}
			return events
		}, breakFor},
		{"cut bay off", 2, func(d draw, s Scenario, all []instrument) (events []Event) {
			bay := d.bay(s).Name
			at, length := d.between(began, s.Troubled), d.between(100*time.Millisecond, 3*time.Second)
			for _, i := range all {
				if strings.HasSuffix(i.name, strings.TrimPrefix(bay, "bay")) {
					events = append(events, Event{At: at, Kind: "break", Instrument: i.name, Fault: simbench.Drop, For: length})
				}
			}
			return events
		}, breakFor},
		{"slow disk", 2, lasting("slow disk", 200*time.Millisecond, 3*time.Second), func(h *house, e Event) {
			h.setDisk(func(d *disk) { d.slow = 400 * time.Millisecond }, e.For, func(d *disk) { d.slow = 0 })
		}},
		{"damage records", 1, func(d draw, s Scenario, _ []instrument) []Event {
			e := Event{At: d.between(began, s.Troubled), Kind: "damage records",
				For:   d.between(300*time.Millisecond, 2*time.Second),
				Words: of(d, slices.Sorted(maps.Keys(damages)))}
			return []Event{e, {At: e.At + e.For, Kind: "put a copy back"}}
		}, func(h *house, e Event) { h.damage(e) }},
		{"set clock", 1, func(d draw, s Scenario, _ []instrument) []Event {
			by := of(d, []time.Duration{-26 * time.Hour, -time.Hour, -5 * time.Second, 5 * time.Second, time.Hour,
				400 * time.Hour})
			return []Event{{At: d.between(began, s.Troubled), Kind: "set clock", Words: by.String()}}
		}, func(h *house, e Event) { h.setClock(e.Words) }},
		{"put a copy back", 0, nil, func(h *house, _ Event) { h.putBack() }},
		{"full disk", 2, lasting("full disk", 200*time.Millisecond, 3*time.Second), func(h *house, e Event) {
			h.setDisk(func(d *disk) { d.full = true }, e.For, func(d *disk) { d.full = false })
		}},
	}
}

// breaks draws how an instrument breaks.
func breaks(d draw, s Scenario, i instrument) Event {
	return Event{At: d.between(began, s.Troubled), Kind: "break", Instrument: i.name, Fault: of(d, i.faults),
		For: d.between(50*time.Millisecond, s.Troubled-began)}
}

// breakFor breaks an instrument for a time.
func breakFor(h *house, e Event) {
	if err := h.bench.SetFault(e.Instrument, e.Fault); err != nil {
		h.tell(e.Instrument, "cannot break: %v", err)
		return
	}
	h.tell(e.Instrument, "breaks: %s for %s", e.Fault, e.For)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.faults = append(h.faults, fault{e.Instrument, e.Fault, time.Now(), time.Now().Add(e.For)})
	time.AfterFunc(e.For, func() {
		still := h.stillBroken(e.Instrument)
		if h.bench.SetFault(e.Instrument, still) == nil && still == simbench.NoFault {
			h.tell(e.Instrument, "is mended")
		}
	})
}

// stillBroken is the fault that an instrument has now: of those in force the one that came last.
func (h *house) stillBroken(instrument string) simbench.InstrumentFault {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, f := range slices.Backward(h.faults) {
		if f.instrument == instrument && f.what != heldUp && f.to.After(time.Now()) {
			return f.what
		}
	}
	return simbench.NoFault
}

// fault is an instrument that was broken for a time.
type fault struct {
	instrument string
	what       simbench.InstrumentFault
	from, to   time.Time
}

func (h *house) killWarden() {
	p := h.service
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.warden != nil && !p.dead.Load() {
		h.tell("warden", "is killed")
		h.mu.Lock()
		h.downs = append(h.downs, down{time.Now(), time.Now().Add(time.Second), "no warden"})
		h.mu.Unlock()
		p.warden.end()
	}
}

// setClock sets the clock of the computer by a duration.
func (h *house) setClock(by string) {
	d, err := time.ParseDuration(by)
	if err != nil {
		h.tell("clock", "%v", err)
		return
	}
	h.wrong.Add(int64(d))
	h.setOnce = true
	h.tell("clock", "is set by %s", by)
}

// damages are what can happen to a database.
var damages = map[string]func(path string) error{
	"gone":    os.Remove,
	"empty":   func(path string) error { return os.Truncate(path, 0) },
	"cut off": func(path string) error { return os.Truncate(path, 8192) },
	"flipped": func(path string) error {
		text, err := os.ReadFile(path)
		for page := 4096; page+64 <= len(text); page += 4096 {
			for i := range 64 {
				text[page+i] ^= 0xff
			}
		}
		f, openErr := os.OpenFile(path, os.O_WRONLY, 0)
		if openErr != nil {
			return openErr
		}
		_, writeErr := f.Write(text)
		return errors.Join(err, writeErr, f.Close())
	},
}

// damage damages the database, of which somebody has a copy.
func (h *house) damage(e Event) {
	if h.copied != "" {
		return // there is one damage at a time
	}
	synctest.Wait() // nobody is in the middle of a write
	h.copied = filepath.Join(h.folder, "copy")
	path := filepath.Join(h.data(), database)
	err := os.CopyFS(h.copied, os.DirFS(h.data()))
	if err = errors.Join(err, damages[e.Words](path)); err != nil {
		h.tell("records", "cannot be damaged: %v", err)
	}
	h.tell("records", "are damaged: %s for %s", e.Words, e.For)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.diskTrouble = append(h.diskTrouble, down{time.Now(), time.Now().Add(e.For + time.Second), "records"})
}

// putBack ends the service, if there is one, and puts the copy of the database in the place of the damaged one.
func (h *house) putBack() {
	if h.copied == "" {
		return
	}
	h.kill(200 * time.Millisecond)
	synctest.Wait()
	var errs []error
	for _, ending := range []string{"", "-wal", "-shm"} {
		to := filepath.Join(h.data(), database+ending)
		if err := os.Remove(to); err != nil && !errors.Is(err, os.ErrNotExist) {
			errs = append(errs, err)
		}
		if text, err := os.ReadFile(filepath.Join(h.copied, database+ending)); err == nil {
			errs = append(errs, os.WriteFile(to, text, 0o600))
		}
	}
	if err := errors.Join(append(errs, os.RemoveAll(h.copied))...); err != nil {
		h.tell("records", "cannot be put back: %v", err)
	}
	h.copied, h.older = "", true
	h.restartAt = time.Now().Add(200 * time.Millisecond)
	h.tell("records", "the copy is in place")
}

// database is the file of the records.
const database = "usher.db"

func (h *house) setDisk(begin func(*disk), length time.Duration, end func(*disk)) {
	set := func(how func(*disk)) {
		h.disk.mu.Lock()
		defer h.disk.mu.Unlock()
		how(&h.disk)
	}
	set(begin)
	h.tell("disk", "is slow or full for %s", length)
	h.mu.Lock()
	h.diskTrouble = append(h.diskTrouble, down{time.Now(), time.Now().Add(length), "disk"})
	h.mu.Unlock()
	time.AfterFunc(length, func() { set(end) })
}
