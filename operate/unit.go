package operate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/nameplate"
	"usherbench/core/serials"
	"usherbench/store"
)

// Scan takes what was scanned or typed at a place: a unit, or the part of it that is wanted. Where the place begins by
// scan the test is under way when it returns, or Problem of the unit says what stands in the way. It fails with
// ErrNotSetUp, ErrOccupied, api.ErrBadRequest, or engine.ErrBusy.
func (p *Places) Scan(ctx context.Context, by, bay string, scan api.PlaceScan) (api.Place, error) {
	return p.change(ctx, bay, func(place *Place) error {
		setup := place.kept.Setup
		if setup == nil {
			return fmt.Errorf("%w: say first what is tested in %s", ErrNotSetUp, bay)
		}
		unit := place.kept.Unit
		switch {
		case unit == nil || unit.Run == "" && len(unit.Wanted) == 0:
			fresh, err := place.take(by, scan.Serial)
			if err != nil {
				return err
			}
			unit, place.kept.Unit = fresh, fresh
		case unit.Run != "":
			return fmt.Errorf("%w: %s is still tested in %s", ErrOccupied, unit.Serial, bay)
		default:
			if err := place.takePart(scan.Serial); err != nil {
				return err
			}
		}
		if setup.Begins == api.BeginsByScan && len(unit.Wanted) == 0 {
			place.begin(ctx, by, byPerson)
		}
		return nil
	})
}

// take makes what was scanned the unit of the place.
func (p *Place) take(by, serial string) (*api.PlaceUnit, error) {
	ps, setup := p.places, *p.kept.Setup
	plate, err := ps.plateOf(setup)
	if err != nil {
		return nil, err
	}
	if serial == "" {
		if !setup.Make {
			return nil, fmt.Errorf("%w: scan or type a serial number", api.ErrBadRequest)
		}
		if serial, err = ps.makeSerial(plate); err != nil {
			return nil, err
		}
	}
	if err := archive.CheckSerial(serial); err != nil {
		return nil, err
	}
	if other := ps.whereElse(p.bay, serial); other != "" {
		return nil, fmt.Errorf("%w: %s was scanned in %s; take it back there first", ErrOccupied, serial, other)
	}
	u := &api.PlaceUnit{Serial: serial, By: by, At: ps.store.Now(), Wanted: []string{},
		ToDo: slices.Clone(setup.Procedures)}
	if setup.Card != "" {
		if u.ToDo, err = ps.left(plate, serial); err != nil {
			return nil, err
		}
	}
	if u.Of = len(u.ToDo); u.Of == 0 {
		return nil, fmt.Errorf("%w: %s has passed everything on the card of %s", api.ErrBadRequest, serial, setup.Card)
	}
	if plate == nil {
		return u, nil
	}
	known, err := ps.store.Unit(serial)
	if err != nil {
		return nil, err
	}
	for _, part := range plate.Parts {
		if part.Required && known.Parts[part.Name] == "" {
			u.Wanted = append(u.Wanted, part.Name)
		}
	}
	u.Parts = known.Parts
	return u, nil
}

// whereElse is another place in which a unit is; empty: it is in none.
func (p *Places) whereElse(bay, serial string) string {
	for _, other := range p.All() {
		if other.Bay != bay && other.Unit != nil && other.Unit.Serial == serial {
			return other.Bay
		}
	}
	return ""
}

// makeSerial makes the serial number of the next unit.
func (p *Places) makeSerial(plate *nameplate.Nameplate) (string, error) {
	if plate == nil {
		return "", fmt.Errorf("%w: the procedures are for any unit; scan a serial number", api.ErrBadRequest)
	}
	now := p.store.Now().Local()
	year, week := now.ISOWeek()
	day := serials.Day{Year: now.Year(), Month: int(now.Month()), Day: now.Day(), WeekYear: year, Week: week}
	return p.store.NextOf(plate.Serials.Series(day), func(n int) (string, error) { return plate.Serials.Make(day, n) })
}

// left are the routine procedures of a card that a unit has not passed.
func (p *Places) left(plate *nameplate.Nameplate, serial string) (names []string, err error) {
	card, err := archive.CardOf(p.store, plate, serial)
	if err != nil {
		return nil, err
	}
	for _, item := range card.Items {
		if item.Kind == "routine" && item.State != api.CardPassed && item.State != api.CardMarginal {
			names = append(names, item.Procedure)
		}
	}
	return names, nil
}

// takePart makes what was scanned the part of the unit that is wanted next.
func (p *Place) takePart(text string) error {
	u := p.kept.Unit
	plate, err := p.places.plateOf(*p.kept.Setup)
	if err != nil {
		return err
	}
	name := u.Wanted[0]
	for _, part := range plate.Parts {
		if part.Name != name {
			continue
		}
		if err := errors.Join(archive.CheckSerial(text), part.Serials.Check(text)); err != nil {
			return fmt.Errorf("%w: %s of %s: %w", api.ErrBadRequest, name, u.Serial, err)
		}
	}
	parts := map[string]string{name: text}
	for other, known := range u.Parts {
		parts[other] = known
	}
	u.Parts, u.Wanted = parts, u.Wanted[1:]
	if len(u.Wanted) > 0 {
		return nil
	}
	return archive.ChangeUnit(p.places.store, u.By, u.Serial, api.UnitChange{Parts: &parts})
}

// Undo forgets a unit that was scanned by mistake. It fails with ErrOccupied when its test has begun, or ErrEmpty.
func (p *Places) Undo(ctx context.Context, by, bay string) (api.Place, error) {
	return p.change(ctx, bay, func(place *Place) error {
		u := place.kept.Unit
		switch {
		case u == nil:
			return fmt.Errorf("%w in %s", ErrEmpty, bay)
		case u.Run != "":
			return fmt.Errorf("%w: the test of %s in %s has begun; stop it", ErrOccupied, u.Serial, bay)
		}
		place.kept.Unit = nil
		p.engine.Journal(store.JournalEntry{By: by, Bay: bay, What: "scan taken back", Detail: u.Serial})
		return nil
	})
}

// Begin begins the test of the unit that was scanned. It fails with ErrNotSetUp, ErrEmpty or ErrOccupied; what stands
// in the way otherwise is the Problem of the unit.
func (p *Places) Begin(ctx context.Context, by, bay string) (api.Place, error) {
	return p.change(ctx, bay, func(place *Place) error {
		if err := place.ready(); err != nil {
			return err
		}
		place.begin(ctx, by, byPerson)
		return nil
	})
}

// ready tells whether the test of the unit in the place may begin. It fails as [Places.Begin] does.
func (p *Place) ready() error {
	switch u := p.kept.Unit; {
	case p.kept.Setup == nil:
		return fmt.Errorf("%w: say first what is tested in %s", ErrNotSetUp, p.bay)
	case u == nil:
		return fmt.Errorf("%w in %s", ErrEmpty, p.bay)
	case u.Run != "":
		return fmt.Errorf("%w: the test of %s in %s has begun", ErrOccupied, u.Serial, p.bay)
	case len(u.Wanted) > 0:
		return fmt.Errorf("%w: scan first which %s is in %s", api.ErrBadRequest, u.Wanted[0], u.Serial)
	}
	return nil
}

// BeginTogether begins the tests at several places side by side. Where one of them is not ready none begins, and it
// fails as Begin does; what stands in the way of one otherwise is the Problem of its unit, and the others run.
func (p *Places) BeginTogether(ctx context.Context, by string, bays []string) ([]api.Place, error) {
	for i, bay := range bays {
		place, err := p.of(bay)
		switch {
		case err != nil:
			return nil, err
		case slices.Contains(bays[:i], bay):
			return nil, fmt.Errorf("%w: %s is named twice", api.ErrBadRequest, bay)
		}
		if err := place.having(ctx, place.ready); err != nil {
			return nil, err
		}
	}
	all := make([]api.Place, len(bays))
	var together errgroup.Group
	for i, bay := range bays {
		together.Go(func() (err error) {
			all[i], err = p.Begin(ctx, by, bay)
			return err
		})
	}
	return all, together.Wait()
}

// asker is on whose word a run begins: a person's is a go on for the bay, anything else waits for one.
type asker int

const (
	byPerson asker = iota
	byItself
)

// begin begins the next procedure of the unit, or notes what stands in the way.
func (p *Place) begin(ctx context.Context, by string, asked asker) {
	u, setup := p.kept.Unit, p.kept.Setup
	b, err := p.places.engine.Bay(p.bay)
	if err != nil {
		u.Problem = err.Error()
		return
	}
	revision, err := archive.RevisionFor(p.places.store, u.ToDo[0], 0, false)
	if err != nil {
		u.Problem = err.Error()
		return
	}
	request := api.StartRun{Bay: p.bay, Procedure: u.ToDo[0], Revision: revision, Serial: u.Serial, Lot: setup.Lot,
		Parts: u.Parts}
	var run api.RunSummary
	if asked == byPerson {
		run, err = b.StartRun(ctx, by, request)
	} else {
		run, err = b.StartInTurn(ctx, by, notInLine, request)
	}
	if err != nil {
		u.Problem = err.Error()
		return
	}
	u.Problem, u.Run, u.ToDo = "", run.ID, u.ToDo[1:]
	p.places.follow(p, run.ID)
}

// notInLine is the place in line of a run that has none.
const notInLine = 0

// follow waits for the end of a run and goes on from there.
func (p *Places) follow(place *Place, run string) {
	p.beside.Go(func() {
		if !p.await(place.bay, run) {
			return // the run is suspended with the service, and followed when it is back
		}
		if _, err := p.change(p.ctx, place.bay, func(place *Place) error { return place.ended(run) }); err != nil {
			p.log.Error("the end of a run at a place", "bay", place.bay, "run", run, "err", err)
		}
	})
}

// endLooks is how often an end is looked for that is not on record yet: a run that resumes, or a disk that is full.
const endLooks = 200 * time.Millisecond

// await waits until a run has ended and is on record as such; false: the service ends before.
func (p *Places) await(bay, run string) bool {
	for {
		if b, err := p.engine.Bay(bay); err == nil {
			b.Await(p.ctx, run)
		}
		if r, err := p.store.Run(run); err == nil && r.State != store.Live || errors.Is(err, store.ErrNotFound) {
			return p.ctx.Err() == nil
		}
		select {
		case <-p.ctx.Done():
			return false
		case <-time.After(endLooks):
		}
	}
}

// ended notes what came of a run, and begins what is next for the unit.
func (p *Place) ended(id string) error {
	u, s := p.kept.Unit, p.places.store
	if u == nil || u.Run != id {
		return nil
	}
	run, err := s.Run(id)
	if err != nil {
		return err
	}
	judged, err := s.Figures(id)
	if err != nil {
		return err
	}
	plate, err := p.places.plateOf(*p.kept.Setup)
	if err != nil {
		return err
	}
	verdict, words := archive.VerdictOf(run, judged, nameplate.ReseatsOf(plate))
	u.Run, u.Runs, u.Worst = "", append(u.Runs, id), worse(u.Worst, verdict)
	if len(u.ToDo) > 0 && (verdict == api.VerdictPass || verdict == api.VerdictMarginal ||
		verdict == api.VerdictFail && p.goesOn(plate)) {
		if p.begin(p.places.ctx, u.By, byItself); u.Run != "" {
			return nil
		}
		verdict, words = api.VerdictAttention, append(words, u.Problem)
		u.Worst = verdict
	}
	if verdict != api.VerdictFail && u.Worst == api.VerdictFail {
		words = append([]string{"It failed before"}, words...)
	}
	p.kept.Last = &api.PlaceResult{Serial: u.Serial, Verdict: u.Worst, Words: words, Runs: u.Runs, At: s.Now()}
	p.kept.Unit = nil
	return nil
}

// goesOn tells whether the rest of a unit's procedures is run after a failure.
func (p *Place) goesOn(plate *nameplate.Nameplate) bool {
	setup := p.kept.Setup
	return setup.GoOn || setup.Card != "" && plate != nil && plate.Card.GoOn
}

// worse is the verdict of two that the operator must see.
func worse(a, b api.UnitVerdict) api.UnitVerdict {
	order := []api.UnitVerdict{"", api.VerdictPass, api.VerdictMarginal, api.VerdictFail, api.VerdictAttention}
	if slices.Index(order, b) > slices.Index(order, a) {
		return b
	}
	return a
}
