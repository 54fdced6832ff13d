package procedure

import (
	"math"
	"slices"

	"usherbench/core/document"
	"usherbench/core/quantity"
)

func (r *reader) readGrid(_ *common, n document.Node) Action {
	g := &Grid{}
	n.Fields(map[string]func(document.Node){
		"over": func(n document.Node) {
			for _, a := range n.Items() {
				if axis, ok := r.readAxis(a); ok {
					g.Axes = append(g.Axes, axis)
				}
			}
		},
		"settle": func(n document.Node) {
			if !n.IsMap() {
				g.Settle = r.value(n, quantity.Time)
				return
			}
			n.Fields(map[string]func(document.Node){
				"until":  func(n document.Node) { g.SettleUntil = r.condition(n) },
				"within": func(n document.Node) { g.Settle = r.value(n, quantity.Time) },
			}, "until", "within")
		},
		"average": func(n document.Node) {
			if g.Average = r.value(n, quantity.Time); g.Average <= 0 {
				n.Fail("a point is an average over some time; it must be more than 0")
			}
		},
	}, "over", "settle", "average")
	if len(g.Axes) > 0 && g.Places() > mostPlaces {
		n.Fail("the grid has %d places; at most %d are possible", g.Places(), mostPlaces)
	}
	return g
}

func (r *reader) readAxis(n document.Node) (Axis, bool) {
	var set, values, from, to, steps, spacing, order document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"set": keep(&set), "values": keep(&values), "from": keep(&from), "to": keep(&to), "steps": keep(&steps),
		"spacing": keep(&spacing), "order": keep(&order),
	}, "set")
	if !set.Present() {
		return Axis{}, false
	}
	seat, q, ok := r.settable(set, set.Text())
	if !ok {
		return Axis{}, false
	}
	kind, ok := quantity.KindOf(q)
	if !ok {
		set.Fail("%s is switched, not swept; choose a quantity with a unit", set.Text())
		return Axis{}, false
	}
	a := Axis{Seat: seat.Name, Quantity: q}
	switch {
	case values.Present() && (from.Present() || to.Present() || steps.Present()):
		n.Fail("give either values, or from, to and steps")
		return a, false
	case values.Present():
		for _, v := range values.Items() {
			x := r.value(v, kind.Unit.Dim)
			r.bounded(v, seat, q, x)
			a.Values = append(a.Values, x)
		}
	case from.Present() && to.Present() && steps.Present():
		first, last := r.value(from, kind.Unit.Dim), r.value(to, kind.Unit.Dim)
		r.bounded(from, seat, q, first)
		r.bounded(to, seat, q, last)
		count := steps.Whole(2, mostPlaces)
		if spacing.Present() && spacing.Word("linear", "log") == "log" {
			if first <= 0 || last <= 0 {
				spacing.Fail("a logarithmic sweep must begin and end above 0")
				return a, false
			}
			a.Values = logarithmic(first, last, count)
		} else {
			a.Values = linear(first, last, count)
		}
	default:
		n.Fail("the axis has no values: give values, or from, to and steps")
		return a, false
	}
	if len(a.Values) == 0 {
		values.Fail("the axis has no values")
		return a, false
	}
	if order.Present() {
		switch order.Word("up", "down", "both") {
		case "up":
			slices.Sort(a.Values)
		case "down":
			slices.Sort(a.Values)
			slices.Reverse(a.Values)
		case "both":
			a.BothWays = true
		}
	}
	return a, true
}

func linear(first, last float64, n int) []float64 {
	xs := make([]float64, n)
	for i := range xs {
		xs[i] = first + (last-first)*float64(i)/float64(n-1)
	}
	return tidy(xs)
}

func logarithmic(first, last float64, n int) []float64 {
	xs := make([]float64, n)
	for i := range xs {
		xs[i] = first * math.Pow(last/first, float64(i)/float64(n-1))
	}
	xs[n-1] = last
	return tidy(xs)
}

// tidy rounds setpoints to a nanounit, so that 0.30000000000000004 V is not what is sent and recorded.
func tidy(xs []float64) []float64 {
	for i, x := range xs {
		xs[i] = math.Round(x*1e9) / 1e9
	}
	return xs
}
