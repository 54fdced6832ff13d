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
// parameters, given as text by name. The error is a document.Findings with everything that is wrong.
func Parse(text []byte, plate *nameplate.Nameplate, values map[string]string) (*Program, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	r := &reader{plate: plate, values: values, p: &Program{Every: 0.1, LostAfter: 2, Constants: map[string]quantity.Quantity{}, Protect: map[string]map[string]float64{}}}
	r.read(doc.Root())
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	return r.p, nil
}

type reader struct {
	p      *Program
	plate  *nameplate.Nameplate
	values map[string]string
	given  map[string]bool // parameters that the procedure has
}

// read goes through the document in the order in which names become known, whatever the order of the text.
func (r *reader) read(root document.Node) {
	var needs, parameters, record, protect, guards, stages, figures, report document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	root.Fields(map[string]func(document.Node){
		"procedure": func(n document.Node) {
			if r.p.Name = n.Text(); !nameplate.NamePattern.MatchString(r.p.Name) {
				n.Fail("%q is not a name; use small letters, digits and hyphens, beginning with a letter", r.p.Name)
			}
		},
		"title": func(n document.Node) { r.p.Title = n.Text() },
		"for":   r.readFor,
		"needs": keep(&needs), "parameters": keep(&parameters), "record": keep(&record), "guards": keep(&guards),
		"protect": keep(&protect),
		"stages":  keep(&stages), "figures": keep(&figures), "report": keep(&report),
	}, "procedure", "for", "needs", "stages")
	if r.plate != nil {
		for name, q := range r.plate.Ratings {
			r.p.Constants["nameplate."+name] = q
		}
	}
	r.readNeeds(needs)
	r.readParameters(root, parameters)
	if record.Present() {
		record.Fields(map[string]func(document.Node){"every": func(n document.Node) {
			if r.p.Every = r.value(n, quantity.Time); r.p.Every <= 0 {
				n.Fail("frames are recorded every so many ms; the interval must be more than 0")
			}
		}}, "every")
	}
	r.readProtect(protect)
	for _, n := range guards.Items() {
		r.readGuard(n)
	}
	for i, n := range stages.Items() {
		r.readStage(i, n)
	}
	if stages.Present() && len(r.p.Stages) == 0 {
		stages.Fail("the procedure has no stage")
	}
	for _, n := range figures.Items() {
		r.readFigure(n)
	}
	if report.Present() {
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
		var value, from document.Node
		e.Value.Fields(map[string]func(document.Node){
			"value": func(n document.Node) { value = n },
			"from":  func(n document.Node) { from = n },
			"about": func(n document.Node) { n.Text() },
		})
		q, ok := r.parameter(e, value, from)
		if ok {
			r.p.Constants[e.Key] = q
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.values)) {
		if !r.given[name] {
			root.Fail("there is no parameter %q to give a value to; %s", name, document.Suggest(name, slices.Collect(maps.Keys(r.given))))
		}
	}
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
	text := n.Text()
	if text == "" {
		return 0
	}
	q, err := condition.Value(text, r.p.constant)
	if err != nil {
		n.FailAt(columnOf(err), "%s", err)
		return 0
	}
	if q.Dim != dim {
		n.Fail("%q is %s, but here belong %s", text, q.Dim, dim)
		return 0
	}
	if math.IsNaN(q.Value) || math.IsInf(q.Value, 0) {
		n.Fail("%q has no finite value", text)
		return 0
	}
	return q.Value
}

// condition compiles a condition to see that it is sound, and returns its text.
func (r *reader) condition(n document.Node) string {
	text := n.Text()
	if _, err := condition.Compile(text, r.p.Scope); err != nil {
		n.FailAt(columnOf(err), "%s", err)
	}
	return text
}

func columnOf(err error) int {
	var mistake *condition.Error
	if errors.As(err, &mistake) {
		return mistake.Column
	}
	return 1
}

func (r *reader) readGuard(n document.Node) {
	var g Guard
	n.Fields(map[string]func(document.Node){
		"when": func(n document.Node) { g.When = r.condition(n) },
		"do":   func(n document.Node) { n.Word("trip") },
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
