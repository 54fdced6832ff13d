package procedure

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"usherbench/core/document"
	"usherbench/core/figure"
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
		return h,
			document.Findings{{Line: 1, Column: 1,
				Message: "this is not a procedure: the key \"procedure\" with a name is missing or odd"}}
	}
	return h, doc.Findings().Err()
}

// Language is what a document may say: which kinds of stages and which figures there are.
type Language struct {
	Kinds   []Kind
	Figures figure.Catalogue
}

// Parse checks a procedure and resolves it with a nameplate (nil for a procedure that is for any unit) and values
// for its parameters, given as text by name. library gives the procedures that it may use; nil: it may use none.
// The error is a document.Findings with everything that is wrong.
func (l Language) Parse(text []byte, plate *nameplate.Nameplate, values map[string]string,
	library Library) (*Program, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	r := newReader(l, plate, values, library)
	r.read(doc.Root())
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	return r.p, nil
}

// Reader reads a document into a program. What is wrong it notes at the node, and goes on.
type Reader struct {
	language Language
	p        *Program
	plate    *nameplate.Nameplate
	values   map[string]string
	given    map[string]bool // parameters that the procedure has
	library  Library
	tables   map[string]*shape.Table
	rows     map[string]int // rows that a stage fills, and its line
	record   Record         // the rule in force
	locals   map[string]quantity.Quantity
	path     []string
	using    []string // procedures that are being read, outermost first
	inside   *inside
	ofStage  string // of which a figure is that names no stage; empty: it must
	segments int    // of all shapes together
}

func newReader(l Language, plate *nameplate.Nameplate, values map[string]string, library Library) *Reader {
	return &Reader{language: l, plate: plate, values: values, library: library, tables: map[string]*shape.Table{},
		rows: map[string]int{}, record: Record{Every: 0.1}, p: &Program{
			LostAfter: 2, Record: Record{Every: 0.1}, Constants: map[string]quantity.Quantity{},
			Protect: map[string]map[string]float64{},
			Answers: map[string]quantity.Dimension{}, Used: map[string]string{},
		}}
}

// read goes through the document in the order in which names become known, whatever the order of the text.
func (r *Reader) read(root document.Node) {
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
	for _, key := range []string{"needs", "parameters", "tables", "pictures", "asked", "derived", "record", "resume",
		"protect", "may trip", "guards", "triggers", "stages", "figures", "report"} {
		fields[key] = func(n document.Node) { parts[key] = n }
	}
	root.Fields(fields, "procedure", "for", "needs", "stages")
	if r.plate != nil {
		r.p.Windows = r.plate.Windows
		for name, q := range r.plate.Ratings {
			r.p.Constants["nameplate."+name] = q
		}
	}
	r.readNeeds(parts["needs"])
	r.readParameters(root, parts["parameters"])
	r.readTables(parts["tables"])
	r.readPictures(parts["pictures"])
	r.readAsked(parts["asked"])
	r.readDerived(parts["derived"])
	if n := parts["record"]; n.Present() {
		r.p.Record = r.readRecord(n)
		r.record = r.p.Record
	}
	r.readResume(parts["resume"])
	r.readProtect(parts["protect"])
	r.readMayTrip(parts["may trip"])
	for _, n := range parts["guards"].Items() {
		r.readGuard(n, 0, math.MaxInt)
	}
	stages := parts["stages"]
	r.readStages(stages)
	if stages.Present() && len(r.p.Stages) == 0 {
		stages.Fail("the procedure has no stage")
	}
	r.resolveJumps()
	r.checkOffer(root)
	r.watchBattery()
	for _, n := range parts["triggers"].Items() {
		r.readTrigger(n)
	}
	for _, n := range parts["figures"].Items() {
		r.readFigure(n)
	}
	if report := parts["report"]; report.Present() {
		report.Fields(map[string]func(document.Node){
			"curves": func(n document.Node) {
				for _, c := range n.Items() {
					r.readCurve(c)
				}
			},
			"sections": func(n document.Node) {
				for _, c := range n.Items() {
					r.p.Sections = append(r.p.Sections, c.Word(ReportSections...))
				}
			},
		})
	}
}

func (r *Reader) readFor(n document.Node) {
	r.p.For = n.Text()
	switch {
	case r.p.For == "any" || r.p.For == "":
	case r.plate == nil:
		n.Fail("nameplate %q is not known; push it first, or name its file", r.p.For)
	case r.plate.Name != r.p.For:
		n.Fail("the procedure is for %q, but the nameplate given is %q", r.p.For, r.plate.Name)
	}
}

func (r *Reader) readNeeds(n document.Node) {
	for _, e := range n.Entries() {
		kind, ok := seats.KindOf(e.Key)
		if !ok {
			e.At.Fail("unknown seat %q; %s", e.Key, document.Suggest(e.Key, seats.Names()))
			continue
		}
		seat := Seat{Name: e.Key, Kind: kind, Ratings: map[string]float64{}, Choices: map[string]string{}}
		fields := map[string]func(document.Node){}
		for _, q := range append(slices.Clone(kind.Reads), kind.Sets...) {
			if k, ok := quantity.KindOf(q); ok && !k.State && !k.Parts.Places {
				fields[q] = func(n document.Node) { seat.Ratings[q] = n.Quantity(k.Unit.Dim).Value }
			}
		}
		for _, choice := range kind.Choices {
			fields[choice.Name] = func(n document.Node) { seat.Choices[choice.Name] = n.Word(choice.Words...) }
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

// The rule by which a battery goes on, when the procedure says nothing.
const restBefore, awayWithin = 60.0, 24 * 3600.0

// readResume reads never, always, or {rest: 5 min, within: 12 h}.
func (r *Reader) readResume(n document.Node) {
	r.p.Resume = Resume{Allowed: r.plate.Battery(), Rest: restBefore, Within: awayWithin}
	switch {
	case !n.Present():
	case n.IsMap():
		r.p.Resume.Allowed = true
		n.Fields(map[string]func(document.Node){
			"rest":   func(n document.Node) { r.p.Resume.Rest = r.Value(n, quantity.Time) },
			"within": func(n document.Node) { r.p.Resume.Within = r.Value(n, quantity.Time) },
		})
		if r.p.Resume.Rest < 0 || r.p.Resume.Within <= 0 {
			n.Fail("rest is a time, and within more than 0 s")
		}
	default:
		r.p.Resume.Allowed = n.Word("never", "always") == "always"
	}
}

var parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// What is kept about an event unless it is said, and at most: so long before it and after it, s, of so many events.
const (
	usualPast, mostPast     = 0.5, 5.0
	usualAfter, mostAfter   = 2.0, 3600.0
	usualEvents, mostEvents = 100, 10_000
)

// readGuard reads a guard that is watched in the stages from one index to another, the latter excluded.
func (r *Reader) readGuard(n document.Node, from, to int) {
	g := Guard{From: from, To: to, Locals: maps.Clone(r.locals)}
	s := Stretch{Past: usualPast, For: usualAfter, Most: usualEvents}
	var about []document.Node
	bounded := func(to *float64, most float64) func(document.Node) {
		return func(n document.Node) {
			about = append(about, n)
			if *to = r.Value(n, quantity.Time); *to < 0 || *to > most {
				n.Fail("here belongs a time of at most %s", SpanWords(most))
			}
		}
	}
	do := "trip"
	n.Fields(map[string]func(document.Node){
		"when": func(n document.Node) { g.When = r.Condition(n) },
		"do":   func(n document.Node) { do = n.Word("trip", "reseat", "warn", "record") },
		"note": func(n document.Node) { g.Note = n.Text() },
		"past": bounded(&s.Past, mostPast),
		"for":  bounded(&s.For, mostAfter),
		"most": func(n document.Node) { about = append(about, n); s.Most = n.Whole(1, mostEvents) },
	}, "when")
	g.Warn, g.Reseat = do == "warn" || do == "record", do == "reseat"
	if do == "record" {
		g.Record = &s
	} else if len(about) > 0 {
		about[0].Fail("this goes with do: record, which keeps every frame about an event")
	}
	r.p.Guards = append(r.p.Guards, g)
}

// Program is the program as far as it has been read.
func (r *Reader) Program() *Program { return r.p }

// Plate is the nameplate of the unit; nil for a procedure that is for any unit.
func (r *Reader) Plate() *nameplate.Nameplate { return r.plate }

// Fills notes that a stage fills a row.
func (r *Reader) Fills(row string, line int) { r.rows[row] = line }

// WillAnswer notes a number that the operator is asked for.
func (r *Reader) WillAnswer(name string, dim quantity.Dimension) { r.p.Answers[name] = dim }

// Table finds a table that travels with the document, and fails at the node if there is none of that name.
func (r *Reader) Table(n document.Node) (*shape.Table, bool) {
	table, found := r.tables[n.Text()]
	if !found {
		n.Fail("there is no table %q under tables; %s", n.Text(), document.Suggest(n.Text(),
			slices.Collect(maps.Keys(r.tables))))
	}
	return table, found
}

// mostSegments bounds all shapes of a procedure together.
const mostSegments = 5 * shape.MostSegments

// CountSegments adds to the segments of all shapes, and fails at the node when they become too many. After that
// it stays false without another finding.
func (r *Reader) CountSegments(n document.Node, more int) bool {
	if r.segments > mostSegments {
		return false
	}
	if r.segments += more; r.segments > mostSegments {
		n.Fail("the shapes of the procedure have more than %d segments when its repeats are written out", mostSegments)
		return false
	}
	return true
}

// Seat finds a seat that the procedure needs.
func (r *Reader) Seat(name string) (Seat, bool) {
	i := slices.IndexFunc(r.p.Seats, func(s Seat) bool { return s.Name == name })
	if i < 0 {
		return Seat{}, false
	}
	return r.p.Seats[i], true
}

// SeatNames lists the seats that the procedure needs.
func (r *Reader) SeatNames() (names []string) {
	for _, s := range r.p.Seats {
		names = append(names, s.Name)
	}
	return names
}

// Settable looks up a quantity that can be set, such as "source.volts", and fails at the node if it cannot.
func (r *Reader) Settable(n document.Node, column string) (seat Seat, q string, ok bool) {
	name, q, _ := strings.Cut(column, ".")
	seat, ok = r.Seat(name)
	if !ok {
		n.Fail("unknown seat %q; %s", name, document.Suggest(name, r.SeatNames()))
		return seat, q, false
	}
	if !slices.Contains(seat.Kind.Sets, q) {
		n.Fail("%q cannot be set on %s; %s", q, name, document.Suggest(q, seat.Kind.Sets))
		return seat, q, false
	}
	return seat, q, true
}

// Bounded checks a setpoint against what the seat must be able to do and the nameplate's safe window.
func (r *Reader) Bounded(n document.Node, seat Seat, q string, value float64) {
	column := seat.Name + "." + q
	kind, _ := quantity.KindOf(q)
	show := func(x float64) string { return quantity.Quantity{Value: x, Dim: kind.Unit.Dim}.String() }
	if err := kind.MayBe(value); err != nil {
		n.Fail("%s", err)
	}
	if value < 0 && !seat.Kind.Signed(q) {
		n.Fail("%s = %s: a setpoint is not negative", column, show(value))
	}
	if most, ok := seat.Ratings[q]; ok && math.Abs(value) > most {
		n.Fail("%s = %s is above the %s that needs asks of the seat; raise needs or lower the setpoint", column, show(value),
			show(most))
		return
	}
	if r.plate == nil {
		return
	}
	if w, ok := r.plate.Windows[column]; ok && !w.Holds(value) {
		n.Fail("%s = %s is outside the safe window of nameplate %s, %s", column, show(value), r.plate.Name,
			windowWords(w, show))
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

// UnknownName says that a name is not known, and which may be meant.
func UnknownName(name string, words []string) error {
	return fmt.Errorf("%q is not known; %s", name, document.Suggest(name, words))
}
