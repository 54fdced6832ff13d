// Package operate is what an operator does at a bay: a unit is scanned, tested by what the bay is set up for, counted,
// and the next one follows. A [Place] survives a restart of the service: what is set up, which unit is in it, and what
// came of the last one are on record.
package operate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"usherbench/api"
	"usherbench/core/nameplate"
	"usherbench/engine"
	"usherbench/engine/beside"
	"usherbench/store"
)

// Places are the operators' places of all bays. They are safe for use by several goroutines.
type Places struct {
	engine *engine.Engine
	store  *store.Store
	log    *slog.Logger
	ctx    context.Context
	cancel context.CancelFunc
	beside beside.Group
	setUp  chan struct{} // a place was set up

	tallies *tallies

	mu  sync.Mutex // guards all
	all map[string]*Place
}

// Place is the operator's place of one bay.
type Place struct {
	places *Places
	bay    string
	// turn is had by who changes the place. It is no mutex, since runs are begun under it.
	turn  *semaphore.Weighted
	kept  kept // of who has the turn
	shown atomic.Pointer[api.Place]
	armed bool // the condition of a contact did not hold since a test began by it; of who watches contacts
}

// kept is what a restart of the service leaves of a place.
type kept struct {
	Setup *api.PlaceSetup  `json:"setup"`
	Since time.Time        `json:"since"` // when it was set up
	Unit  *api.PlaceUnit   `json:"unit"`
	Last  *api.PlaceResult `json:"last"`
}

// Errors that callers tell apart.
var (
	// ErrNotSetUp means that nobody has said what is tested at the place.
	ErrNotSetUp = errors.New("the place is not set up")
	// ErrOccupied means that a unit is in the place that is not through.
	ErrOccupied = errors.New("a unit is in the place")
	// ErrEmpty means that no unit was scanned.
	ErrEmpty = errors.New("no unit was scanned")
)

// Open takes up every place as it was left.
func Open(e *engine.Engine, s *store.Store, log *slog.Logger) (*Places, error) {
	ctx, cancel := context.WithCancel(context.Background())
	p := &Places{engine: e, store: s, log: log, ctx: ctx, cancel: cancel, setUp: make(chan struct{}, 1),
		tallies: newTallies(s), all: map[string]*Place{}}
	s.HearOutcomes(p.tallies.hear)
	err := s.EachPlace(func(bay string, data []byte) error {
		place := p.make(bay)
		return json.Unmarshal(data, &place.kept)
	})
	if err != nil {
		cancel()
		return nil, err
	}
	for _, place := range p.all {
		place.show()
		if u := place.kept.Unit; u != nil && u.Run != "" {
			p.follow(place, u.Run)
		}
	}
	p.beside.Go(p.watchContacts)
	p.beside.Go(p.watchOutcomes)
	return p, nil
}

// Close ends the service of the places. It comes before the engine is closed.
func (p *Places) Close() {
	p.cancel()
	p.beside.Wait()
}

func (p *Places) make(bay string) *Place {
	place := &Place{places: p, bay: bay, turn: semaphore.NewWeighted(1)}
	p.all[bay] = place
	return place
}

// of is the place of a bay; one of which nothing is known is not set up.
func (p *Places) of(bay string) (*Place, error) {
	if _, err := p.engine.Bay(bay); err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if place, ok := p.all[bay]; ok {
		return place, nil
	}
	place := p.make(bay)
	place.shown.Store(&api.Place{Bay: bay, Title: bay, Change: p.store.Now().UnixMilli()})
	return place, nil
}

// Of tells how the place of a bay is. It fails with engine.ErrUnknownBay.
func (p *Places) Of(bay string) (api.Place, error) {
	place, err := p.of(bay)
	if err != nil {
		return api.Place{}, err
	}
	return place.now(), nil
}

// All tells how every place is that is set up, by bay.
func (p *Places) All() (all []api.Place) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, place := range p.all {
		if now := place.now(); now.Setup != nil {
			all = append(all, now)
		}
	}
	slices.SortFunc(all, func(a, b api.Place) int {
		if a.Bay < b.Bay {
			return -1
		}
		return 1
	})
	return all
}

// now is how the place is, with what holds its bay at the moment.
func (p *Place) now() api.Place {
	shown := *p.shown.Load()
	b, err := p.places.engine.Bay(p.bay)
	if err != nil {
		return shown
	}
	if h := b.Held(); h != nil {
		shown.Held = h.Why
	}
	shown.Title = b.Status().Title
	return shown
}

// change has one at a time change a place, and keeps what comes of it, of which watchers are told.
func (p *Places) change(ctx context.Context, bay string, change func(*Place) error) (api.Place, error) {
	place, err := p.of(bay)
	if err != nil {
		return api.Place{}, err
	}
	err = place.having(ctx, func() error { return errors.Join(change(place), place.keep()) })
	return place.now(), err
}

// having does something while nobody else changes the place.
func (p *Place) having(ctx context.Context, do func() error) error {
	if err := p.turn.Acquire(ctx, 1); err != nil {
		return err
	}
	defer p.turn.Release(1)
	return do()
}

// keep puts the place on record and tells watchers how it is.
func (p *Place) keep() error {
	p.show()
	return p.places.store.PutPlace(p.bay, p.kept)
}

// show counts, and tells watchers how the place is.
func (p *Place) show() {
	now := api.Place{Bay: p.bay, Title: p.bay, Setup: p.kept.Setup, Last: p.kept.Last,
		Change: p.places.store.Now().UnixMilli()} // after those of the service before
	if before := p.shown.Load(); before != nil {
		now.Change = max(now.Change, before.Change+1)
	}
	if u := p.kept.Unit; u != nil {
		copied := *u
		now.Unit = &copied
	}
	if p.kept.Setup != nil {
		tally, err := p.places.tallies.of(context.WithoutCancel(p.places.ctx), p.kept.counted(p.bay))
		if before := p.shown.Load(); err != nil && before != nil {
			p.places.log.Error("count the units of a place", "bay", p.bay, "err", err)
			tally = before.Tally
		}
		now.Tally = tally
	}
	p.shown.Store(&now)
	p.places.engine.Hub.PublishMade(api.EventPlace, p.bay, func() any { return p.now() })
}

// SetUp says what is tested at a place from now on. It fails with api.ErrBadRequest, store.ErrNotFound, ErrOccupied
// while a unit is in it, or the findings of a procedure.
func (p *Places) SetUp(ctx context.Context, by, bay string, setup api.PlaceSetup) (api.Place, error) {
	if setup.Begins == "" {
		setup.Begins = api.BeginsByScan
	}
	if err := p.check(bay, setup); err != nil {
		return api.Place{}, err
	}
	defer func() {
		select {
		case p.setUp <- struct{}{}:
		default: // it looks anyway
		}
	}()
	return p.change(ctx, bay, func(place *Place) error {
		if u := place.kept.Unit; u != nil && u.Run != "" {
			return fmt.Errorf("%w: %s is tested in %s; wait for its end, or stop it", ErrOccupied, u.Serial, bay)
		}
		if err := place.uncount(ctx); err != nil {
			return err
		}
		place.kept = kept{Setup: &setup, Since: p.store.Now()}
		detail, err := json.Marshal(setup)
		if err != nil {
			return err
		}
		p.engine.Journal(store.JournalEntry{By: by, Bay: bay, What: "place set up", Detail: string(detail)})
		return nil
	})
}

// uncount forgets what is counted for the place.
func (p *Place) uncount(ctx context.Context) error {
	if p.kept.Setup == nil {
		return nil
	}
	return p.places.tallies.forget(ctx, p.kept.counted(p.bay))
}

// check finds what is wrong with a setup.
func (p *Places) check(bay string, setup api.PlaceSetup) error {
	b, err := p.engine.Bay(bay)
	if err != nil {
		return err
	}
	refuse := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", api.ErrBadRequest, fmt.Sprintf(format, args...))
	}
	switch setup.Begins {
	case api.BeginsByScan, api.BeginsByKey:
		if setup.When != "" {
			return refuse("when goes with begins: contact")
		}
	case api.BeginsByContact:
		if _, err := contactOf(b.Status(), setup.When); err != nil {
			return refuse("when: %s", err)
		}
	default:
		return refuse("begins is %q; say scan, key or contact", setup.Begins)
	}
	procedures := setup.Procedures
	switch {
	case len(procedures) > 0 && setup.Card != "":
		return refuse("a place has procedures or a card, not both")
	case len(procedures) == 0 && setup.Card == "":
		return refuse("say which procedures are run, or whose card is worked through")
	case setup.Card != "":
		plate, err := p.plate(setup.Card)
		if err != nil {
			return err
		}
		if procedures = plate.Card.Routine; len(procedures) == 0 {
			return refuse("nameplate %s has no routine procedures on a card", setup.Card)
		}
	}
	for _, name := range procedures {
		revision, err := p.store.Revision(name, 0)
		if err != nil {
			return err
		}
		if _, _, err := p.engine.Resolve(revision, nil); err != nil {
			return err
		}
	}
	if plate, err := p.plateOf(setup); setup.Make && (err != nil || plate == nil || !plate.Serials.Makes()) {
		return refuse("no serial numbers can be made: the nameplate says nothing of them (serials: TN-{count:4})")
	}
	return nil
}

// plate reads a nameplate.
func (p *Places) plate(name string) (*nameplate.Nameplate, error) {
	stored, err := p.store.Nameplate(name)
	if err != nil {
		return nil, err
	}
	return nameplate.Parse([]byte(stored.Text))
}

// plateOf is the nameplate of what is tested at a place; nil: its procedures are for any unit.
func (p *Places) plateOf(setup api.PlaceSetup) (*nameplate.Nameplate, error) {
	name := setup.Card
	if name == "" {
		revision, err := p.store.Revision(setup.Procedures[0], 0)
		if err != nil {
			return nil, err
		}
		if name = revision.For; name == "" || name == "any" {
			return nil, nil
		}
	}
	return p.plate(name)
}

// Clear forgets what a place is set up for.
func (p *Places) Clear(ctx context.Context, by, bay string) error {
	_, err := p.change(ctx, bay, func(place *Place) error {
		if u := place.kept.Unit; u != nil && u.Run != "" {
			return fmt.Errorf("%w: %s is tested in %s; wait for its end, or stop it", ErrOccupied, u.Serial, bay)
		}
		if err := place.uncount(ctx); err != nil {
			return err
		}
		place.kept = kept{}
		p.engine.Journal(store.JournalEntry{By: by, Bay: bay, What: "place cleared"})
		return nil
	})
	return err
}
