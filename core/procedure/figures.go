package procedure

import (
	"maps"
	"math"
	"regexp"
	"slices"

	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/quantity"
	"usherbench/core/trace"
)

func (r *reader) readFigure(n document.Node) {
	var limit document.Node
	request, def, ok := r.readRequest(n, map[string]func(document.Node){"limit": func(n document.Node) { limit = n }})
	if !ok {
		return
	}
	f := FigureRequest{Request: request}
	if limit.Present() {
		f.Limit = r.readLimit(limit, def, r.unitOf(def, request))
	}
	r.p.Figures = append(r.p.Figures, f)
}

// unitOf is the unit of a figure; of those that are in the unit of what they are asked for, that one.
func (r *reader) unitOf(def figure.Definition, f figure.Request) string {
	if def.Unit == "" && f.Quantity != "" {
		return trace.UnitOf(f.Quantity).Symbol
	}
	return def.Unit
}

// readRequest reads which figure is meant, with its arguments; more are keys that the caller reads.
func (r *reader) readRequest(n document.Node, more map[string]func(document.Node)) (figure.Request, figure.Definition,
	bool) {
	f := figure.Request{Output: "load", Input: "source"}
	var id, at, row, against, q document.Node
	fields := map[string]func(document.Node){
		"figure":    func(n document.Node) { id = n; f.ID = n.Text() },
		"at":        func(n document.Node) { at = n },
		"output":    func(n document.Node) { f.Output = r.seatName(n) },
		"input":     func(n document.Node) { f.Input = r.seatName(n) },
		"reference": func(n document.Node) { f.Reference = n.Word("nominal", "rated") },
		"stage":     func(n document.Node) { f.Stage = r.stageName(n) },
		"against":   func(n document.Node) { against, f.Against = n, n.Text() },
		"row":       func(n document.Node) { row, f.Row = n, n.Text() },
		"quantity":  func(n document.Node) { q, f.Quantity = n, r.column(n) },
		"pass":      func(n document.Node) { f.Pass = n.Whole(1, 1_000_000) },
	}
	r.readArguments(n, &f, fields)
	maps.Copy(fields, more)
	n.Fields(fields, "figure")
	if !id.Present() {
		return f, figure.Definition{}, false
	}
	def, ok := figure.Lookup(f.ID)
	if !ok {
		id.Fail("unknown figure %q; %s", f.ID, document.Suggest(f.ID, figure.IDs()))
		return f, def, false
	}
	for _, e := range at.Entries() {
		r.readPlace(&f, def, e)
	}
	if def.Points && !slices.ContainsFunc(r.p.Stages, func(s Stage) bool { return s.Kind() == "grid" }) {
		id.Fail("%s is computed from the points of a grid, but no stage is one", f.ID)
	}
	if def.Half != "" && f.Stage == "" &&
		!slices.ContainsFunc(r.p.Stages, func(s Stage) bool {
			return s.Kind() == def.Half || def.Half != "rest" &&
				s.Kind() == "watch"
		}) {
		id.Fail("%s needs a %s, but no stage is one; name the stage that does it with stage", f.ID, def.Half)
	}
	switch {
	case def.Row && !row.Present():
		n.Fail("%s is computed from a row; name it with row", f.ID)
	case def.Row && r.rows[f.Row] == 0:
		row.Fail("no stage fills a row %q, so nothing feeds the figure; %s", f.Row,
			document.Suggest(f.Row, slices.Collect(maps.Keys(r.rows))))
	case against.Present() && r.rows[f.Against] == 0:
		against.Fail("no stage fills a row %q, so nothing feeds the figure; %s", f.Against,
			document.Suggest(f.Against, slices.Collect(maps.Keys(r.rows))))
	case !def.Row && row.Present():
		row.Fail("%s is not computed from a row", f.ID)
	}
	if def.Unit == "" && !q.Present() {
		n.Fail("%s needs the quantity that it is of, such as quantity: load.volts", f.ID)
		return f, def, false
	}
	return f, def, true
}

// readArguments adds the keys of the figure that the node asks for: its numbers, its choices, and the columns
// of one of several.
func (r *reader) readArguments(n document.Node, f *figure.Request, fields map[string]func(document.Node)) {
	var def figure.Definition
	for _, e := range n.Entries() {
		if e.Key == "figure" {
			def, _ = figure.Lookup(e.Value.Text())
		}
	}
	for _, a := range def.Args {
		fields[a.Name] = func(n document.Node) {
			if f.Args == nil {
				f.Args = map[string]float64{}
			}
			f.Args[a.Name] = r.value(n, a.Dim)
		}
	}
	for name, words := range def.Choices {
		fields[name] = func(n document.Node) {
			if f.Choices == nil {
				f.Choices = map[string]string{}
			}
			f.Choices[name] = n.Word(words...)
		}
	}
	if def.Many {
		fields["of"] = func(n document.Node) {
			for _, x := range n.Items() {
				f.Of = append(f.Of, r.column(x))
			}
		}
	}
}

func (r *reader) readPlace(f *figure.Request, def figure.Definition, e document.Entry) {
	_, q, ok := r.settable(e.At, e.Key)
	if !ok {
		return
	}
	kind, ok := quantity.KindOf(q)
	if !ok {
		e.At.Fail("%s has no value to be at; choose a quantity with a unit", e.Key)
		return
	}
	if f.At == nil {
		f.At = map[string]float64{}
	}
	f.At[e.Key] = r.value(e.Value, kind.Unit.Dim)
	if def.Points && !r.swept(e.Key, f.At[e.Key]) {
		e.Value.Fail("no grid has a place at %s = %s, so nothing feeds the figure", e.Key, e.Value.Text())
	}
}

func (r *reader) seatName(n document.Node) string {
	name := n.Text()
	if _, ok := r.seat(name); !ok {
		n.Fail("unknown seat %q; %s", name, document.Suggest(name, r.seatNames()))
	}
	return name
}

func (r *reader) stageName(n document.Node) string {
	var names []string
	for _, s := range r.p.Stages {
		if !Control(s.Action) {
			names = append(names, s.Name)
		}
	}
	name := n.Text()
	if !slices.Contains(names, name) {
		n.Fail("no stage has the name %q; %s", name, document.Suggest(name, names))
	}
	return name
}

// swept tells whether some grid visits the value, or something set before holds it.
func (r *reader) swept(column string, value float64) bool {
	same := func(x float64) bool { return math.Abs(x-value) <= figure.PlaceTolerance*math.Abs(value) }
	for _, s := range r.p.Stages {
		switch a := s.Action.(type) {
		case *Grid:
			for _, axis := range a.Axes {
				if axis.Column() == column && slices.ContainsFunc(axis.Values, same) {
					return true
				}
			}
		case *Set:
			if slices.ContainsFunc(a.Settings, func(x Setting) bool { return x.Column() == column && same(x.Value) }) {
				return true
			}
		}
	}
	return false
}

// readLimit reads a limit in the figure's own unit: 93 % is 93 for a figure in %.
func (r *reader) readLimit(n document.Node, def figure.Definition, symbol string) *outcome.Limit {
	limit := outcome.NoLimit()
	unit, err := quantity.ParseUnit(symbol)
	if err != nil { // what is counted has no unit
		unit = quantity.Unit{Dim: quantity.Number, Factor: 1}
	}
	number := func(to *float64) func(document.Node) {
		return func(n document.Node) { *to = r.value(n, unit.Dim) / unit.Factor }
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
	if def.Least < def.Most && (limit.Min > def.Most || limit.Max < def.Least) {
		n.Fail("the limit can never be met: %s lies between %g and %g %s", def.ID, def.Least, def.Most, def.Unit)
	}
	return &limit
}

var curveForm = regexp.MustCompile(`^(\S+) by (\S+?)(?: per (\S+))?$`)

func (r *reader) readCurve(n document.Node) {
	m := curveForm.FindStringSubmatch(n.Text())
	if m == nil {
		n.Fail("a curve reads like: efficiency by load.amps per source.volts")
		return
	}
	c := Curve{Of: m[1], By: m[2], Per: m[3]}
	if !slices.ContainsFunc(r.p.Stages, func(s Stage) bool { return s.Kind() == "grid" }) {
		n.Fail("a curve is drawn from the points of a grid, but no stage is one")
	}
	if c.Of != "efficiency" && c.Of != "loss" && r.p.Columns.Index(c.Of) < 0 {
		n.Fail("%s", unknownName(c.Of, append(slices.Clone(r.p.Columns), "efficiency", "loss")))
	}
	for _, column := range []string{c.By, c.Per} {
		if column != "" && r.p.Columns.Index(column) < 0 {
			n.Fail("%s", unknownName(column, r.p.Columns))
		}
	}
	r.p.Curves = append(r.p.Curves, c)
}
