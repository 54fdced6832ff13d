package procedure

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/shape"
)

// readProtect reads what the hardware protections are set to: {source: {volts above: 64 V}}.
func (r *Reader) readProtect(n document.Node) {
	for _, e := range n.Entries() {
		seat, ok := r.Seat(e.Key)
		if !ok || !seat.Kind.HasOutput() {
			e.At.Fail("there is no seat %q to protect; %s", e.Key, document.Suggest(e.Key, r.SeatNames()))
			continue
		}
		levels := map[string]float64{}
		for _, p := range e.Value.Entries() {
			kind, ok := quantity.KindOf(seats.ProtectedQuantity(p.Key))
			if !ok {
				p.At.Fail("%q is no protection; %s", p.Key, document.Suggest(p.Key, seats.Protections()))
				continue
			}
			levels[p.Key] = r.Value(p.Value, kind.Unit.Dim)
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
		if a, ok := s.Action.(Moving); ok {
			a.Extremes(func(column string, low, high float64) {
				add(column, low)
				add(column, high)
			})
		}
	}
	return all
}

// conditions compiles every condition of the program; they are sound, as Parse has checked.
func (p *Program) conditions() (guards, waits []*condition.Condition) {
	compile := func(text string, locals map[string]quantity.Quantity) *condition.Condition {
		c, err := condition.Compile(text, p.ScopeOf(locals))
		if err != nil {
			return &condition.Condition{}
		}
		return c
	}
	for _, g := range p.Guards {
		guards = append(guards, compile(g.When, g.Locals))
	}
	for _, s := range p.Stages {
		for _, text := range s.conditions() {
			waits = append(waits, compile(text, s.Locals))
		}
	}
	return guards, waits
}

// conditions lists the texts of all conditions of a stage.
func (s Stage) conditions() (texts []string) {
	add := func(text string) {
		if text != "" {
			texts = append(texts, text)
		}
	}
	add(s.Until)
	if a, ok := s.Action.(Waiting); ok {
		for _, text := range a.Conditions() {
			add(text)
		}
	}
	return texts
}

// Lowest is the smallest value of a column to which the program waits for it to fall: the cutoff of a
// discharge. ok is false if no condition says so.
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
		if a, ok := s.Action.(Reading); ok {
			for _, column := range a.Reads() {
				add(column)
			}
		}
	}
	for _, d := range p.Derived {
		if e, err := condition.CompileExpression(d.Is, p.Scope); err == nil {
			for _, i := range e.Columns() {
				add(p.Columns[i])
			}
		}
	}
	for _, f := range p.Figures {
		add(f.Quantity)
		for _, column := range f.Of {
			add(column)
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
		most += float64(s.Tries) * s.Within
	}
	return least, most
}

// Drawn actions can be written as a table with absolute times.
type Drawn interface{ Table() *shape.Table }

// Table draws the shapes of a stage that plays as a table with absolute times.
func (p *Program) Table(stage string) (*shape.Table, error) {
	var names []string
	for _, s := range p.Stages {
		drawn, ok := s.Action.(Drawn)
		if !ok {
			continue
		}
		if names = append(names, s.Name); s.Name == stage || stage == "" {
			return drawn.Table(), nil
		}
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("no stage of the procedure plays a shape")
	}
	return nil, fmt.Errorf("no stage %q plays a shape; %s", stage, document.Suggest(stage, names))
}

// Fastest is the shortest interval in which the program asks for frames, s. Where only changes are kept, it is
// the time after which a frame is kept all the same.
func (p *Program) Fastest() float64 {
	fastest := p.Record.interval()
	for _, s := range p.Stages {
		fastest = math.Min(fastest, s.Record.interval())
	}
	return fastest
}

// Slowest is the longest interval that a rule of the program allows between frames, s.
func (p *Program) Slowest() float64 {
	slowest := 0.0
	for _, r := range append([]Record{p.Record}, recordsOf(p.Stages)...) {
		slowest = math.Max(slowest, math.Max(r.AtLeast, r.Every))
	}
	return slowest
}

func recordsOf(stages []Stage) (rules []Record) {
	for _, s := range stages {
		rules = append(rules, s.Record)
	}
	return rules
}

func (r Record) interval() float64 {
	if r.Every > 0 {
		return r.Every
	}
	return r.AtLeast
}
