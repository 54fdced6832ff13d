package procedure

import (
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// readProtect reads what the hardware protections are set to: {source: {volts above: 64 V}}.
func (r *reader) readProtect(n document.Node) {
	for _, e := range n.Entries() {
		seat, ok := r.seat(e.Key)
		if !ok || !seat.Kind.Switches() {
			e.At.Fail("there is no seat %q to protect; %s", e.Key, document.Suggest(e.Key, r.seatNames()))
			continue
		}
		levels := map[string]float64{}
		for _, p := range e.Value.Entries() {
			kind, ok := quantity.KindOf(seats.ProtectedQuantity(p.Key))
			if !ok {
				p.At.Fail("%q is no protection; %s", p.Key, document.Suggest(p.Key, seats.Protections()))
				continue
			}
			levels[p.Key] = r.value(p.Value, kind.Unit.Dim)
		}
		r.p.Protect[e.Key] = levels
	}
}

// Extent is the smallest and largest value that something is set to over all paths of a program.
type Extent struct{ Min, Max float64 }

// Extremes gives the extent of every setpoint that can occur, by column.
func (p *Program) Extremes() map[string]Extent {
	all := map[string]Extent{}
	add := func(column string, x float64) {
		e, ok := all[column]
		if !ok {
			e = Extent{x, x}
		}
		all[column] = Extent{math.Min(e.Min, x), math.Max(e.Max, x)}
	}
	for _, s := range p.Stages {
		if s.Set != nil {
			for _, x := range s.Set.Settings {
				if x.Word == "" {
					add(x.Column(), x.Value)
				}
			}
		}
		if s.Grid != nil {
			for _, a := range s.Grid.Axes {
				for _, x := range a.Values {
					add(a.Column(), x)
				}
			}
		}
	}
	return all
}

// conditions compiles every condition of the program; they are sound, as Parse has checked.
func (p *Program) conditions() (guards, waits []*condition.Condition) {
	compile := func(text string) *condition.Condition {
		c, err := condition.Compile(text, p.Scope)
		if err != nil {
			return &condition.Condition{}
		}
		return c
	}
	for _, g := range p.Guards {
		guards = append(guards, compile(g.When))
	}
	for _, s := range p.Stages {
		if s.Until != "" {
			waits = append(waits, compile(s.Until))
		}
		if s.Grid != nil && s.Grid.SettleUntil != "" {
			waits = append(waits, compile(s.Grid.SettleUntil))
		}
	}
	return guards, waits
}

// Lowest is the smallest value of a column to which the program waits for it to fall: the cutoff of a discharge. ok is false if no
// condition says so.
func (p *Program) Lowest(column string) (value float64, ok bool) {
	i := p.Columns.Index(column)
	_, waits := p.conditions()
	for _, c := range waits {
		for _, t := range c.Thresholds() {
			if t.Column == i && (t.Op == "<" || t.Op == "<=") && (!ok || t.Value < value) {
				value, ok = t.Value, true
			}
		}
	}
	return value, ok
}

// Reads lists the columns that conditions, figures and curves of the program read.
func (p *Program) Reads() []string {
	var names []string
	add := func(column string) {
		if column != "" && p.Columns.Index(column) >= 0 && !slices.Contains(names, column) {
			names = append(names, column)
		}
	}
	guards, waits := p.conditions()
	for _, c := range slices.Concat(guards, waits) {
		for _, i := range c.Columns() {
			add(p.Columns[i])
		}
	}
	for _, s := range p.Stages {
		if s.Hold != nil && s.Hold.Stable != nil {
			add(s.Hold.Stable.Column)
		}
	}
	for _, c := range p.Curves {
		add(c.Of)
		add(c.By)
		add(c.Per)
	}
	slices.Sort(names)
	return names
}

// RunsFor says about how long the program takes, s, with every wait for a condition taken at its bound.
func (p *Program) RunsFor() (least, most float64) {
	least = p.Duration()
	most = least
	for _, s := range p.Stages {
		if s.Until != "" || s.Hold != nil && s.Hold.Stable != nil {
			most += s.Within
		}
	}
	return least, most
}
