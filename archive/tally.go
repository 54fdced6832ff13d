package archive

import (
	"time"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/population"
	"usherbench/store"
)

// Counted counts the units of a lot, or without one those of a bay since an instant: each by the attempt that decides,
// one by each procedure, of which the worst counts. It reads all of them once, and then only the unit that changed.
type Counted struct {
	store *store.Store
	of    store.ResultsOf
	// first tells of each procedure whether the first attempt decides, as the nameplate of its newest run says.
	first map[string]bool
	units map[string]api.CardState // by serial number
	tally api.Tally                // without the quantity
}

// Count counts the units of a lot, or without one those of a bay since an instant.
func Count(s *store.Store, lot, bay string, since time.Time) (*Counted, error) {
	c := &Counted{store: s, of: store.ResultsOf{Lot: lot, Bay: bay, Since: since}}
	return c, c.all()
}

// all counts anew.
func (c *Counted) all() error {
	results, err := c.store.Results(c.of)
	if err != nil {
		return err
	}
	c.first, c.units, c.tally = map[string]bool{}, map[string]api.CardState{}, api.Tally{}
	newest := map[string]string{}
	for _, r := range results {
		newest[r.Procedure] = r.ID
	}
	for name, run := range newest {
		if c.first[name], err = firstDecides(c.store, run); err != nil {
			return err
		}
	}
	bySerial := map[string][]store.Result{}
	for _, r := range results {
		bySerial[r.Serial] = append(bySerial[r.Serial], r)
	}
	for serial, own := range bySerial {
		c.put(serial, own)
	}
	return nil
}

// Concerns tells whether a run is one of those that are counted.
func (c *Counted) Concerns(r store.Run) bool {
	if c.of.Lot != "" {
		return r.Lot == c.of.Lot
	}
	return r.Bay == c.of.Bay && !r.StartedAt.Before(c.of.Since)
}

// Again counts a unit anew of which a run has ended, or was judged anew.
func (c *Counted) Again(run store.Run) error {
	own := c.of
	own.Serial = run.Serial
	results, err := c.store.Results(own)
	if err != nil {
		return err
	}
	first := firstBy(run)
	if before, known := c.first[run.Procedure]; known && before != first {
		return c.all()
	}
	c.first[run.Procedure] = first
	c.put(run.Serial, results)
	return nil
}

// put counts a unit by its results, in place of what it counted before.
func (c *Counted) put(serial string, results []store.Result) {
	if before, known := c.units[serial]; known {
		c.add(before, -1)
		delete(c.units, serial)
	}
	byProcedure := map[string][]store.Result{}
	for _, r := range results {
		if population.Counts(outcome.Outcome(r.Outcome)) {
			byProcedure[r.Procedure] = append(byProcedure[r.Procedure], r)
		}
	}
	if len(byProcedure) == 0 {
		return
	}
	state := api.CardPassed
	for name, attempts := range byProcedure {
		state = worse(state, api.CardState(attempts[population.Deciding(len(attempts), c.first[name])].Outcome))
	}
	c.units[serial] = state
	c.add(state, 1)
}

func (c *Counted) add(state api.CardState, n int) {
	c.tally.Units += n
	switch outcome.Outcome(state) {
	case outcome.Fail:
		c.tally.Failed += n
	case outcome.Marginal:
		c.tally.Marginal += n
	default:
		c.tally.Passed += n
	}
}

// Tally is how many units there are of each kind, and how many the lot has.
func (c *Counted) Tally() (api.Tally, error) {
	t := c.tally
	if c.of.Lot == "" {
		return t, nil
	}
	order, err := c.store.LotOrder(c.of.Lot)
	t.Quantity = order.Quantity
	return t, err
}
