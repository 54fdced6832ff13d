package record

import (
	"math"
	"slices"

	"usherbench/core/contract"
	"usherbench/core/seats"
)

// ContractColumn is where the position of the contract in force is read, and of the one that was asked for is set.
const ContractColumn = seats.Contract + "." + seats.Position

// Offer is what a charger under test offered last, by position; empty places are 0.
func (rec *Record) Offer() (offer contract.Offer, err error) {
	from, to := rec.Ends()
	for k := range contract.MostPlaces {
		column := seats.OfferColumn(seats.Contract, k+1)
		if rec.Trace == nil || !rec.Has(column) {
			break
		}
		s, err := rec.Trace(column, from, to)
		if err != nil {
			return nil, CodeOf(err, column)
		}
		raw := 0.0
		for _, x := range s.X {
			if !math.IsNaN(x) && x != 0 {
				raw = x
			}
		}
		offer = append(offer, uint32(raw))
	}
	if offer.String() == "" {
		return nil, Because(NoData, "no source object was received")
	}
	return offer, nil
}

// Contracts are the positions in which the charger offered something, and those in which something was measured.
func (rec *Record) Contracts() (positions []int) {
	offer, _ := rec.Offer()
	for i, raw := range offer {
		if raw != 0 {
			positions = append(positions, i+1)
		}
	}
	for _, p := range rec.Points {
		if x, set := p.Place[ContractColumn]; set && !slices.Contains(positions, int(x)) {
			positions = append(positions, int(x))
		}
	}
	slices.Sort(positions)
	return positions
}
