package procedure

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// mostPlaces bounds a grid; at one point a second it would take a day.
const mostPlaces = 100_000

func (r *reader) readStage(index int, n document.Node) {
	s := Stage{Name: fmt.Sprintf("stage %d", index+1), Else: ElseFail}
	var kinds []string
	one := func(kind string, read func(document.Node)) func(document.Node) {
		return func(n document.Node) { kinds = append(kinds, kind); read(n) }
	}
	var until, within document.Node
	n.Fields(map[string]func(document.Node){
		"name":   func(n document.Node) { s.Name = n.Text() },
		"note":   func(n document.Node) { n.Text() },
		"set":    one("set", func(n document.Node) { s.Set = r.readSet(n) }),
		"hold":   one("hold", func(n document.Node) { s.Hold = r.readHold(n, &s) }),
		"grid":   one("grid", func(n document.Node) { s.Grid = r.readGrid(n) }),
		"until":  func(n document.Node) { until = n; s.Until = r.condition(n) },
		"within": func(n document.Node) { within = n; s.Within = r.value(n, quantity.Time) },
		"else":   func(n document.Node) { s.Else = Otherwise(n.Word("fail", "next", "stop")) },
	})
	switch {
	case !n.IsMap():
		return
	case len(kinds) == 0:
		n.Fail("the stage says nothing to do; give it one of set, hold, grid")
		return
	case len(kinds) > 1:
		n.Fail("the stage does %s and %s; write a stage for each", kinds[0], kinds[1])
	case s.Grid != nil && (until.Present() || within.Present()):
		n.Fail("until and within do not go with grid; a grid ends when every place is measured")
	case until.Present() && !within.Present():
		until.Fail("the stage may never end: say within which time the condition must hold")
	case within.Present() && !until.Present() && (s.Hold == nil || s.Hold.Stable == nil):
		within.Fail("within bounds a wait, but there is no until to wait for")
	case s.Hold != nil && s.Hold.For == 0 && s.Hold.Stable == nil && s.Until == "":
		n.Fail("the hold never ends: give it for, until or stable")
	}
	r.p.Stages = append(r.p.Stages, s)
}

func (r *reader) readSet(n document.Node) *Set {
	set := &Set{}
	for _, e := range n.Entries() {
		seat, ok := r.seat(e.Key)
		if !ok {
			e.At.Fail("unknown seat %q; %s", e.Key, document.Suggest(e.Key, r.seatNames()))
			continue
		}
		for _, q := range e.Value.Entries() {
			if s, ok := r.readSetting(seat, q); ok {
				set.Settings = append(set.Settings, s)
			}
		}
	}
	slices.SortStableFunc(set.Settings, func(a, b Setting) int { return safeRank(a) - safeRank(b) })
	return set
}

func (r *reader) readSetting(seat Seat, e document.Entry) (Setting, bool) {
	if _, _, ok := r.settable(e.At, seat.Name+"."+e.Key); !ok {
		return Setting{}, false
	}
	s := Setting{Seat: seat.Name, Quantity: e.Key}
	switch e.Key {
	case "output":
		s.Word = e.Value.Word("on", "off")
	case "mode":
		s.Word = e.Value.Word(seat.Kind.Modes...)
		if s.Word != "" && len(seat.Modes) > 0 && !slices.Contains(seat.Modes, s.Word) {
			e.Value.Fail("mode %s is not among the modes that needs asks of %s", s.Word, seat.Name)
		}
	default:
		kind, _ := quantity.KindOf(e.Key)
		s.Value = r.value(e.Value, kind.Unit.Dim)
		r.bounded(e.Value, seat, e.Key, s.Value)
	}
	return s, true
}

// safeRank orders settings: outputs off (what drains first), then modes, then levels, then outputs on (what feeds first).
func safeRank(s Setting) int {
	kind, _ := seats.KindOf(s.Seat)
	switch {
	case s.Quantity == "output" && s.Word == "off" && kind.Drains:
		return 0
	case s.Quantity == "output" && s.Word == "off":
		return 1
	case s.Quantity == "mode":
		return 2
	case s.Quantity != "output":
		return 3
	case !kind.Drains:
		return 4
	}
	return 5
}

func (r *reader) readHold(n document.Node, s *Stage) *Hold {
	h := &Hold{}
	n.Fields(map[string]func(document.Node){
		"for": func(n document.Node) {
			if h.For = r.value(n, quantity.Time); h.For <= 0 {
				n.Fail("a hold lasts for more than no time")
			}
		},
		"until":  func(n document.Node) { s.Until = r.condition(n) },
		"stable": func(n document.Node) { h.Stable = r.readStable(n) },
		"within": func(n document.Node) { s.Within = r.value(n, quantity.Time) },
	})
	if (s.Until != "" || h.Stable != nil) && s.Within == 0 && h.For == 0 {
		n.Fail("the stage may never end: say within which time the condition must hold")
	}
	return h
}

func (r *reader) readStable(n document.Node) *Stable {
	s := &Stable{}
	var band document.Node
	n.Fields(map[string]func(document.Node){
		"quantity": func(n document.Node) {
			if s.Column = n.Text(); r.p.Columns.Index(s.Column) < 0 {
				n.Fail("%s", unknownName(s.Column, r.p.Columns))
			}
		},
		"window": func(n document.Node) { s.Window = r.value(n, quantity.Time) },
		"band":   func(n document.Node) { band = n },
	}, "quantity", "window", "band")
	if kind, ok := quantity.KindOfColumn(s.Column); ok && band.Present() {
		s.Band = r.value(band, kind.Unit.Dim.Per(quantity.Time))
	}
	return s
}

func (r *reader) readGrid(n document.Node) *Grid {
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
