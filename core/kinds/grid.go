package kinds

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// GridKind sweeps quantities and measures a point at each place.
var GridKind = procedure.Kind{
	Word: "grid", About: "sweeps one or more quantities", Keys: procedure.Plain, Read: readGrid,
}

// Grid is a nested sweep; the first axis is the outermost.
type Grid struct {
	Axes []Axis
	// Settle is the time to wait at each place, s; with SettleUntil the longest such time.
	Settle      float64
	SettleUntil string
	Average     float64 // s
}

// Axis is one swept setting with its values in the order of the sweep.
type Axis struct {
	Seat, Quantity string
	Values         []float64
	BothWays       bool // up, then down again
}

// Column is the full name of what is swept.
func (a Axis) Column() string { return a.Seat + "." + a.Quantity }

// Sequence is the values as they are visited.
func (a Axis) Sequence() []float64 {
	if !a.BothWays {
		return a.Values
	}
	down := slices.Clone(a.Values[:len(a.Values)-1])
	slices.Reverse(down)
	return append(slices.Clone(a.Values), down...)
}

// Places is the number of operating points of the grid.
func (g *Grid) Places() int {
	n := 1
	for _, a := range g.Axes {
		n *= len(a.Sequence())
	}
	return n
}

// Place is the i-th operating point as settings, outermost axis first.
func (g *Grid) Place(i int) []procedure.Setting {
	place := make([]procedure.Setting, len(g.Axes))
	for k := len(g.Axes) - 1; k >= 0; k-- {
		seq := g.Axes[k].Sequence()
		place[k] = procedure.Setting{Seat: g.Axes[k].Seat, Quantity: g.Axes[k].Quantity, Value: seq[i%len(seq)]}
		i /= len(seq)
	}
	return place
}

// Kind implements procedure.Action.
func (*Grid) Kind() string { return "grid" }

// Duration implements procedure.Lasting.
func (g *Grid) Duration() float64 { return float64(g.Places()) * (g.Settle + g.Average) }

// Extremes implements procedure.Moving.
func (g *Grid) Extremes(add func(column string, low, high float64)) {
	for _, axis := range g.Axes {
		for _, x := range axis.Values {
			add(axis.Column(), x, x)
		}
	}
}

// Visits implements procedure.Visiting.
func (g *Grid) Visits(column string, at func(float64) bool) bool {
	return slices.ContainsFunc(g.Axes, func(a Axis) bool {
		return a.Column() == column &&
			slices.ContainsFunc(a.Values, at)
	})
}

// Conditions implements procedure.Waiting.
func (g *Grid) Conditions() []string { return []string{g.SettleUntil} }

// Feeds implements procedure.Feeding.
func (*Grid) Feeds() []figure.Need { return []figure.Need{figure.Grid} }

// FramesEvery implements procedure.Sampled.
func (g *Grid) FramesEvery() float64 { return g.Average / 8 }

// Words implements procedure.Worded.
func (g *Grid) Words() string {
	var axes []string
	for _, x := range g.Axes {
		kind, _ := quantity.KindOf(x.Quantity)
		first, last := x.Values[0], x.Values[len(x.Values)-1]
		axes = append(axes, fmt.Sprintf("%s %s to %s", x.Column(), procedure.Show(first, kind.Unit.Dim),
			procedure.Show(last, kind.Unit.Dim)))
	}
	return fmt.Sprintf("%d points: %s", g.Places(), strings.Join(axes, " by "))
}

// Run implements stage.Runnable.
func (g *Grid) Run(p *stage.Parts) stage.Runner {
	return &gridRunner{name: p.Stage.Name, spec: g, settleUntil: p.Condition(g.SettleUntil)}
}

func readGrid(r *procedure.Reader, _ *procedure.Common, n document.Node) procedure.Action {
	g := &Grid{}
	n.Fields(map[string]func(document.Node){
		"over": func(n document.Node) {
			for _, a := range n.Items() {
				if axis, ok := readAxis(r, a); ok {
					g.Axes = append(g.Axes, axis)
				}
			}
		},
		"settle": func(n document.Node) {
			if !n.IsMap() {
				g.Settle = r.Value(n, quantity.Time)
				return
			}
			n.Fields(map[string]func(document.Node){
				"until":  func(n document.Node) { g.SettleUntil = r.Condition(n) },
				"within": func(n document.Node) { g.Settle = r.Value(n, quantity.Time) },
			}, "until", "within")
		},
		"average": func(n document.Node) {
			if g.Average = r.Value(n, quantity.Time); g.Average <= 0 {
				n.Fail("a point is an average over some time; it must be more than 0")
			}
		},
	}, "over", "settle", "average")
	if len(g.Axes) > 0 && g.Places() > procedure.MostPlaces {
		n.Fail("the grid has %d places; at most %d are possible", g.Places(), procedure.MostPlaces)
	}
	return g
}

func readAxis(r *procedure.Reader, n document.Node) (Axis, bool) {
	var set, values, from, to, steps, spacing, order document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"set": keep(&set), "values": keep(&values), "from": keep(&from), "to": keep(&to), "steps": keep(&steps),
		"spacing": keep(&spacing), "order": keep(&order),
	}, "set")
	if !set.Present() {
		return Axis{}, false
	}
	seat, q, ok := r.Settable(set, set.Text())
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
			x := r.Value(v, kind.Unit.Dim)
			r.Bounded(v, seat, q, x)
			a.Values = append(a.Values, x)
		}
	case from.Present() && to.Present() && steps.Present():
		first, last := r.Value(from, kind.Unit.Dim), r.Value(to, kind.Unit.Dim)
		r.Bounded(from, seat, q, first)
		r.Bounded(to, seat, q, last)
		count := steps.Whole(2, procedure.MostPlaces)
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

// gridRunner visits operating points: at each it commands, settles, averages, and gives one point.
type gridRunner struct {
	name        string
	spec        *Grid
	settleUntil *condition.Condition
	grid        gridState
}

type gridState struct {
	Index   int              `json:"index"`
	Since   float64          `json:"since"`          // when the place's commands were in force
	Settled float64          `json:"settled"`        // when averaging began; −1 while settling
	Past    *condition.State `json:"past,omitempty"` // only in a snapshot
	// Frames are those of the average so far, only in a snapshot.
	Frames stage.KeptFrames `json:"frames,omitempty"`
	frames []trace.Frame
}

func (r *gridRunner) Enter(*stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.grid = gridState{Index: -1}
	return r.visit(nil), stage.GoesOn
}

// visit goes to the next place and commands only what differs from the place before.
func (r *gridRunner) visit(effects []stage.Effect) []stage.Effect {
	r.grid.Index++
	place := r.spec.Place(r.grid.Index)
	if r.grid.Index > 0 {
		before := r.spec.Place(r.grid.Index - 1)
		changed := place[:0:0]
		for i, s := range place {
			if s != before[i] {
				changed = append(changed, s)
			}
		}
		place = changed
	}
	r.grid.Settled, r.grid.frames = -1, nil
	if r.settleUntil != nil {
		r.settleUntil.Reset()
	}
	return append(effects, stage.Command{Settings: place})
}

func (r *gridRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	r.grid.Since = t
	return []stage.Effect{stage.Commanded(t, r.spec.Place(r.grid.Index))}, stage.GoesOn
}

func (r *gridRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if r.grid.Settled < 0 && !r.settled(m, f) {
		return nil, stage.GoesOn
	}
	r.grid.frames = append(r.grid.frames, f)
	if !m.Enough(r.grid.frames, nil, f.T-r.grid.Settled, r.spec.Average) {
		return nil, stage.GoesOn
	}
	effects := []stage.Effect{stage.Point{Point: m.NewPoint(r.name, r.grid.frames, nil)},
		stage.NewMark(f.T, record.MarkPointDone, fmt.Sprintf("point %d of %d", r.grid.Index+1,
			r.spec.Places()))}
	if r.grid.Index+1 == r.spec.Places() {
		return effects, stage.Over
	}
	return r.visit(effects), stage.GoesOn
}

// settled tells whether averaging begins with this frame: the settling time is over, or the condition holds. A
// condition that does not come to hold in time lets the average begin all the same; the figure then says that
// the point was not settled.
func (r *gridRunner) settled(m *stage.Machine, f trace.Frame) bool {
	past := f.T - r.grid.Since
	holds := r.settleUntil != nil && r.settleUntil.Evaluate(m.Sample(f)) == condition.True
	if !holds && past < r.spec.Settle {
		return false
	}
	r.grid.Settled = f.T
	return true
}

func (r *gridRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	places := r.spec.Places()
	each := r.spec.Settle + r.spec.Average
	here := min(max(m.Now()-r.grid.Since, 0), each)
	done := float64(r.grid.Index) + here/each
	return done / float64(places), (float64(places) - done) * each, fmt.Sprintf("%d of %d points", r.grid.Index, places)
}

func (r *gridRunner) Shift(s float64) {
	r.grid.Since += s
	stage.Shift(s, r.settleUntil)
	if r.grid.Settled >= 0 {
		r.grid.Settled = -1 // what was averaged before a pause is averaged anew
		r.grid.frames = nil
	}
}

func (r *gridRunner) Save() any {
	g := r.grid
	if r.settleUntil != nil {
		past := r.settleUntil.State()
		g.Past = &past
	}
	g.Frames = stage.Keep(g.frames)
	return g
}

func (r *gridRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.grid); err != nil {
		return err
	}
	r.grid.frames, r.grid.Frames = r.grid.Frames.Frames(), nil
	if r.settleUntil != nil && r.grid.Past != nil {
		r.settleUntil.Restore(*r.grid.Past)
	}
	r.grid.Past = nil
	return nil
}
