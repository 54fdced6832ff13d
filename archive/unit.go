package archive

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/population"
	"usherbench/store"
)

// mostOfUnit is how many runs of a unit are listed.
const mostOfUnit = 1000

// Unit is what is known of a unit. It fails with store.ErrNotFound where nothing is.
func Unit(s *store.Store, serial string) (api.Unit, error) {
	out := api.Unit{Serial: serial, Lots: []string{}, Parts: map[string]string{}, Runs: []api.RunSummary{},
		Across: []api.BaysFigure{}}
	kept, err := s.Unit(serial)
	if err != nil {
		return out, err
	}
	runs, err := s.Runs(store.RunFilter{Serial: serial, Limit: mostOfUnit})
	if err != nil {
		return out, err
	}
	if len(runs) == 0 && kept.At.IsZero() {
		return out, fmt.Errorf("unit %q was never tested: %w", serial, store.ErrNotFound)
	}
	out.Nameplate, out.Quarantine, out.Extra = kept.Nameplate, kept.Quarantine, kept.Extra
	for _, r := range runs {
		out.Runs = append(out.Runs, r.Summary())
		if out.Nameplate == "" && r.Nameplate != "any" {
			out.Nameplate = r.Nameplate
		}
		if r.Lot != "" && !slices.Contains(out.Lots, r.Lot) {
			out.Lots = append(out.Lots, r.Lot)
		}
		if len(out.Parts) == 0 && len(r.Parts) > 0 {
			out.Parts = r.Parts
		}
	}
	if kept.Parts != nil {
		out.Parts = kept.Parts
	}
	if out.Across, err = acrossBays(s, runs); err != nil {
		return out, err
	}
	plate, err := plateOf(s, out.Nameplate)
	if err != nil || plate == nil || len(plate.Card.Procedures()) == 0 {
		return out, err
	}
	out.Card, err = CardOf(s, plate, serial)
	return out, err
}

// plateOf reads a nameplate; nil where there is none of the name, or it cannot be read any longer.
func plateOf(s *store.Store, name string) (*nameplate.Nameplate, error) {
	stored, err := s.Nameplate(name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	plate, err := nameplate.Parse([]byte(stored.Text))
	if err != nil {
		return nil, nil
	}
	return plate, nil
}

// CardOf is the card of a nameplate as far as a unit is with it.
func CardOf(s *store.Store, plate *nameplate.Nameplate, serial string) (*api.Card, error) {
	attempts, err := s.Attempts(serial, "")
	if err != nil {
		return nil, err
	}
	titles, err := s.Procedures()
	if err != nil {
		return nil, err
	}
	card := &api.Card{Nameplate: plate.Name, State: api.CardPassed, Items: []api.CardItem{}, GoOn: plate.Card.GoOn}
	for _, kind := range []struct {
		word       string
		procedures []string
	}{{"routine", plate.Card.Routine}, {"type", plate.Card.Type}, {"optional", plate.Card.Optional}} {
		for _, name := range kind.procedures {
			item := itemOf(name, kind.word, attempts, plate.Retest.First)
			for _, r := range titles {
				if r.Name == name {
					item.Title = r.Title
				}
			}
			card.Items = append(card.Items, item)
			if kind.word == "routine" || item.State != api.CardToDo {
				card.State = worse(card.State, item.State)
			}
		}
	}
	return card, nil
}

// itemOf is how far a unit is with a procedure, by the attempt that decides.
func itemOf(name, kind string, attempts []store.Attempt, first bool) api.CardItem {
	item := api.CardItem{Procedure: name, Title: name, Kind: kind, State: api.CardToDo}
	var counted []store.Attempt
	for _, a := range attempts {
		if a.Procedure == name && population.Counts(outcome.Outcome(a.Outcome)) {
			counted = append(counted, a)
		}
	}
	if item.Attempts = len(counted); item.Attempts > 0 {
		a := counted[population.Deciding(item.Attempts, first)]
		item.State, item.Run, item.At = api.CardState(a.Outcome), a.ID, a.EndedAt
	}
	return item
}

// worse is the one of two states that counts for the whole card.
func worse(a, b api.CardState) api.CardState {
	order := []api.CardState{api.CardPassed, api.CardMarginal, api.CardToDo, api.CardFailed}
	if slices.Index(order, b) > slices.Index(order, a) {
		return b
	}
	return a
}

// ChangeUnit changes what is kept of a unit, for a person, and puts that in the journal.
func ChangeUnit(s *store.Store, by, serial string, change api.UnitChange) error {
	if err := CheckSerial(serial); err != nil {
		return err
	}
	if change.Extra != nil && (*change.Extra < 0 || *change.Extra > 1000) {
		return fmt.Errorf("%w: extra is %d; say how many attempts there may be beyond those of the nameplate, up to 1000",
			api.ErrBadRequest, *change.Extra)
	}
	var did []string
	_, err := s.ChangeUnit(serial, func(u *store.Unit) {
		u.By, u.At = by, s.Now()
		did = nil
		if change.Parts != nil {
			u.Parts = *change.Parts
			did = append(did, "parts "+partWords(u.Parts))
		}
		if q := change.Quarantine; q != nil {
			switch {
			case *q != "":
				did = append(did, "quarantine: "+*q)
			case u.Quarantine != "":
				did = append(did, "released from quarantine ("+u.Quarantine+")")
			}
			u.Quarantine = *q
		}
		if change.Extra != nil {
			u.Extra = *change.Extra
			did = append(did, fmt.Sprintf("%d attempts beyond the nameplate's allowed", u.Extra))
		}
	})
	if err != nil {
		return err
	}
	detail := serial + ": " + strings.Join(did, ", ")
	if change.Why != "" {
		detail += "; " + change.Why
	}
	return s.Journal(store.JournalEntry{By: by, What: "unit", Detail: detail})
}

func partWords(parts map[string]string) string {
	var words []string
	for name, text := range parts {
		words = append(words, name+" "+text)
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}
