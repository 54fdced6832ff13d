package dialect

import (
	"maps"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// A load with a thermometer inside fills two seats with one channel: seats: [load, thermo]. As a seat that only reads
// it is the same dialect without what switches and sets, and with those readings that the seat has.

// besides makes the variants of seats that only read, of a dialect whose other seats have an output.
func (r *reader) besides() {
	switched := slices.ContainsFunc(r.d.Seats, func(name string) bool {
		kind, _ := seats.KindOf(name)
		return kind.HasOutput()
	})
	for _, name := range r.d.Seats {
		kind, known := seats.KindOf(name)
		if v := r.d.For(name); known && switched && !kind.HasOutput() && v.Words[seats.Output] != nil {
			r.d.As[name] = v.beside(kind)
		}
	}
}

func (d *Dialect) beside(kind seats.Kind) *Dialect {
	v := d.clone()
	maps.DeleteFunc(v.Words, func(name string, _ map[string]Setter) bool {
		_, choice := kind.Choice(name)
		return !choice
	})
	maps.DeleteFunc(v.Built, func(name, _ string) bool {
		_, choice := kind.Choice(name)
		return !choice
	})
	maps.DeleteFunc(v.Set, func(q string, _ Setter) bool { return !slices.Contains(kind.Sets, q) })
	v.Protect, v.ClearTrip, v.Tripped, v.Confirm, v.Interlock = map[string]Setter{}, Setter{}, Query{}, Query{}, Query{}
	v.Watchdog, v.Program, v.MakeSafe = Watchdog{}, Program{}, nil
	v.Read = nil
	for _, q := range d.Read {
		if q = q.only(kind); slices.ContainsFunc(q.Gives, func(g Reading) bool { return g.Quantity != "" }) {
			v.Read = append(v.Read, q)
		}
	}
	return v
}

// only skips the readings that a kind of seat does not have.
func (q Query) only(kind seats.Kind) Query {
	q.Gives = slices.Clone(q.Gives)
	for i, g := range q.Gives {
		counted, _ := quantity.KindOf(g.Quantity)
		if g.Quantity != "" && !kind.CanRead(g.Quantity) && !counted.Counted {
			q.Gives[i] = Reading{Bit: -1, Register: g.Register}
		}
	}
	// Of registers, what is not read is not asked for.
	if slices.ContainsFunc(q.Gives, func(g Reading) bool { return g.Register != nil }) {
		q.Gives = slices.DeleteFunc(q.Gives, func(g Reading) bool { return g.Quantity == "" })
	}
	return q
}
