package procedure

import (
	"fmt"
	"slices"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/shape"
)

// Asking is what a unit is asked for from the beginning of a stage on: a column follows a shape, and stands at its end
// until something else is asked for.
type Asking struct {
	Column string
	Shape  *shape.Shape
}

// readAsked reads the columns that say what a unit is asked for, beside what is measured: [unit.percent].
func (r *Reader) readAsked(n document.Node) {
	for _, item := range n.Items() {
		name := item.Text()
		if !slices.Contains(r.p.Asked, name) && r.newColumn(item, name, "a column of what is asked") {
			r.addAsked(name)
		}
	}
}

// addAsked adds a column of what is asked, unless there is one: a procedure that is used may ask in those of the whole.
func (r *Reader) addAsked(name string) {
	if !slices.Contains(r.p.Asked, name) {
		r.p.Asked = append(r.p.Asked, name)
		r.p.Columns = append(r.p.Columns, name)
	}
}

// newColumn tells whether a column of that name may be added, and says why not.
func (r *Reader) newColumn(n document.Node, name, what string) bool {
	switch _, ok := quantity.KindOfColumn(name); {
	case !ok:
		n.Fail("%s is named like a seat's: shunt.amps, unit.watts; the last word says what it is", what)
		return false
	case r.hasColumn(name):
		n.Fail("%s is read or counted already; choose another name", name)
		return false
	}
	return true
}

// readAsks reads what the unit is asked for in a stage: {unit.percent: 30 %}, or a shape in place of a value.
func (r *Reader) readAsks(n document.Node) (all []Asking) {
	for _, e := range n.Entries() {
		if !slices.Contains(r.p.Asked, e.Key) {
			e.At.Fail("%q is no column of what is asked; %s", e.Key, document.Suggest(e.Key, r.p.Asked))
			continue
		}
		kind, _ := quantity.KindOfColumn(e.Key)
		a := Asking{Column: e.Key}
		if e.Value.IsList() {
			a.Shape = r.Shape(e.Value, "", "", kind.Unit.Dim)
		} else {
			x := r.Value(e.Value, kind.Unit.Dim)
			a.Shape, _ = shape.New([]shape.Segment{{Kind: shape.Hold, For: 1, From: x, To: x}})
		}
		if a.Shape != nil {
			all = append(all, a)
		}
	}
	return all
}

// CheckAsked reads a value that somebody asks the unit for, SI.
func (p *Program) CheckAsked(column, value string) (float64, error) {
	if !slices.Contains(p.Asked, column) {
		return 0, fmt.Errorf("%q is no column of what is asked; %s", column, document.Suggest(column, p.Asked))
	}
	q, err := quantity.Parse(value)
	if err != nil {
		return 0, err
	}
	kind, _ := quantity.KindOfColumn(column)
	if q.Dim != kind.Unit.Dim {
		return 0, fmt.Errorf("%q is %s, but %s takes %s", value, q.Dim, column, kind.Unit.Dim)
	}
	return q.Value, nil
}

// Computed are the columns that nothing reads: what is derived from others, and what the unit is asked for.
func (p *Program) Computed() (columns []string) {
	for _, d := range p.Derived {
		columns = append(columns, d.Column)
	}
	return append(columns, p.Asked...)
}
