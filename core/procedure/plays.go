package procedure

import (
	"errors"
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/shape"
)

// mostSegments bounds all shapes of a procedure together.
const mostSegments = 5 * shape.MostSegments

// defaultPace is how often the service sets what moves.
const defaultPace = 20e-3

// readTables reads the tables that travel with the document: {dip.csv: "time [s],volts [V]\n…"}.
func (r *reader) readTables(n document.Node) {
	for _, e := range n.Entries() {
		table, err := shape.ReadCSV(strings.NewReader(e.Value.Text() + "\n"))
		if err != nil {
			e.Value.Fail("table %s: %s", e.Key, err)
			continue
		}
		r.tables[e.Key] = table
	}
}

// readPlay reads quantities with their shapes, and times, by and pace.
func (r *reader) readPlay(_ *common, n document.Node) Action {
	p := &Play{Times: 1, By: ByEither, Pace: defaultPace}
	asked := false
	for _, e := range n.Entries() {
		switch e.Key {
		case "times":
			p.Times = e.Value.Whole(1, 1_000_000)
		case "by":
			p.By = PlayedBy(e.Value.Word(string(ByEither), string(ByService), string(ByInstrument)))
		case "pace":
			if p.Pace = r.value(e.Value, quantity.Time); p.Pace < 1e-3 {
				e.Value.Fail("the service sets levels every ms at most; give a pace of 1 ms or more")
			}
		default:
			asked = true
			if t, ok := r.readTrack(e); ok {
				p.Tracks = append(p.Tracks, t)
			}
		}
	}
	if !asked {
		n.Fail("nothing is played; give a quantity and its shape, as in source.volts: [hold 2 s at 48 V]")
	}
	return p
}

func (r *reader) readTrack(e document.Entry) (Track, bool) {
	seat, q, ok := r.settable(e.At, e.Key)
	if !ok {
		return Track{}, false
	}
	kind, ok := quantity.KindOf(q)
	if !ok {
		e.At.Fail("%s is switched, not played; choose a quantity with a unit", e.Key)
		return Track{}, false
	}
	if r.segments > mostSegments {
		return Track{}, false // a finding has said so
	}
	s := r.readShape(e.Value, shapeContext{seat: seat, quantity: q, dim: kind.Unit.Dim})
	if s == nil {
		return Track{}, false
	}
	if r.segments += len(s.Segments); r.segments > mostSegments {
		e.Value.Fail("the shapes of the procedure have more than %d segments when its repeats are written out", mostSegments)
		return Track{}, false
	}
	low, high := s.Extremes()
	r.bounded(e.Value, seat, q, low)
	if high != low {
		r.bounded(e.Value, seat, q, high)
	}
	return Track{seat.Name, q, s}, true
}

// shapeContext is what a shape is read for.
type shapeContext struct {
	seat     Seat
	quantity string
	dim      quantity.Dimension
	depth    int
	level    *float64 // at which the shape stands; nil: not known yet
}

// readShape reads a list of segments; nil if something is wrong with it.
func (r *reader) readShape(n document.Node, c shapeContext) *shape.Shape {
	if c.depth > 8 {
		n.Fail("the shape nests deeper than 8 lists")
		return nil
	}
	var segments []shape.Segment
	whole := true
	for i, item := range n.Items() {
		part, ok := r.readSegment(item, &c)
		whole = whole && ok
		for _, g := range part {
			if c.depth == 0 {
				g.Item = i
			}
			segments = append(segments, g)
		}
		if len(segments) > shape.MostSegments {
			n.Fail("the shape has more than %d segments when its repeats are written out", shape.MostSegments)
			return nil
		}
		if len(part) > 0 {
			if one, err := shape.New(part[len(part)-1:]); err == nil {
				last := one.Last()
				c.level = &last
			}
		}
	}
	if !whole {
		return nil
	}
	s, err := shape.New(segments)
	if err != nil {
		n.Fail("%s", err)
		return nil
	}
	return s
}

func (r *reader) readSegment(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
	if !n.IsMap() {
		return r.readPhrase(n, c)
	}
	var segments []shape.Segment
	ok := false
	entries := n.Entries()
	if len(entries) == 0 {
		n.Fail("here belongs a segment, such as hold 2 s at 48 V")
		return nil, false
	}
	switch entries[0].Key {
	case "table":
		segments, ok = r.readTableSegment(n, c)
	case "repeat", "of":
		segments, ok = r.readRepeated(n, *c)
	case "sum":
		segments, ok = r.readSum(n, *c)
	case "profile":
		segments, ok = r.readProfile(n, c)
	default:
		entries[0].At.Fail("unknown key %q; %s", entries[0].Key,
			document.Suggest(entries[0].Key, []string{"table", "repeat", "sum", "profile"}))
	}
	return segments, ok
}

func (r *reader) readTableSegment(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
	var segments []shape.Segment
	steps, ok := false, false
	var name document.Node
	n.Fields(map[string]func(document.Node){
		"table": func(n document.Node) { name = n },
		"join":  func(n document.Node) { steps = n.Word("lines", "steps") == "steps" },
	}, "table")
	table, found := r.tables[name.Text()]
	if !found {
		name.Fail("there is no table %q under tables; %s", name.Text(),
			document.Suggest(name.Text(), slices.Collect(maps.Keys(r.tables))))
		return nil, false
	}
	i, err := table.Pick(c.seat.Name, c.quantity)
	switch {
	case err != nil:
		name.Fail("%s", err)
	case table.Dims[i] != c.dim:
		name.Fail("the table's %s is %s, but here belong %s", table.Names[i], table.Dims[i], c.dim)
	default:
		segments, ok = table.Segments(i, steps), true
	}
	return segments, ok
}

func (r *reader) readRepeated(n document.Node, c shapeContext) ([]shape.Segment, bool) {
	times := 1
	var of document.Node
	n.Fields(map[string]func(document.Node){
		"repeat": func(n document.Node) { times = n.Whole(1, shape.MostSegments) },
		"of":     func(n document.Node) { of = n },
	}, "repeat", "of")
	c.depth++
	once := r.readShape(of, c)
	if once == nil {
		return nil, false
	}
	if times*len(once.Segments) > shape.MostSegments {
		n.Fail("the shape has %d segments; at most %d are possible", times*len(once.Segments), shape.MostSegments)
		return nil, false
	}
	var all []shape.Segment
	for i := range times {
		pass := once
		if i == 1 { // the second pass may begin at another level than the first
			last := once.Last()
			c.level = &last
			if pass = r.readShape(of, c); pass == nil {
				return nil, false
			}
			once = pass
		}
		all = append(all, pass.Segments...)
	}
	return all, true
}

func (r *reader) readSum(n document.Node, c shapeContext) ([]shape.Segment, bool) {
	c.depth++
	g := shape.Segment{Kind: shape.Sum}
	ok := true
	n.Fields(map[string]func(document.Node){"sum": func(n document.Node) {
		for _, item := range n.Items() {
			part := c
			part.level = nil
			s := r.readShape(item, part)
			if s == nil {
				ok = false
				continue
			}
			g.Parts = append(g.Parts, s)
			g.For = math.Max(g.For, s.Duration())
		}
	}})
	if ok && len(g.Parts) < 2 {
		n.Fail("a sum adds two shapes at least")
		return nil, false
	}
	return []shape.Segment{g}, ok
}

func (r *reader) readProfile(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
	var profile shape.Profile
	found := false
	for _, e := range n.Entries() {
		if e.Key == "profile" {
			name := e.Value.Text()
			if profile, found = shape.LookupProfile(name); !found {
				e.Value.Fail("unknown profile %q; %s", name, document.Suggest(name, shape.ProfileNames()))
			}
		}
	}
	if !found {
		return nil, false
	}
	values := map[string]float64{}
	fields := map[string]func(document.Node){"profile": func(document.Node) {}}
	for _, p := range profile.Parameters {
		dim := p.Dim
		if p.Level {
			dim = c.dim
		}
		fields[p.Name] = func(n document.Node) { values[p.Name] = r.value(n, dim) }
	}
	n.Fields(fields)
	segments, err := profile.Build(values)
	if err != nil {
		n.Fail("%s", err)
		return nil, false
	}
	return segments, true
}

// readPhrase reads one segment that is written as a phrase.
func (r *reader) readPhrase(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
	p, err := shape.ReadPhrase(n.Text())
	if err != nil {
		var perr *shape.PhraseError
		if errors.As(err, &perr) {
			n.FailAt(perr.Column, "%s", perr.Reason)
		}
		return nil, false
	}
	ok := true
	get := func(key string, dim quantity.Dimension) float64 {
		arg, there := p.Args[key]
		if !there {
			return 0
		}
		x, good := r.valueOf(n, arg.Text, arg.Column, dim)
		ok = ok && good
		return x
	}
	level := func(key string) float64 {
		if _, there := p.Args[key]; there {
			return get(key, c.dim)
		}
		if c.level == nil {
			n.Fail("the shape begins here, so it must say from which level: add %s and a level", key)
			ok = false
			return 0
		}
		return *c.level
	}
	positive := func(key string, x float64) float64 {
		if ok && x <= 0 {
			n.FailAt(p.Args[key].Column, "here belongs more than 0")
			ok = false
		}
		return x
	}
	g := shape.Segment{}
	switch p.Word {
	case "hold":
		g.Kind, g.For, g.From = shape.Hold, positive("", get("", quantity.Time)), level("at")
		g.To = g.From
	case "step":
		g.Kind, g.For, g.From = shape.Hold, positive("for", get("for", quantity.Time)), get("to", c.dim)
		g.To = g.From
	case "ramp", "exponential":
		g.Kind, g.For, g.From, g.To = shape.Ramp, positive("in", get("in", quantity.Time)), level("from"), get("to", c.dim)
		if p.Word == "exponential" {
			g.Kind, g.Tau = shape.Exponential, positive("tau", get("tau", quantity.Time))
		}
	default: // sine, square, triangle
		g.Kind, g.Swing, g.Hertz = shape.Kind(p.Word), get("", c.dim), positive("at", get("at", quantity.Frequency))
		g.For, g.Around, g.Duty = positive("for", get("for", quantity.Time)), level("around"), 0.5
		if _, there := p.Args["duty"]; there {
			if g.Duty = get("duty", quantity.Number); ok && (g.Duty <= 0 || g.Duty >= 1) {
				n.FailAt(p.Args["duty"].Column, "the duty lies between 0 %% and 100 %%")
				ok = false
			}
		}
	}
	if ok && g.For*g.Hertz > shape.MostSegments {
		n.Fail("the segment has more than %d periods", shape.MostSegments)
		ok = false
	}
	return []shape.Segment{g}, ok
}
