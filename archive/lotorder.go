package archive

import (
	"fmt"
	"slices"
	"unicode/utf8"

	"usherbench/api"
	"usherbench/store"
)

// What may be said of a lot.
const (
	mostOfLot       = 10_000_000
	longestLotNote  = 2000
	longestNameOfIt = 100
)

// OrderLot keeps what a person says of a lot, and puts that in the journal. It fails with api.ErrBadRequest.
func OrderLot(s *store.Store, by, name string, o api.LotOrder) (api.LotOrder, error) {
	switch {
	case name == "" || utf8.RuneCountInString(name) > longestNameOfIt:
		return o, fmt.Errorf("%w: the name of a lot has 1 to %d characters", api.ErrBadRequest, longestNameOfIt)
	case o.Quantity < 0 || o.Quantity > mostOfLot:
		return o, fmt.Errorf("%w: quantity is %d; a lot has 0 (not known) to %d units", api.ErrBadRequest, o.Quantity,
			mostOfLot)
	case utf8.RuneCountInString(o.Note) > longestLotNote:
		return o, fmt.Errorf("%w: the note of a lot has %d characters at most", api.ErrBadRequest, longestLotNote)
	}
	if o.Nameplate != "" {
		if _, err := s.Nameplate(o.Nameplate); err != nil {
			return o, err
		}
	}
	err := s.PutLotOrder(store.LotOrder{Name: name, Nameplate: o.Nameplate, Quantity: o.Quantity, Closed: o.Closed,
		Note: o.Note, By: by, At: s.Now()})
	if err != nil {
		return o, err
	}
	state := "open"
	if o.Closed {
		state = "closed"
	}
	return o, s.Journal(store.JournalEntry{By: by, What: "lot",
		Detail: fmt.Sprintf("%s: %d units, %s; %s", name, o.Quantity, state, o.Note)})
}

// Lots lists the lots: those that have no run yet first, then the one with the newest run.
func Lots(s *store.Store) ([]api.LotSummary, error) {
	ran, err := s.Lots()
	if err != nil {
		return nil, err
	}
	orders, err := s.LotOrders()
	if err != nil {
		return nil, err
	}
	all := []api.LotSummary{}
	for _, o := range orders {
		at := slices.IndexFunc(ran, func(l api.LotSummary) bool { return l.Name == o.Name })
		if at < 0 {
			all = append(all, api.LotSummary{Name: o.Name, LotOrder: orderOf(o)})
			continue
		}
		ran[at].LotOrder = orderOf(o)
	}
	return append(all, ran...), nil
}

// orderOf is what is kept of a lot.
func orderOf(l store.LotOrder) api.LotOrder {
	return api.LotOrder{Nameplate: l.Nameplate, Quantity: l.Quantity, Closed: l.Closed, Note: l.Note}
}
