package procedure

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"usherbench/core/contract"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// Contracts is the word for what a unit offers: a loop over it, and the value with which a program is resolved for what
// a certain unit does.
const Contracts = "contracts"

// Offered begins a loop over what the unit itself offers. The loop is written out for an offer, so that every setpoint
// of it is known and checked: for that of the nameplate, and anew as soon as the unit is seen to offer something else.
type Offered struct {
	Seat string
	// For is the offer for which the loop is written out.
	For contract.Offer
}

// offerWithin is how long a unit has to make its offer where nothing is said, s.
const offerWithin = 10.0

// Kind implements Action.
func (*Offered) Kind() string { return "offered" }

// Reads implements Reading: the columns of the first place stand for all.
func (a *Offered) Reads() []string { return []string{seats.OfferColumn(a.Seat, 1)} }

// Ends implements Ending.
func (*Offered) Ends() Ends { return Ends{Waits: true} }

// Words implements Worded.
func (a *Offered) Words() string { return "what the unit offers" }

// offerFor is the offer for which the program is resolved: the one that is given, else the nameplate's.
func (r *Reader) offerFor(n document.Node) (contract.Offer, bool) {
	if given, ok := r.values[Contracts]; ok {
		offer, err := contract.ReadOffer(given)
		if err != nil {
			n.Fail("what the unit offers: %s", err)
		}
		return offer, err == nil
	}
	if r.plate == nil || r.plate.Contracts == nil {
		n.Fail("a loop over contracts needs a nameplate that states what its units offer (contracts)")
		return nil, false
	}
	return r.plate.Contracts, true
}

// checkOffer finds an offer that is given for a procedure that does nothing with it.
func (r *Reader) checkOffer(root document.Node) {
	_, given := r.values[Contracts]
	if given && !slices.ContainsFunc(r.p.Stages, func(s Stage) bool {
		_, loops := s.Action.(*Offered)
		return loops
	}) {
		root.Fail("contracts are given, but the procedure has no loop over them")
	}
}

// ContractSeat is the seat at which contracts are made.
func (r *Reader) ContractSeat(n document.Node) (seat Seat, ok bool) {
	i := slices.IndexFunc(r.p.Seats, func(s Seat) bool { return slices.Contains(s.Kind.Sets, seats.Position) })
	if i < 0 {
		n.Fail("contracts are made at a seat that asks for them; add contract to needs")
		return seat, false
	}
	for _, agreed := range []string{"volts", "amps"} {
		r.hasColumn(r.p.Seats[i].Name + "." + agreed + quantity.Part{Agreed: true}.String())
	}
	for k := range contract.MostPlaces {
		r.hasColumn(seats.OfferColumn(r.p.Seats[i].Name, k+1))
	}
	return r.p.Seats[i], true
}

// repeatOverContracts writes the stages once for each place in which the unit offers something.
func (r *Reader) repeatOverContracts(c *Common, n document.Node) {
	offer, known := r.offerFor(n)
	seat, seated := r.ContractSeat(n)
	if !known || !seated {
		return
	}
	c.Stage.Action, c.Stage.Within = &Offered{Seat: seat.Name, For: offer}, cmp.Or(c.Stage.Within, offerWithin)
	r.p.Stages = append(r.p.Stages, c.Stage)
	outer, path, constants, guards := r.locals, r.path, maps.Clone(r.p.Constants), len(r.p.Guards)
	defer func() { r.locals, r.p.Constants, r.path = outer, constants, path }()
	for i, o := range offer.Objects() {
		amps, offers := o.HighestAmps()
		if !offers {
			continue
		}
		r.locals, r.p.Constants = maps.Clone(outer), maps.Clone(constants)
		if r.locals == nil {
			r.locals = map[string]quantity.Quantity{}
		}
		for name, q := range map[string]quantity.Quantity{
			"offered.position": {Value: float64(i + 1)},
			"offered.volts":    {Value: o.Highest, Dim: quantity.Voltage},
			"offered.lowest":   {Value: o.Lowest, Dim: quantity.Voltage},
			"offered.amps":     {Value: amps, Dim: quantity.Current},
		} {
			r.locals[name], r.p.Constants[name] = q, q
		}
		r.path = append(slices.Clone(path), fmt.Sprintf("%s %d, %s", c.Name, i+1, o.Words()))
		r.readStages(c.stages)
		if len(r.p.Stages) > mostStages {
			return
		}
	}
	if len(r.p.Guards) > guards {
		n.Fail("guards inside a loop over contracts would change with what the unit offers; write them for the whole run")
	}
}
