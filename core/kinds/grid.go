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
	// EndWhen ends the grid with the point at whose end it holds; empty: it goes to its last place.
	EndWhen string
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
func (g *Grid) Conditions() []string { return []string{g.SettleUntil, g.EndWhen} }

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
	return &gridRunner{name: p.Stage.Name, spec: g, settleUntil: p.Condition(g.SettleUntil),
		endWhen: p.Condition(g.EndWhen)}
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
		"end when": func(n document.Node) { g.EndWhen = r.Condition(n) },
	}, "over", "settle", "average")
	if len(g.Axes) > 0 && g.Places() > procedure.MostPlaces {
		n.Fail("the grid has %d places; at most %d are possible", g.Places(), procedure.MostPlaces)
	}
	return g
}

func readAxis(r *procedure.Reader, n document.Node) (Axis, bool) {
	var set, values, table, from, to, steps, spacing, around, order document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"set": keep(&set), "values": keep(&values), "from": keep(&from), "to": keep(&to), "steps": keep(&steps),
		"spacing": keep(&spacing), "order": keep(&order), "table": keep(&table), "around": keep(&around),
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
	case ways(values.Present(), table.Present(), from.Present() || to.Present() || steps.Present()) > 1:
		n.Fail("give either values, or a table, or from, to and steps")
		return a, false
	case table.Present():
		if a.Values, ok = readListed(r, table, seat, q); !ok {
			return a, false
		}
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
		switch {
		case spacing.Present() && around.Present():
			around.Fail("give either spacing or around")
			return a, false
		case around.Present():
			middle := r.Value(around, kind.Unit.Dim)
			if (middle-first)*(last-middle) <= 0 {
				around.Fail("what the steps are dense around lies between from and to")
				return a, false
			}
			a.Values = denseAround(first, middle, last, count)
		case spacing.Present() && spacing.Word("linear", "log") == "log":
			if first <= 0 || last <= 0 {
				spacing.Fail("a logarithmic sweep must begin and end above 0")
				return a, false
			}
			a.Values = logarithmic(first, last, count)
		default:
			a.Values = linear(first, last, count)
		}
	default:
		n.Fail("the axis has no values: give values, a table, or from, to and steps")
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

// denseAround are steps that lie the closer the nearer they are to a value, and never wider apart than a few times
// what they would be if all were alike.
func denseAround(first, middle, last float64, n int) []float64 {
	below, above := math.Abs(middle-first), math.Abs(last-middle)
	k := min(max(int(math.Round(float64(n-1)*math.Sqrt(below)/(math.Sqrt(below)+math.Sqrt(above)))), 1), n-2)
	away := func(share float64) float64 { return 0.25*share + 0.75*share*share }
	xs := make([]float64, 0, n)
	for i := k; i > 0; i-- {
		xs = append(xs, middle+(first-middle)*away(float64(i)/float64(k)))
	}
	xs = append(xs, middle)
	for i := 1; i < n-k; i++ {
		xs = append(xs, middle+(last-middle)*away(float64(i)/float64(n-1-k)))
	}
	return tidy(xs)
}

// ways counts what is true.
func ways(all ...bool) (n int) {
	for _, is := range all {
		if is {
			n++
		}
	}
	return n
}

// readListed reads the values of an axis from the rows of a table, whatever their times.
func readListed(r *procedure.Reader, n document.Node, seat procedure.Seat, q string) (values []float64, ok bool) {
	table, found := r.Table(n)
	if !found {
		return nil, false
	}
	i, err := table.Pick(seat.Name, q)
	if err != nil {
		n.Fail("%s", err)
		return nil, false
	}
	kind, _ := quantity.KindOf(q)
	if table.Dims[i] != kind.Unit.Dim {
		n.Fail("the table's %s is %s, but %s are %s", table.Names[i], table.Dims[i], q, kind.Unit.Dim)
		return nil, false
	}
	for _, x := range table.Levels[i] {
		r.Bounded(n, seat, q, x)
	}
	return table.Levels[i], true
}

// tidy rounds setpoints, so that 0.30000000000000004 V is not what is sent and recorded: to a nanounit, or to the ninth
// digit of the largest where all are small.
func tidy(xs []float64) []float64 {
	largest := 0.0
	for _, x := range xs {
		largest = max(largest, math.Abs(x))
	}
	perUnit := 1e9
	for ; largest > 0 && largest < 1; largest *= 10 {
		perUnit *= 10
	}
	for i, x := range xs {
		xs[i] = math.Round(x*perUnit) / perUnit
	}
	return xs
}

// gridRunner visits operating points: at each it commands, settles, averages, and gives one point.
type gridRunner struct {
	name        string
	spec        *Grid
	settleUntil *condition.Condition
	endWhen     *condition.Condition
	grid        gridState
}

type gridState struct {
	Index   int     `json:"index"`
	Since   float64 `json:"since"`   // when the place's commands were in force
	Settled float64 `json:"settled"` // when averaging began; −1 while settling
	// Behind names what does not come up to what is set, as the last point showed.
	Behind string `json:"behind,omitempty"`
	// Past and Ending are those of the conditions, only in a snapshot.
	Past   *condition.State `json:"past,omitempty"`
	Ending *condition.State `json:"ending,omitempty"`
	// Frames are those of the average so far, only in a snapshot.
	Frames stage.KeptFrames `json:"frames,omitempty"`
	frames []trace.Frame
}

func (r *gridRunner) Enter(*stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.grid = gridState{Index: -1}
	if r.endWhen != nil {
		r.endWhen.Reset()
	}
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
	ends := r.endWhen != nil && r.endWhen.Evaluate(m.Sample(f)) == condition.True
	if r.grid.Settled < 0 && !r.settled(m, f) {
		return nil, stage.GoesOn
	}
	r.grid.frames = append(r.grid.frames, f)
	if !m.Enough(r.grid.frames, nil, f.T-r.grid.Settled, r.spec.Average) {
		return nil, stage.GoesOn
	}
	point := m.NewPoint(r.name, r.grid.frames, nil)
	effects := []stage.Effect{stage.Point{Point: point}, stage.NewMark(f.T, record.MarkPointDone,
		fmt.Sprintf("point %d of %d", r.grid.Index+1, r.spec.Places()))}
	effects = append(effects, r.followed(point, f.T)...)
	if r.grid.Index+1 == r.spec.Places() {
		return effects, stage.Over
	}
	if ends {
		return append(effects, stage.NewMark(f.T, record.MarkCondition, fmt.Sprintf("the grid ended at point %d of %d: %s",
			r.grid.Index+1, r.spec.Places(), r.spec.EndWhen))), stage.Over
	}
	return r.visit(effects), stage.GoesOn
}

// mostBehind is how far a reading may stay behind what is set, as a share of it and of the largest that is set, before
// that is told: the unit or a limit holds it, and what is set from there on says nothing.
const mostBehind = 0.05

// followed tells when what a grid sets begins to be no longer reached: once, until it is reached again.
func (r *gridRunner) followed(p record.Point, t float64) []stage.Effect {
	behind := ""
	for _, axis := range r.spec.Axes {
		set, is := p.Place[axis.Column()], p.Averages[axis.Column()]
		largest := 0.0
		for _, x := range axis.Values {
			largest = max(largest, math.Abs(x))
		}
		if is.N == 0 || math.Abs(is.Mean-set) <= mostBehind*max(math.Abs(set), 0.1*largest) {
			continue
		}
		kind, _ := quantity.KindOf(axis.Quantity)
		behind = fmt.Sprintf("%s is %s where %s is set", axis.Column(),
			quantity.Quantity{Value: is.Mean, Dim: kind.Unit.Dim}.Format(4), procedure.Show(set, kind.Unit.Dim))
	}
	before := r.grid.Behind
	if r.grid.Behind = behind; behind == "" || before != "" {
		return nil
	}
	return []stage.Effect{stage.NewMark(t, record.MarkWarning, fmt.Sprintf("point %d of %d: %s", r.grid.Index+1,
		r.spec.Places(), behind))}
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
	stage.Shift(s, r.settleUntil, r.endWhen)
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
	if r.endWhen != nil {
		ending := r.endWhen.State()
		g.Ending = &ending
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
	if r.endWhen != nil && r.grid.Ending != nil {
		r.endWhen.Restore(*r.grid.Ending)
	}
	r.grid.Past, r.grid.Ending = nil, nil
	return nil
}
