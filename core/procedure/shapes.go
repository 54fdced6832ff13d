package procedure

import (
	"errors"
	"math"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/shape"
)

// shapeContext is what a shape is read for.
type shapeContext struct {
	seat, quantity string
	dim            quantity.Dimension
	depth          int
	level          *float64 // at which the shape stands; nil: not known yet
}

// Shape reads a list of segments for a quantity of a seat; nil if something is wrong with it.
func (r *Reader) Shape(n document.Node, seat, q string, dim quantity.Dimension) *shape.Shape {
	return r.readShape(n, shapeContext{seat: seat, quantity: q, dim: dim})
}

func (r *Reader) readShape(n document.Node, c shapeContext) *shape.Shape {
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

func (r *Reader) readSegment(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
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

func (r *Reader) readTableSegment(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
	var segments []shape.Segment
	steps, ok := false, false
	var name document.Node
	n.Fields(map[string]func(document.Node){
		"table": func(n document.Node) { name = n },
		"join":  func(n document.Node) { steps = n.Word("lines", "steps") == "steps" },
	}, "table")
	table, found := r.Table(name)
	if !found {
		return nil, false
	}
	if table.Listed {
		name.Fail("the table is a list of setpoints without times, for a grid; add a column time [s] or duration [s]")
		return nil, false
	}
	i, err := table.Pick(c.seat, c.quantity)
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

func (r *Reader) readRepeated(n document.Node, c shapeContext) ([]shape.Segment, bool) {
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

func (r *Reader) readSum(n document.Node, c shapeContext) ([]shape.Segment, bool) {
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

func (r *Reader) readProfile(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
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
		fields[p.Name] = func(n document.Node) { values[p.Name] = r.Value(n, dim) }
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
func (r *Reader) readPhrase(n document.Node, c *shapeContext) ([]shape.Segment, bool) {
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
		x, good := r.ValueOf(n, arg.Text, arg.Column, dim)
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
