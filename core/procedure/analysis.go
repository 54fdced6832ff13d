package procedure

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/shape"
)

// What a program tells of itself before it runs, for preflight, rehearsal and the editor. Actions are asked by their
// interfaces; no kind of stage is known here.

// Extent is the smallest and largest value that something is set to over all paths of a program.
type Extent struct{ Min, Max float64 }

// with is the extent that holds a value too.
func (e Extent) with(x float64) Extent { return Extent{math.Min(e.Min, x), math.Max(e.Max, x)} }

// Extremes gives the extent of every setpoint that can occur, by column.
func (p *Program) Extremes() map[string]Extent {
	all := map[string]Extent{}
	for _, s := range p.Stages {
		moving, ok := s.Action.(Moving)
		if !ok {
			continue
		}
		moving.Extremes(func(column string, low, high float64) {
			before, known := all[column]
			if !known {
				before = Extent{low, low}
			}
			all[column] = before.with(low).with(high)
		})
	}
	return all
}

// Lowest is the smallest value of a column to which the program waits for it to fall: the cutoff of a
// discharge. ok is false if no condition says so.
func (p *Program) Lowest(column string) (value float64, ok bool) {
	i := p.Columns.Index(column)
	for _, c := range p.waits() {
		for _, t := range c.Thresholds() {
			falls := t.Column == i && (t.Op == "<" || t.Op == "<=")
			if falls && (!ok || t.Value < value) {
				value, ok = t.Value, true
			}
		}
	}
	return value, ok
}

// Reads lists the columns that conditions, actions, derived columns, figures and curves of the program read.
func (p *Program) Reads() []string {
	var named []string
	byIndex := func(columns []int) {
		for _, i := range columns {
			named = append(named, p.Columns[i])
		}
	}
	for _, c := range slices.Concat(p.guards(), p.waits()) {
		byIndex(c.Columns())
	}
	for _, d := range p.Derived {
		if e, err := condition.CompileExpression(d.Is, p.Scope); err == nil {
			byIndex(e.Columns())
		}
	}
	for _, s := range p.Stages {
		if a, ok := s.Action.(Reading); ok {
			named = append(named, a.Reads()...)
		}
	}
	for _, f := range p.Figures {
		named = append(append(named, f.Quantity), f.Of...)
	}
	for _, c := range p.Curves {
		named = append(named, c.Of, c.LessColumn(), c.By, c.Per)
	}
	// What is no column is computed from some: the efficiency of a curve.
	named = slices.DeleteFunc(named, func(name string) bool { return p.Columns.Index(name) < 0 })
	slices.Sort(named)
	return slices.Compact(named)
}

// guards are the compiled conditions that are watched.
func (p *Program) guards() (all []*condition.Condition) {
	for _, g := range p.Guards {
		all = p.compiled(all, g.When, g.Locals)
	}
	return all
}

// waits are the compiled conditions that stages wait for.
func (p *Program) waits() (all []*condition.Condition) {
	for _, s := range p.Stages {
		all = p.compiled(all, s.Until, s.Locals)
		if a, ok := s.Action.(Waiting); ok {
			for _, text := range a.Conditions() {
				all = p.compiled(all, text, s.Locals)
			}
		}
	}
	return all
}

// compiled adds a condition, if there is one. A text that is not sound is none: it has been refused when it was read.
func (p *Program) compiled(all []*condition.Condition, text string,
	locals map[string]quantity.Quantity) []*condition.Condition {
	c, err := condition.Compile(text, p.ScopeOf(locals))
	if text == "" || err != nil {
		return all
	}
	return append(all, c)
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

// Table draws the shapes of a stage that plays as a table with absolute times; without a name those of the first.
func (p *Program) Table(stage string) (*shape.Table, error) {
	var names []string
	for _, s := range p.Stages {
		drawn, ok := s.Action.(Drawn)
		switch {
		case !ok:
		case stage == "" || s.Name == stage:
			return drawn.Table(), nil
		default:
			names = append(names, s.Name)
		}
	}
	if len(names) == 0 {
		return nil, errors.New("no stage of the procedure plays a shape")
	}
	return nil, fmt.Errorf("no stage %q plays a shape; %s", stage, document.Suggest(stage, names))
}

// Fastest is the shortest interval in which the program asks for frames, s. Where only changes are kept, it is
// the time after which a frame is kept all the same.
func (p *Program) Fastest() float64 {
	fastest := math.Inf(1)
	for _, r := range p.records() {
		fastest = math.Min(fastest, r.interval())
	}
	return fastest
}

// Interval is the longest between frames that the record rule of a stage allows, s; of several of that name and kind
// the longest.
func (p *Program) Interval(name, kind string) float64 {
	longest := max(p.Record.AtLeast, p.Record.Every)
	found := false
	for _, s := range p.Stages {
		if s.Name == name && (kind == "" || s.Kind() == kind) {
			own := max(s.Record.AtLeast, s.Record.Every)
			if !found || own > longest {
				longest = own
			}
			found = true
		}
	}
	return longest
}

// records are the rules of the program and of its stages for the frames that are kept.
func (p *Program) records() []Record {
	rules := []Record{p.Record}
	for _, s := range p.Stages {
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

// Levels are the volts whose crossing a figure asks for, and the cutoff of the nameplate, V.
func (p *Program) Levels() (levels []float64) {
	add := func(x float64) {
		if !slices.Contains(levels, x) {
			levels = append(levels, x)
		}
	}
	for _, f := range p.Figures {
		for _, name := range []string{"level", "cutoff"} {
			if x, given := f.Args[name]; given && !math.IsNaN(x) {
				add(x)
			}
		}
	}
	if q, stated := p.Constants["nameplate.cutoff"]; stated {
		add(q.Value)
	}
	return levels
}
