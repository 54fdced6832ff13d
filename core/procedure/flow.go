package procedure

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
)

// Library gives the text of another procedure, for use.
type Library func(name string) (text string, err error)

// readRepeat writes a loop. Over a list of values each pass is written out, so that every setpoint of it is
// known beforehand.
func (r *Reader) readRepeat(c *Common, n document.Node) Action {
	var times, until, over document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){"times": keep(&times), "until": keep(&until), "over": keep(&over)})
	if !c.stages.Present() {
		c.at.Fail("there is nothing to repeat; give stages")
		return nil
	}
	outer := r.path
	defer func() { r.path = outer }()
	if over.Present() {
		if times.Present() || until.Present() {
			over.Fail("a loop over values ends with the last of them; times and until belong to another loop around it")
		}
		if !over.IsMap() && over.Text() == Contracts {
			r.repeatOverContracts(c, over)
			return nil
		}
		r.repeatOver(c, over)
		return nil
	}
	loop := &Repeat{}
	if times.Present() {
		loop.Times = r.Whole(times, 1, mostPasses)
	}
	var later []document.Node
	switch {
	case until.IsMap():
		later = []document.Node{until}
	case until.IsList():
		later = until.Items()
	case until.Present():
		loop.Until = r.Condition(until)
	}
	if !times.Present() && !until.Present() && n.IsMap() {
		n.Fail("the loop never ends: give times, until or over")
	}
	if until.Present() && !times.Present() {
		until.Fail("the loop may never end: say how many times at most")
	}
	head := len(r.p.Stages)
	c.Stage.Action = loop
	r.p.Stages = append(r.p.Stages, c.Stage)
	r.path = append(slices.Clone(outer), c.Name)
	r.readStages(c.stages)
	for _, n := range later { // its figures are fed by the stages of the loop
		if b, ok := r.readBand(n); ok {
			loop.Enough = append(loop.Enough, b)
		}
	}
	r.bounded(c, loop, head)
	loop.End = len(r.p.Stages) + 1
	r.p.Stages = append(r.p.Stages, Stage{Name: c.Name, Path: c.Path, Line: c.Line, Action: &Again{head}, Record: c.Record,
		Tries: 1, at: c.at})
	return nil
}

// mostPasses bounds a loop, mostSteps what all passes of a loop and of those in it come to.
const (
	mostPasses = 1_000_000
	mostSteps  = 10_000_000
)

// bounded refuses a loop whose passes take no time, and one that would take more steps than any test has use for.
func (r *Reader) bounded(c *Common, loop *Repeat, head int) {
	inside := r.p.Stages[head+1:]
	if loop.Until == "" && len(loop.Enough) == 0 && len(inside) > 0 && !slices.ContainsFunc(inside, Stage.TakesTime) {
		c.at.Fail("a pass of the loop takes no time, so that nobody could look between two of them; give it a stage that " +
			"does, such as hold or rest")
	}
	if n := float64(max(loop.Times, 1)) * steps(r.p.Stages, head+1, len(r.p.Stages)); n > mostSteps {
		c.at.Fail("the loop takes %s steps with all its passes; at most %d are done", quantity.Digits(n, 3), mostSteps)
	}
}

// steps is how many stages are entered from one index to another, loops and all.
func steps(stages []Stage, from, to int) (sum float64) {
	for i := from; i < to; i++ {
		if loop, ok := stages[i].Action.(*Repeat); ok {
			sum += float64(max(loop.Times, 1)) * steps(stages, i+1, loop.End-1)
			i = loop.End - 1
			continue
		}
		sum++
	}
	return sum
}

// Whole reads a whole number, or a parameter that is one.
func (r *Reader) Whole(n document.Node, least, most int) int {
	if !parameterName.MatchString(n.Text()) {
		return n.Whole(least, most)
	}
	x := r.Value(n, quantity.Number)
	if x != math.Trunc(x) || x < float64(least) || x > float64(most) {
		n.Fail("%s is %g; here belongs a whole number from %d to %d", n.Text(), x, least, most)
		return least
	}
	return int(x)
}

// repeatOver writes the stages once for each value of a list of parameters.
func (r *Reader) repeatOver(c *Common, over document.Node) {
	type list struct {
		name   string
		values []document.Node
	}
	var lists []list
	for _, e := range over.Entries() {
		if !parameterName.MatchString(e.Key) {
			e.At.Fail("%q is not a name of a parameter; use small letters, digits and underscores", e.Key)
			continue
		}
		lists = append(lists, list{e.Key, e.Value.Items()})
	}
	if len(lists) == 0 || len(lists[0].values) == 0 {
		over.Fail("the loop has no values; write it like over: {level: [1 A, 2 A, 4 A]}")
		return
	}
	outer, path := r.locals, r.path
	constants := maps.Clone(r.p.Constants)
	defer func() { r.locals, r.p.Constants = outer, constants }()
	for i := range lists[0].values {
		r.locals = maps.Clone(outer)
		if r.locals == nil {
			r.locals = map[string]quantity.Quantity{}
		}
		r.p.Constants = maps.Clone(constants)
		var words []string
		for _, l := range lists {
			if len(l.values) != len(lists[0].values) {
				over.Fail("the lists are not equally long: %s has %d values, %s has %d", lists[0].name, len(lists[0].values),
					l.name, len(l.values))
				return
			}
			q, ok := r.constantOf(l.values[i])
			if !ok {
				continue
			}
			r.locals[l.name], r.p.Constants[l.name] = q, q
			words = append(words, l.name+" "+q.String())
		}
		r.path = append(slices.Clone(path), fmt.Sprintf("%s, %s", c.Name, strings.Join(words, ", ")))
		r.readStages(c.stages)
		if len(r.p.Stages) > mostStages {
			return
		}
	}
}

// constantOf reads any constant quantity.
func (r *Reader) constantOf(n document.Node) (quantity.Quantity, bool) {
	q, err := condition.Value(n.Text(), r.p.constant)
	if err != nil {
		n.FailAt(columnOf(err), "%s", err)
	}
	return q, err == nil
}

// readWhen writes a choice between stages.
func (r *Reader) readWhen(c *Common, n document.Node) Action {
	w := &When{Min: math.Inf(-1), Max: math.Inf(1)}
	if n.IsMap() {
		r.readWhenFigure(w, n)
	} else {
		w.If = r.Condition(n)
	}
	if !c.stages.Present() {
		c.at.Fail("there is nothing to choose; give stages")
		return nil
	}
	path := r.path
	r.path = append(slices.Clone(path), c.Name)
	defer func() { r.path = path }()
	c.Stage.Action = w
	r.p.Stages = append(r.p.Stages, c.Stage)
	r.readStages(c.stages)
	skip := &Skip{}
	r.p.Stages = append(r.p.Stages, Stage{Name: c.Name, Path: c.Path, Line: c.Line, Action: skip, Record: c.Record,
		Tries: 1, at: c.at})
	w.Otherwise = len(r.p.Stages)
	r.readStages(c.otherwiseStages)
	skip.To = len(r.p.Stages)
	return nil
}

func (r *Reader) readWhenFigure(w *When, n document.Node) {
	if b, ok := r.readBand(n); ok {
		w.Figure, w.Min, w.Max = &b.Figure, b.Min, b.Max
	}
}

// readBand reads a figure of the run so far with the band in which something is done.
func (r *Reader) readBand(n document.Node) (Band, bool) {
	b := Band{Min: math.Inf(-1), Max: math.Inf(1)}
	f, ok := r.readRequest(n, map[string]func(document.Node){
		"min": func(document.Node) {}, "max": func(document.Node) {},
	})
	if !ok {
		return b, false
	}
	unit := unitOf(f)
	for _, e := range n.Entries() {
		switch e.Key {
		case "min":
			b.Min = r.Value(e.Value, unit.Dim) / unit.Factor
		case "max":
			b.Max = r.Value(e.Value, unit.Dim) / unit.Factor
		}
	}
	if math.IsInf(b.Min, 0) && math.IsInf(b.Max, 0) {
		n.Fail("it depends on nothing; give min or max of the figure")
	}
	b.Figure = f
	return b, true
}

// BandOf reads a figure of what a stage leaves behind that is being read, with its band.
func (r *Reader) BandOf(c *Common, a Action, n document.Node) (Band, bool) {
	s := c.Stage
	s.Action = a
	r.p.Stages, r.ofStage = append(r.p.Stages, s), s.Name
	defer func() { r.p.Stages, r.ofStage = r.p.Stages[:len(r.p.Stages)-1], "" }()
	b, ok := r.readBand(n)
	if ok && (b.Figure.Stage != s.Name || !s.feeds(b.Figure.Definition.Needs)) {
		n.Fail("%s is no figure of this stage alone", b.Figure.ID)
		return b, false
	}
	return b, ok
}

// inside is where the reader is when it reads a procedure that another uses.
type inside struct {
	name string
	line int // of the use in the outermost document
}

// deepestUse bounds procedures that use others.
const deepestUse = 5

// readUse writes the stages and guards of another procedure, with values for its parameters.
func (r *Reader) readUse(c *Common, n document.Node) Action {
	name := n.Text()
	if name == "" {
		return nil
	}
	if r.library == nil {
		n.Fail("procedure %q is not known; push it first, or keep its file beside this one", name)
		return nil
	}
	if slices.Contains(r.using, name) || name == r.p.Name {
		n.Fail("%s uses itself: %s", name, strings.Join(append(append([]string{r.p.Name}, r.using...), name), " → "))
		return nil
	}
	if len(r.using) >= deepestUse {
		n.Fail("procedures use one another more than %d deep", deepestUse)
		return nil
	}
	text, err := r.library(name)
	if err != nil {
		n.Fail("procedure %q cannot be used: %s", name, err)
		return nil
	}
	r.p.Used[name] = text
	values := map[string]string{}
	for _, e := range c.with.Entries() {
		if q, ok := r.constantOf(e.Value); ok {
			values[e.Key] = exact(q)
		}
	}
	if offer, given := r.values[Contracts]; given {
		values[Contracts] = offer
	}
	r.inline(c, n, name, text, values)
	return nil
}

// exact writes a quantity so that it is read back as it is.
func exact(q quantity.Quantity) string {
	for _, symbol := range []string{quantity.Symbol(q.Dim), "Ah", "Wh", "C", "g", "V/s", "K/s", "A/s", "Ah/g"} {
		if u, err := quantity.ParseUnit(symbol); err == nil && u.Dim == q.Dim {
			return fmt.Sprintf("%.14g %s", q.Value/u.Factor, symbol)
		}
	}
	return fmt.Sprintf("%.14g", q.Value)
}

// inline reads another procedure with this program's seats and adds what it does.
func (r *Reader) inline(c *Common, n document.Node, name, text string, values map[string]string) {
	doc, err := document.Parse([]byte(text))
	if err != nil {
		n.Fail("procedure %s: %s", name, err)
		return
	}
	scratch := &Program{Name: r.p.Name, Seats: r.p.Seats, Columns: r.p.Columns, Constants: map[string]quantity.Quantity{},
		Answers: r.p.Answers, Used: r.p.Used, Asked: slices.Clone(r.p.Asked),
		Protect: map[string]map[string]float64{}}
	line, _ := n.Position()
	if r.inside != nil {
		line = r.inside.line
	}
	sub := &Reader{p: scratch, plate: r.plate, values: values, library: r.library, language: r.language,
		using: append(slices.Clone(r.using),
			name), tables: maps.Clone(r.tables),
		rows: r.rows, segments: r.segments, record: c.Record, path: append(slices.Clone(r.path), c.Name),
		inside: &inside{name: name, line: line}}
	sub.readUsed(doc.Root())
	for _, f := range doc.Findings() {
		n.Fail("in %s, line %d: %s", name, f.Line, f.Message)
	}
	for _, column := range scratch.Columns { // what it names becomes a column of the whole
		r.hasColumn(column)
	}
	for _, name := range scratch.Asked {
		r.addAsked(name)
	}
	base := len(r.p.Stages)
	locals := maps.Clone(scratch.Constants)
	for _, s := range scratch.Stages {
		merged := maps.Clone(locals)
		maps.Copy(merged, s.Locals)
		s.Locals = merged
		switch a := s.Action.(type) {
		case *Repeat:
			a.End += base
		case *Again:
			a.Head += base
		case *When:
			a.Otherwise += base
		case *Skip:
			a.To += base
		}
		s.Goto += base
		r.p.Stages = append(r.p.Stages, s)
	}
	for _, g := range scratch.Guards {
		if g.To == math.MaxInt {
			g.To = base + len(scratch.Stages)
		} else {
			g.To += base
		}
		g.From += base
		merged := maps.Clone(locals)
		maps.Copy(merged, g.Locals)
		g.Locals = merged
		r.p.Guards = append(r.p.Guards, g)
	}
	for name, data := range scratch.Pictures {
		if r.p.Pictures == nil {
			r.p.Pictures = map[string][]byte{}
		}
		r.p.Pictures[name] = data
	}
	r.segments = sub.segments
}

// readUsed reads of a used procedure what matters here: parameters, tables, guards and stages. Its seats must
// be among the present.
func (r *Reader) readUsed(root document.Node) {
	if r.plate != nil {
		for name, q := range r.plate.Ratings {
			r.p.Constants["nameplate."+name] = q
		}
	}
	parts := map[string]document.Node{}
	for _, e := range root.Entries() {
		parts[e.Key] = e.Value
	}
	for _, e := range parts["needs"].Entries() {
		if _, ok := r.Seat(e.Key); !ok {
			e.At.Fail("it needs a seat %q that the procedure that uses it does not need", e.Key)
		}
	}
	r.readParameters(root, parts["parameters"])
	r.readTables(parts["tables"])
	r.readPictures(parts["pictures"])
	r.readAsked(parts["asked"])
	for _, n := range parts["guards"].Items() {
		r.readGuard(n, 0, math.MaxInt)
	}
	r.readStages(parts["stages"])
	r.resolveJumps()
}

// ErrNoLibrary is what a Library says when it has no such procedure.
var ErrNoLibrary = errors.New("there is no such procedure")
