package procedure

import (
	"errors"
	"maps"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
)

func (r *Reader) readParameters(root, n document.Node) {
	r.given = map[string]bool{}
	for _, e := range n.Entries() {
		if !parameterName.MatchString(e.Key) || e.Key == "elapsed" {
			e.At.Fail("%q is not a name of a parameter; use small letters, digits and underscores", e.Key)
			continue
		}
		if e.Key == Contracts {
			e.At.Fail("%q are what the unit offers, so no parameter can be called that", e.Key)
			continue
		}
		r.given[e.Key] = true
		var value, from, low, high document.Node
		p := Parameter{Name: e.Key, Min: math.Inf(-1), Max: math.Inf(1)}
		e.Value.Fields(map[string]func(document.Node){
			"value": func(n document.Node) { value = n },
			"from":  func(n document.Node) { from = n },
			"about": func(n document.Node) { p.About = n.Text() },
			"adjustable": func(n document.Node) {
				p.Adjustable = n.Word("yes", "no", "true", "false") == "yes" || n.Text() == "true"
			},
			"min": func(n document.Node) { low = n },
			"max": func(n document.Node) { high = n },
		})
		q, ok := r.parameter(e, value, from)
		if !ok {
			continue
		}
		p.Value = q
		r.p.Constants[e.Key] = q
		if low.Present() {
			p.Min = r.Value(low, q.Dim)
		}
		if high.Present() {
			p.Max = r.Value(high, q.Dim)
		}
		if q.Value < p.Min || q.Value > p.Max {
			e.At.Fail("parameter %s is %s, outside its bounds %s", p.Name, q, boundsWords(p, q.Dim))
		}
		r.p.Parameters = append(r.p.Parameters, p)
	}
	for _, name := range slices.Sorted(maps.Keys(r.values)) {
		if !r.given[name] && name != Contracts {
			root.Fail("there is no parameter %q to give a value to; %s", name,
				document.Suggest(name, slices.Collect(maps.Keys(r.given))))
		}
	}
}

func boundsWords(p Parameter, dim quantity.Dimension) string {
	return windowWords(nameplate.Window{Min: p.Min, Max: p.Max},
		func(x float64) string { return quantity.Quantity{Value: x, Dim: dim}.String() })
}

// parameter is the value given for the run, else the rating it is taken from, else its value in the document.
func (r *Reader) parameter(e document.Entry, value, from document.Node) (quantity.Quantity, bool) {
	var q quantity.Quantity
	var err error
	switch {
	case !value.Present() && !from.Present():
		e.Value.Fail("parameter %q needs a value, or from and a rating of the nameplate", e.Key)
		return q, false
	case value.Present():
		if q, err = condition.Value(value.Text(), r.p.constant); err != nil {
			value.FailAt(columnOf(err), "%s", err)
			return q, false
		}
	}
	if from.Present() {
		ref, err := r.p.constant(from.Text())
		switch {
		case err == nil && value.Present() && ref.Constant.Dim != q.Dim:
			from.Fail("%s is %s, but the value is %s", from.Text(), ref.Constant.Dim, q.Dim)
			return q, false
		case err == nil:
			q = *ref.Constant
		case !value.Present():
			from.Fail("%s", err)
			return q, false
		}
	}
	text, ok := r.values[e.Key]
	if !ok {
		return q, true
	}
	given, err := quantity.Parse(text)
	if err != nil {
		e.At.Fail("the value given for parameter %s: %s", e.Key, err)
		return q, false
	}
	if capacity, err := r.plate.Rating("rated_capacity", quantity.Charge); err == nil {
		given = asAsked(given, q.Dim, capacity)
	}
	if given = given.As(q.Dim); given.Dim != q.Dim {
		e.At.Fail("the value given for parameter %s, %q, is %s, but it takes %s", e.Key, text, given.Dim, q.Dim)
		return q, false
	}
	return given, true
}

// asAsked turns a C-rate into a current, or a current into a C-rate, where the other is asked for.
func asAsked(q quantity.Quantity, dim quantity.Dimension, capacity float64) quantity.Quantity {
	switch {
	case capacity <= 0:
	case q.Dim == quantity.ChargeRate && dim == quantity.Current:
		return quantity.Quantity{Value: q.Value * capacity / 3600, Dim: dim}
	case q.Dim == quantity.Current && dim == quantity.ChargeRate:
		return quantity.Quantity{Value: q.Value / (capacity / 3600), Dim: dim}
	}
	return q
}

// Value reads a quantity, a parameter, a rating or an expression of them, of the given dimension.
func (r *Reader) Value(n document.Node, dim quantity.Dimension) float64 {
	if text := n.Text(); text != "" {
		x, _ := r.ValueOf(n, text, 1, dim)
		return x
	}
	return 0
}

// ValueOf computes a text that begins at a column of a node. A C-rate is a current when the nameplate states
// the capacity.
func (r *Reader) ValueOf(n document.Node, text string, column int, dim quantity.Dimension) (float64, bool) {
	q, err := condition.Value(text, r.p.constant)
	if err != nil {
		n.FailAt(column+columnOf(err)-1, "%s", err)
		return 0, false
	}
	if q.Dim == quantity.ChargeRate && dim == quantity.Current {
		capacity, err := r.plate.Rating("rated_capacity", quantity.Charge)
		if err != nil {
			n.FailAt(column, "%q is a C-rate, which needs the rated capacity: %s", text, err)
			return 0, false
		}
		q = asAsked(q, dim, capacity)
	}
	if q = q.As(dim); q.Dim != dim {
		n.FailAt(column, "%q is %s, but here belong %s", text, q.Dim, dim)
		return 0, false
	}
	if math.IsNaN(q.Value) || math.IsInf(q.Value, 0) {
		n.FailAt(column, "%q has no finite value", text)
		return 0, false
	}
	return q.Value, true
}

// Condition compiles a condition to see that it is sound, and returns its text.
func (r *Reader) Condition(n document.Node) string {
	text := n.Text()
	c, err := condition.Compile(text, r.scope)
	switch {
	case err != nil:
		n.FailAt(columnOf(err), "%s", err)
	case c.Fixed():
		n.Fail("the condition depends on nothing that is measured, so it always or never holds")
	}
	return text
}

// expression compiles an expression to see that it is sound, and gives its dimension.
func (r *Reader) expression(n document.Node) (quantity.Dimension, bool) {
	e, err := condition.CompileExpression(n.Text(), r.scope)
	if err != nil {
		n.FailAt(columnOf(err), "%s", err)
		return quantity.Number, false
	}
	return e.Dim, true
}

func columnOf(err error) int {
	var mistake *condition.Error
	if errors.As(err, &mistake) {
		return mistake.Column
	}
	return 1
}
