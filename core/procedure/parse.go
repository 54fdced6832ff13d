package procedure

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/shape"
)

// Header is what can be read of a procedure without its nameplate.
type Header struct {
	Name, Title, For string
	// Seats are those that it needs.
	Seats []string
}

// ReadHeader reads name, title, nameplate and seats of a procedure.
func ReadHeader(text []byte) (Header, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return Header{}, err
	}
	var h Header
	for _, e := range doc.Root().Entries() {
		switch e.Key {
		case "procedure":
			h.Name = e.Value.Text()
		case "title":
			h.Title = e.Value.Text()
		case "for":
			h.For = e.Value.Text()
		case "needs":
			for _, seat := range e.Value.Entries() {
				h.Seats = append(h.Seats, seat.Key)
			}
		}
	}
	if !nameplate.NamePattern.MatchString(h.Name) {
		return h, document.Findings{{Line: 1, Column: 1, Message: "this is not a procedure: the key \"procedure\" with a name is missing or odd"}}
	}
	return h, doc.Findings().Err()
}

// Parse checks a procedure and resolves it with a nameplate (nil for a procedure that is for any unit) and values for its
// parameters, given as text by name. library gives the procedures that it may use; nil: it may use none. The error is a
// document.Findings with everything that is wrong.
func Parse(text []byte, plate *nameplate.Nameplate, values map[string]string, library Library) (*Program, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	r := newReader(plate, values, library)
	r.read(doc.Root())
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	return r.p, nil
}

type reader struct {
	p       *Program
	plate   *nameplate.Nameplate
	values  map[string]string
	given   map[string]bool // parameters that the procedure has
	library Library
	tables  map[string]*shape.Table
	rows    map[string]int // rows that a stage fills, and its line
	record  Record         // the rule in force
	locals  map[string]quantity.Quantity
	path    []string
	using   []string // procedures that are being read, outermost first
	inside  *inside
	jumps   bool // some stage goes to another
}

func newReader(plate *nameplate.Nameplate, values map[string]string, library Library) *reader {
	return &reader{plate: plate, values: values, library: library, tables: map[string]*shape.Table{}, rows: map[string]int{}, record: Record{Every: 0.1}, p: &Program{
		LostAfter: 2, Record: Record{Every: 0.1}, Constants: map[string]quantity.Quantity{}, Protect: map[string]map[string]float64{},
		Answers: map[string]quantity.Dimension{}, Used: map[string]string{},
	}}
}

// read goes through the document in the order in which names become known, whatever the order of the text.
func (r *reader) read(root document.Node) {
	parts := map[string]document.Node{}
	fields := map[string]func(document.Node){
		"procedure": func(n document.Node) {
			if r.p.Name = n.Text(); !nameplate.NamePattern.MatchString(r.p.Name) {
				n.Fail("%q is not a name; use small letters, digits and hyphens, beginning with a letter", r.p.Name)
			}
		},
		"title": func(n document.Node) { r.p.Title = n.Text() },
		"note":  func(n document.Node) { n.Text() },
		"for":   r.readFor,
	}
	for _, key := range []string{"needs", "parameters", "tables", "derived", "record", "protect", "guards", "stages", "figures", "report"} {
		fields[key] = func(n document.Node) { parts[key] = n }
	}
	root.Fields(fields, "procedure", "for", "needs", "stages")
	if r.plate != nil {
		for name, q := range r.plate.Ratings {
			r.p.Constants["nameplate."+name] = q
		}
	}
	r.readNeeds(parts["needs"])
	r.readParameters(root, parts["parameters"])
	r.readTables(parts["tables"])
	r.readDerived(parts["derived"])
	if n := parts["record"]; n.Present() {
		r.p.Record = r.readRecord(n)
		r.record = r.p.Record
	}
	r.readProtect(parts["protect"])
	for _, n := range parts["guards"].Items() {
		r.readGuard(n, 0, math.MaxInt)
	}
	stages := parts["stages"]
	r.readStages(stages)
	if stages.Present() && len(r.p.Stages) == 0 {
		stages.Fail("the procedure has no stage")
	}
	r.resolveJumps()
	for _, n := range parts["figures"].Items() {
		r.readFigure(n)
	}
	if report := parts["report"]; report.Present() {
		report.Fields(map[string]func(document.Node){"curves": func(n document.Node) {
			for _, c := range n.Items() {
				r.readCurve(c)
			}
		}})
	}
}

func (r *reader) readFor(n document.Node) {
	r.p.For = n.Text()
	switch {
	case r.p.For == "any" || r.p.For == "":
	case r.plate == nil:
		n.Fail("nameplate %q is not known; push it first, or name its file", r.p.For)
	case r.plate.Name != r.p.For:
		n.Fail("the procedure is for %q, but the nameplate given is %q", r.p.For, r.plate.Name)
	}
}

func (r *reader) readNeeds(n document.Node) {
	for _, e := range n.Entries() {
		kind, ok := seats.KindOf(e.Key)
		if !ok {
			e.At.Fail("unknown seat %q; %s", e.Key, document.Suggest(e.Key, seats.Names()))
			continue
		}
		seat := Seat{Name: e.Key, Kind: kind, Ratings: map[string]float64{}}
		fields := map[string]func(document.Node){}
		for _, q := range append(slices.Clone(kind.Reads), kind.Sets...) {
			if k, ok := quantity.KindOf(q); ok && q != "limited" {
				fields[q] = func(n document.Node) { seat.Ratings[q] = n.Quantity(k.Unit.Dim).Value }
			}
		}
		if kind.Switches() {
			fields["sense"] = func(n document.Node) { seat.Sense = n.Word("remote", "local") }
		}
		if len(kind.Modes) > 0 {
			fields["modes"] = func(n document.Node) {
				for _, m := range n.Items() {
					seat.Modes = append(seat.Modes, m.Word(kind.Modes...))
				}
			}
		}
		e.Value.Fields(fields)
		r.p.Seats = append(r.p.Seats, seat)
	}
	var names []string
	for _, s := range r.p.Seats {
		names = append(names, s.Name)
	}
	r.p.Columns = seats.ColumnsFor(names)
}

var parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

func (r *reader) readParameters(root, n document.Node) {
	r.given = map[string]bool{}
	for _, e := range n.Entries() {
		if !parameterName.MatchString(e.Key) || e.Key == "elapsed" {
			e.At.Fail("%q is not a name of a parameter; use small letters, digits and underscores", e.Key)
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
			p.Min = r.value(low, q.Dim)
		}
		if high.Present() {
			p.Max = r.value(high, q.Dim)
		}
		if q.Value < p.Min || q.Value > p.Max {
			e.At.Fail("parameter %s is %s, outside its bounds %s", p.Name, q, boundsWords(p, q.Dim))
		}
		r.p.Parameters = append(r.p.Parameters, p)
	}
	for _, name := range slices.Sorted(maps.Keys(r.values)) {
		if !r.given[name] {
			root.Fail("there is no parameter %q to give a value to; %s", name, document.Suggest(name, slices.Collect(maps.Keys(r.given))))
		}
	}
}

func boundsWords(p Parameter, dim quantity.Dimension) string {
	return windowWords(nameplate.Window{Min: p.Min, Max: p.Max}, func(x float64) string { return quantity.Quantity{Value: x, Dim: dim}.String() })
}

// parameter is the value given for the run, else the rating it is taken from, else its value in the document.
func (r *reader) parameter(e document.Entry, value, from document.Node) (quantity.Quantity, bool) {
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
	if given.Dim != q.Dim {
		e.At.Fail("the value given for parameter %s, %q, is %s, but it takes %s", e.Key, text, given.Dim, q.Dim)
		return q, false
	}
	return given, true
}

// value reads a quantity, a parameter, a rating or an expression of them, of the given dimension.
func (r *reader) value(n document.Node, dim quantity.Dimension) float64 {
	if text := n.Text(); text != "" {
		x, _ := r.valueOf(n, text, 1, dim)
		return x
	}
	return 0
}

// valueOf computes a text that begins at a column of a node. A C-rate is a current when the nameplate states the capacity.
func (r *reader) valueOf(n document.Node, text string, column int, dim quantity.Dimension) (float64, bool) {
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
		q = quantity.Quantity{Value: q.Value * capacity / 3600, Dim: quantity.Current}
	}
	if q.Dim != dim {
		n.FailAt(column, "%q is %s, but here belong %s", text, q.Dim, dim)
		return 0, false
	}
	if math.IsNaN(q.Value) || math.IsInf(q.Value, 0) {
		n.FailAt(column, "%q has no finite value", text)
		return 0, false
	}
	return q.Value, true
}

// condition compiles a condition to see that it is sound, and returns its text.
func (r *reader) condition(n document.Node) string {
	text := n.Text()
	c, err := condition.Compile(text, r.p.Scope)
	switch {
	case err != nil:
		n.FailAt(columnOf(err), "%s", err)
	case c.Fixed():
		n.Fail("the condition depends on nothing that is measured, so it always or never holds")
	}
	return text
}

// expression compiles an expression to see that it is sound, and gives its dimension.
func (r *reader) expression(n document.Node) (quantity.Dimension, bool) {
	e, err := condition.CompileExpression(n.Text(), r.p.Scope)
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

// readGuard reads a guard that is watched in the stages from one index to another, the latter excluded.
func (r *reader) readGuard(n document.Node, from, to int) {
	g := Guard{From: from, To: to, Locals: maps.Clone(r.locals)}
	n.Fields(map[string]func(document.Node){
		"when": func(n document.Node) { g.When = r.condition(n) },
		"do":   func(n document.Node) { g.Warn = n.Word("trip", "warn") == "warn" },
		"note": func(n document.Node) { g.Note = n.Text() },
	}, "when")
	r.p.Guards = append(r.p.Guards, g)
}

func (r *reader) seat(name string) (Seat, bool) {
	i := slices.IndexFunc(r.p.Seats, func(s Seat) bool { return s.Name == name })
	if i < 0 {
		return Seat{}, false
	}
	return r.p.Seats[i], true
}

func (r *reader) seatNames() (names []string) {
	for _, s := range r.p.Seats {
		names = append(names, s.Name)
	}
	return names
}

// settable looks up a quantity that can be set, such as "source.volts", and fails at the node if it cannot.
func (r *reader) settable(n document.Node, column string) (seat Seat, q string, ok bool) {
	name, q, _ := strings.Cut(column, ".")
	seat, ok = r.seat(name)
	if !ok {
		n.Fail("unknown seat %q; %s", name, document.Suggest(name, r.seatNames()))
		return seat, q, false
	}
	if !slices.Contains(seat.Kind.Sets, q) {
		n.Fail("%q cannot be set on %s; %s", q, name, document.Suggest(q, seat.Kind.Sets))
		return seat, q, false
	}
	return seat, q, true
}

// bounded checks a setpoint against what the seat must be able to do and the nameplate's safe window.
func (r *reader) bounded(n document.Node, seat Seat, q string, value float64) {
	column := seat.Name + "." + q
	kind, _ := quantity.KindOf(q)
	show := func(x float64) string { return quantity.Quantity{Value: x, Dim: kind.Unit.Dim}.String() }
	if value < 0 && !(seat.Kind.Name == "cycler" && q == "amps") {
		n.Fail("%s = %s: a setpoint is not negative", column, show(value))
	}
	if most, ok := seat.Ratings[q]; ok && math.Abs(value) > most {
		n.Fail("%s = %s is above the %s that needs asks of the seat; raise needs or lower the setpoint", column, show(value), show(most))
		return
	}
	if r.plate == nil {
		return
	}
	if w, ok := r.plate.Windows[column]; ok && !w.Holds(value) {
		n.Fail("%s = %s is outside the safe window of nameplate %s, %s", column, show(value), r.plate.Name, windowWords(w, show))
	}
}

func windowWords(w nameplate.Window, show func(float64) string) string {
	switch {
	case math.IsInf(w.Min, -1):
		return "up to " + show(w.Max)
	case math.IsInf(w.Max, 1):
		return "from " + show(w.Min)
	}
	return show(w.Min) + " to " + show(w.Max)
}

func unknownName(name string, words []string) error {
	return fmt.Errorf("%q is not known; %s", name, document.Suggest(name, words))
}
