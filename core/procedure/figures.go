package procedure

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// readFigure reads a figure that is asked for, with its limit.
func (r *Reader) readFigure(n document.Node) {
	var limit, each document.Node
	asked, ok := r.readRequest(n, map[string]func(document.Node){"limit": func(n document.Node) { limit = n },
		"each": func(n document.Node) { each = n }})
	if !ok {
		return
	}
	f := FigureRequest{Asked: asked}
	if each.Present() {
		f.EachContract = each.Word(seats.Contract) != "" && asked.Definition.PerContract
		if !asked.Definition.PerContract {
			each.Fail("%s is no figure of a contract, so it cannot be asked for each", asked.ID)
		}
	}
	if limit.Present() {
		f.Limit = r.readLimit(limit, asked)
	}
	r.p.Figures = append(r.p.Figures, f)
}

// readRequest reads which figure is meant, with its arguments; more are keys that the caller reads.
func (r *Reader) readRequest(n document.Node, more map[string]func(document.Node)) (figure.Asked, bool) {
	f := figure.Asked{}
	var id, at, row, against, gear, q, over, in, state, profile document.Node
	fields := map[string]func(document.Node){
		"figure":    func(n document.Node) { id = n; f.ID = n.Text() },
		"at":        func(n document.Node) { at = n },
		"output":    func(n document.Node) { f.Output = r.seatName(n) },
		"input":     func(n document.Node) { f.Input = r.seatName(n) },
		"reference": func(n document.Node) { f.Reference = n.Word("nominal", "rated") },
		"stage":     func(n document.Node) { f.Stage = r.stageName(n) },
		"gear":      func(n document.Node) { gear, f.Gear = n, r.stageName(n) },
		"against":   func(n document.Node) { against, f.Against = n, n.Text() },
		"row":       func(n document.Node) { row, f.Row = n, n.Text() },
		"quantity":  func(n document.Node) { q, f.Quantity = n, r.Column(n) },
		"over":      func(n document.Node) { over, f.Over = n, r.Column(n) },
		"in":        func(n document.Node) { in, f.In = n, n.Text() },
		"pass":      func(n document.Node) { f.Pass = n.Whole(1, 1_000_000) },
		"channel":   func(n document.Node) { f.Channel = n.Text() },
		"since":     func(n document.Node) { f.Since = n.Text() },
		"profile": func(n document.Node) {
			profile, f.Profile = n, map[string]float64{}
			for _, e := range n.Entries() {
				if f.Profile[e.Key] = r.Value(e.Value, quantity.Time); f.Profile[e.Key] <= 0 {
					e.Value.Fail("the unit is in a state for more than no time")
				}
			}
		},
		"state": func(n document.Node) { state, f.State = n, n.Text() },
	}
	f.Stage = r.ofStage
	r.addArguments(fields, n, &f.Request)
	maps.Copy(fields, more)
	n.Fields(fields, "figure")
	if !id.Present() {
		return f, false
	}
	var ok bool
	if f.Definition, ok = r.language.Figures[f.ID]; !ok {
		id.Fail("unknown figure %q; %s", f.ID, document.Suggest(f.ID, r.language.Figures.IDs()))
		return f, false
	}
	for _, e := range at.Entries() {
		r.readPlace(&f, e)
	}
	switch {
	case f.Definition.WithGear && !gear.Present():
		n.Fail("%s takes off what the gear alone loses; name the grid in which that was measured with gear", f.ID)
	case !f.Definition.WithGear && !f.Definition.MayHaveGear && gear.Present():
		gear.Fail("of %s nothing of the gear is taken off", f.ID)
	}
	r.checkFed(id, f)
	r.checkRead(id, f)
	switch {
	case f.Definition.Needs == figure.Capture:
		r.checkCapture(n, &f)
	case f.Definition.Pairs && against.Present():
		r.seatName(against)
	case f.Definition.AgainstStage && against.Present():
		r.stageName(against)
	case slices.ContainsFunc(r.p.Triggers, func(g Trigger) bool { return g.Name == f.Stage && f.Stage != "" }):
		n.Fail("%s is a trigger, of whose captures %s is no figure", f.Stage, f.ID)
	default:
		r.checkRows(n, row, against, f)
	}
	if f.Definition.Unit == "" && !q.Present() {
		n.Fail("%s needs the quantity that it is of, such as quantity: load.volts", f.ID)
		return f, false
	}
	switch {
	case f.Definition.OfState && f.State == "":
		n.Fail("%s is of a state of the unit; name it with state, such as state: transmit", f.ID)
		return f, false
	case !f.Definition.OfState && !f.Definition.MayHaveState && state.Present():
		state.Fail("%s is of no state of the unit", f.ID)
	case !f.Definition.OfProfile && profile.Present():
		profile.Fail("%s is of no profile of use", f.ID)
	}
	switch {
	case f.Definition.Over && !over.Present():
		n.Fail("%s is of one column over another; name that with over, such as over: drive.percent", f.ID)
		return f, false
	case !f.Definition.Over && over.Present():
		over.Fail("%s is not taken over a column", f.ID)
	}
	if _, err := f.Definition.Scale(f.Request); err != nil {
		in.Fail("%s", err)
		f.In = ""
	}
	return f, true
}

// checkRead finds a figure of a meter that the procedure does not have, or that does not read what is needed.
func (r *Reader) checkRead(id document.Node, f figure.Asked) {
	meter := cmp.Or(f.Input, seats.DefaultMeter)
	for _, reading := range f.Definition.Reads {
		if column := meter + "." + reading; !r.hasColumn(column) {
			id.Fail("%s needs %s, which no seat of needs reads; add the meter, or name one with input", f.ID, column)
			return
		}
	}
}

// checkFed finds a figure for which no stage leaves behind what it needs.
func (r *Reader) checkFed(id document.Node, f figure.Asked) {
	needs := f.Definition.Needs
	if slices.ContainsFunc(r.p.Stages, func(s Stage) bool { return s.feeds(needs) }) ||
		needs == figure.Capture && len(r.p.Triggers) > 0 {
		return
	}
	switch needs {
	case figure.Grid:
		id.Fail("%s is computed from the points of a grid, but no stage is one", f.ID)
	case figure.Capture:
		id.Fail("%s is computed from a capture, but no stage takes one", f.ID)
	case figure.Openings:
		id.Fail("%s is counted while a harness is watched, but no stage is a watch with opens", f.ID)
	case figure.Wiring:
		id.Fail("%s is computed from a scan of a harness, but no stage is a wiring", f.ID)
	case figure.Window:
		if f.Stage == "" {
			id.Fail("%s is taken over a stage; name it with stage", f.ID)
		}
	case figure.Charge, figure.Discharge, figure.Rest:
		if f.Stage == "" {
			id.Fail("%s needs a %s, but no stage is one; name the stage that does it with stage", f.ID, needs)
		}
	}
}

// feeds tells whether a stage leaves behind what a figure needs.
func (s Stage) feeds(need figure.Need) bool {
	a, ok := s.Action.(Feeding)
	return ok && slices.Contains(a.Feeds(), need)
}

func (s Stage) charted() bool {
	_, ok := s.Action.(Charted)
	return ok
}

// ChartedStages names the stages from whose frames curves are drawn.
func (p *Program) ChartedStages() (names []string) {
	for _, s := range p.Stages {
		if s.charted() {
			names = append(names, s.Name)
		}
	}
	return names
}

// checkCapture finds the capture and the channels that a figure is of. Where there is one only, nobody need name it.
func (r *Reader) checkCapture(n document.Node, f *figure.Asked) {
	channels := map[string][]string{}
	for _, s := range r.p.Stages {
		if c, ok := s.Action.(Capturing); ok {
			channels[s.Name] = c.CapturedChannels()
		}
	}
	for _, g := range r.p.Triggers {
		for _, in := range g.Setup.Channels {
			channels[g.Name] = append(channels[g.Name], in.Name)
		}
	}
	stages := slices.Sorted(maps.Keys(channels))
	known := func(what, name string, names []string) bool {
		if !slices.Contains(names, name) {
			n.Fail("no %s has the name %q; %s", what, name, document.Suggest(name, names))
			return false
		}
		return true
	}
	switch {
	case len(stages) == 0:
		return // said already
	case f.Stage == "" && len(stages) == 1:
		f.Stage = stages[0]
	case f.Stage == "":
		n.Fail("%s is computed from a capture; name it with stage: %s", f.ID, strings.Join(stages, " or "))
		return
	case !known("capture", f.Stage, stages):
		return
	}
	if f.Channel == "" && len(channels[f.Stage]) == 1 {
		f.Channel = channels[f.Stage][0]
	}
	if f.Channel == "" {
		n.Fail("say with channel of which channel: %s", strings.Join(channels[f.Stage], " or "))
		return
	}
	known("channel of the capture", f.Channel, channels[f.Stage])
	if f.Since != "" {
		known("channel of the capture", f.Since, channels[f.Stage])
	}
	if f.Against != "" {
		known("capture", f.Against, stages)
	}
}

// checkRows finds rows that nothing fills, or that the figure does not ask for.
func (r *Reader) checkRows(n, row, against document.Node, f figure.Asked) {
	ofRow := f.Definition.Needs == figure.Row
	unfed := func(name string) string {
		return fmt.Sprintf("no stage fills a row %q, so nothing feeds the figure; %s", name,
			document.Suggest(name, slices.Collect(maps.Keys(r.rows))))
	}
	switch {
	case ofRow && !row.Present():
		n.Fail("%s is computed from a row; name it with row", f.ID)
	case ofRow && r.rows[f.Row] == 0:
		row.Fail("%s", unfed(f.Row))
	case against.Present() && r.rows[f.Against] == 0:
		against.Fail("%s", unfed(f.Against))
	case !ofRow && row.Present():
		row.Fail("%s is not computed from a row", f.ID)
	}
}

// addArguments adds the keys of the figure that the node asks for: its numbers, its choices, and the columns of one
// of several.
func (r *Reader) addArguments(fields map[string]func(document.Node), n document.Node, f *figure.Request) {
	var def figure.Definition
	units := map[figure.ArgOf]quantity.Dimension{}
	for _, e := range n.Entries() {
		switch e.Key {
		case "figure":
			def = r.language.Figures[e.Value.Text()]
		case "quantity":
			units[figure.OfQuantity] = trace.UnitOf(e.Value.Text()).Dim
		case "over":
			units[figure.OfOver] = trace.UnitOf(e.Value.Text()).Dim
		}
	}
	for _, name := range def.Rows {
		fields[name] = func(n document.Node) {
			f.Rows = figure.With(f.Rows, name, n.Text())
			if r.rows[n.Text()] == 0 {
				n.Fail("no stage fills a row %q; %s", n.Text(), document.Suggest(n.Text(),
					slices.Sorted(maps.Keys(r.rows))))
			}
		}
	}
	for _, a := range def.Args {
		fields[a.Name] = func(n document.Node) {
			dim, ofColumn := units[a.Of]
			if !ofColumn {
				dim = a.Dim
			}
			x := r.Value(n, dim)
			if err := a.Check(x); err != nil {
				n.Fail("%s", err)
			}
			f.Args = figure.With(f.Args, a.Name, x)
		}
	}
	for name, words := range def.Choices {
		fields[name] = func(n document.Node) { f.Choices = figure.With(f.Choices, name, n.Word(words...)) }
	}
	if def.Many {
		fields["of"] = func(n document.Node) {
			for _, x := range n.Items() {
				f.Of = append(f.Of, r.Column(x))
			}
		}
	}
}

// readPlace reads one setpoint of the place at which a figure is asked for.
func (r *Reader) readPlace(f *figure.Asked, e document.Entry) {
	_, q, ok := r.Settable(e.At, e.Key)
	if !ok {
		return
	}
	kind, ok := quantity.KindOf(q)
	if !ok {
		e.At.Fail("%s has no value to be at; choose a quantity with a unit", e.Key)
		return
	}
	x := r.Value(e.Value, kind.Unit.Dim)
	f.At = figure.With(f.At, e.Key, x)
	if f.Definition.Needs == figure.Grid && !r.swept(e.Key, x) {
		e.Value.Fail("no grid has a place at %s = %s, so nothing feeds the figure", e.Key, e.Value.Text())
	}
}

func (r *Reader) seatName(n document.Node) string {
	name := n.Text()
	if _, ok := r.Seat(name); !ok {
		n.Fail("unknown seat %q; %s", name, document.Suggest(name, r.SeatNames()))
	}
	return name
}

func (r *Reader) stageName(n document.Node) string {
	var names []string
	for _, s := range r.p.Stages {
		if !Control(s.Action) {
			names = append(names, s.Name)
		}
	}
	for _, g := range r.p.Triggers {
		names = append(names, g.Name)
	}
	name := n.Text()
	if !slices.Contains(names, name) {
		n.Fail("no stage has the name %q; %s", name, document.Suggest(name, names))
	}
	return name
}

// swept tells whether some grid visits the value, or something set before holds it.
func (r *Reader) swept(column string, value float64) bool {
	same := func(x float64) bool { return math.Abs(x-value) <= record.PlaceTolerance*math.Abs(value) }
	return slices.ContainsFunc(r.p.Stages, func(s Stage) bool {
		a, ok := s.Action.(Visiting)
		return ok && a.Visits(column, same)
	})
}

// unitOf is the unit in which a figure is answered; what is counted has none.
func unitOf(a figure.Asked) quantity.Unit {
	unit, err := quantity.ParseUnit(a.Definition.UnitOf(a.Request))
	if err != nil {
		return quantity.Unit{Dim: quantity.Number, Factor: 1}
	}
	return unit
}

// readLimit reads a limit in the unit in which the figure is answered: 93 % is 93 for a figure in %.
func (r *Reader) readLimit(n document.Node, asked figure.Asked) *outcome.Limit {
	limit := outcome.NoLimit()
	unit := unitOf(asked)
	number := func(to *float64) func(document.Node) {
		return func(n document.Node) { *to = r.Value(n, unit.Dim) / unit.Factor }
	}
	n.Fields(map[string]func(document.Node){
		"min": number(&limit.Min), "max": number(&limit.Max), "marginal": number(&limit.Marginal),
		"rule": func(n document.Node) {
			limit.Rule = outcome.Rule(n.Word(string(outcome.RuleSimple), string(outcome.RuleGuarded), string(outcome.RuleZones),
				string(outcome.RuleMarginalBand)))
		},
	})
	if err := limit.Check(); err != nil {
		n.Fail("%s", err)
	}
	def := asked.Definition
	if def.Least < def.Most && (limit.Min > def.Most || limit.Max < def.Least) {
		n.Fail("the limit can never be met: %s lies between %g and %g %s%s", def.ID, def.Least, def.Most, def.Unit,
			percentForgotten(def, limit))
	}
	return &limit
}

var curveForm = regexp.MustCompile(`^(\S+)(?: less (\S+))? by (\S+?)(?: per (\S+?))?(?:, log (x|y|xy))?$`)

func (r *Reader) readCurve(n document.Node) {
	m := curveForm.FindStringSubmatch(n.Text())
	if m == nil {
		n.Fail("a curve reads like: efficiency by load.amps per source.volts, load.volts less rated by load.amps, or " +
			"sourcemeter.amps by sourcemeter.volts, log y")
		return
	}
	c := Curve{Of: m[1], Less: m[2], By: m[3], Per: m[4], Log: m[5]}
	if !slices.ContainsFunc(r.p.Stages, func(s Stage) bool { return s.feeds(figure.Grid) || s.charted() }) {
		n.Fail("a curve is drawn from the points of a grid or the frames of what is played, but no stage is one of these")
	}
	if c.Of != "efficiency" && c.Of != "loss" && !r.hasColumn(c.Of) {
		n.Fail("%s", UnknownName(c.Of, append(slices.Clone(r.p.Columns), "efficiency", "loss")))
	}
	r.checkLess(n, c)
	for _, column := range []string{c.By, c.Per} {
		if column != "" && !r.hasColumn(column) {
			n.Fail("%s", UnknownName(column, r.p.Columns))
		}
	}
	r.p.Curves = append(r.p.Curves, c)
}

// checkLess checks what a curve is drawn less of.
func (r *Reader) checkLess(n document.Node, c Curve) {
	switch c.Less {
	case "", LessMean:
	case LessRated:
		if r.plate == nil {
			n.Fail("the procedure is for any unit, so nothing is rated; write less mean, or name a nameplate under for")
		} else if _, stated := nameplate.Rated(r.plate.Ratings, c.Of); !stated {
			n.Fail("nameplate %s does not say what %s is rated for", r.plate.Name, c.Of)
		}
	default:
		switch {
		case !r.hasColumn(c.Less):
			n.Fail("%s", UnknownName(c.Less, append(slices.Clone(r.p.Columns), LessRated, LessMean)))
		case trace.UnitOf(c.Less).Dim != trace.UnitOf(c.Of).Dim:
			n.Fail("%s is %s, and %s is %s: one cannot be drawn less the other", c.Of, trace.UnitOf(c.Of).Dim, c.Less,
				trace.UnitOf(c.Less).Dim)
		}
	}
}

// percentForgotten asks whether a limit that is a hundred times too far was meant in percent.
func percentForgotten(def figure.Definition, l outcome.Limit) string {
	meant := outcome.Limit{Min: l.Min / 100, Max: l.Max / 100}
	if def.Unit != "%" || meant.Min > def.Most || meant.Max < def.Least {
		return ""
	}
	for _, end := range []struct {
		word string
		x    float64
	}{{"min", meant.Min}, {"max", meant.Max}} {
		if !math.IsInf(end.x, 0) {
			return fmt.Sprintf("; a number alone is a share of 1, so write %s: %g %% if that is meant", end.word, end.x)
		}
	}
	return ""
}
