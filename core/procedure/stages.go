package procedure

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// mostPlaces bounds a grid; at one point a second it would take a day.
const mostPlaces = 100_000

// mostStages bounds a program after its repeats over values were written out.
const mostStages = 5000

// readStages adds the stages of a list to the program.
func (r *reader) readStages(n document.Node) {
	for _, item := range n.Items() {
		if len(r.p.Stages) > mostStages {
			n.Fail("the procedure has more than %d stages when its repeats are written out", mostStages)
			return
		}
		r.readStage(item)
	}
}

// kindReader reads what a stage does. Kinds that hold other stages add them to the program themselves and return nil.
type kindReader func(c *common, n document.Node) Action

func (r *reader) kinds() map[string]kindReader {
	return map[string]kindReader{
		"set": r.readSet, "hold": r.readHold, "rest": r.readRest, "watch": r.readWatch, "grid": r.readGrid,
		"play": r.readPlay, "seek": r.readSeek,
		"acquire": r.readAcquire, "ask": r.readAsk, "signal": r.readSignal, "charge": r.readCharge,
		"discharge": r.readDischarge,
		"repeat":    r.readRepeat, "when": r.readWhen, "use": r.readUse,
	}
}

// KindWords lists the kinds of stages.
func KindWords() []string { return slices.Sorted(maps.Keys((&reader{}).kinds())) }

// common is a stage while it is read, with the nodes of the keys that every stage may have.
type common struct {
	Stage
	until, within, otherwise, tries, record, guards, stages, otherwiseStages, with document.Node
}

func (r *reader) readStage(n document.Node) {
	line, _ := n.Position()
	c := &common{Stage: Stage{Name: fmt.Sprintf("stage %d", len(r.p.Stages)+1), Path: slices.Clone(r.path), Line: line,
		Else: ElseFail, Tries: 1, at: n,
		Locals: maps.Clone(r.locals), Record: r.record}}
	if r.inside != nil {
		c.Line = r.inside.line
	}
	var kind string
	var what document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	fields := map[string]func(document.Node){
		"name": func(n document.Node) {
			if c.Name = n.Text(); strings.ContainsAny(c.Name, "\n\r") || len(c.Name) > 80 {
				n.Fail("a name of a stage is one line of up to 80 characters")
			}
		},
		"note":  func(n document.Node) { c.Note = n.Text() },
		"until": keep(&c.until), "within": keep(&c.within), "else": keep(&c.otherwise), "tries": keep(&c.tries),
		"record": keep(&c.record), "guards": keep(&c.guards),
		"stages": keep(&c.stages), "otherwise": keep(&c.otherwiseStages), "with": keep(&c.with),
	}
	readers := r.kinds()
	for word := range readers {
		fields[word] = func(n document.Node) {
			if kind != "" {
				n.Fail("the stage does %s and %s; write a stage for each", kind, word)
				return
			}
			kind, what = word, n
		}
	}
	n.Fields(fields)
	switch {
	case !n.IsMap():
		return
	case kind == "":
		n.Fail("the stage says nothing to do; give it one of %s", strings.Join(KindWords(), ", "))
		return
	}
	r.readCommon(c, kind)
	outer := r.record
	r.record = c.Record
	from := len(r.p.Stages)
	c.Action = readers[kind](c, what)
	r.record = outer
	if c.Action != nil {
		r.checkEnd(c, kind, n)
		r.p.Stages = append(r.p.Stages, c.Stage)
	}
	for _, g := range c.guards.Items() {
		r.readGuard(g, from, len(r.p.Stages))
	}
}

// Which kinds wait, so that until and within go with them; which go on failing; which hold other stages.
var (
	waiting   = []string{"set", "hold", "rest", "watch", "play", "charge", "discharge"}
	bounded   = []string{"seek", "ask"}
	composite = []string{"repeat", "when", "use"}
)

func (r *reader) readCommon(c *common, kind string) {
	if c.record.Present() {
		c.Record = r.readRecord(c.record)
	}
	refuse := func(n document.Node, key, why string) {
		if n.Present() {
			n.Fail("%s does not go with %s; %s", key, kind, why)
		}
	}
	switch {
	case slices.Contains(waiting, kind):
		if c.until.Present() {
			c.Until = r.condition(c.until)
		}
		if c.within.Present() {
			c.Within = r.value(c.within, quantity.Time)
		}
	case slices.Contains(bounded, kind):
		refuse(c.until, "until", "it ends by itself")
		if c.within.Present() {
			c.Within = r.value(c.within, quantity.Time)
		}
	default:
		refuse(c.until, "until", "it ends by itself")
		refuse(c.within, "within", "it ends by itself")
	}
	if slices.Contains(composite, kind) || kind == "grid" || kind == "signal" || kind == "acquire" {
		refuse(c.otherwise, "else", "there is nothing that it could fail to reach")
		refuse(c.tries, "tries", "there is nothing that it could fail to reach")
	}
	if kind != "use" {
		refuse(c.with, "with", "it belongs to use")
	}
	if kind != "when" {
		refuse(c.otherwiseStages, "otherwise", "it belongs to when")
	}
	if kind != "repeat" && kind != "when" {
		refuse(c.stages, "stages", "it belongs to repeat and when")
	}
	if c.otherwise.Present() {
		text := c.otherwise.Text()
		if to, ok := strings.CutPrefix(text, "goto "); ok {
			c.Else, c.goesTo = ElseGoto, strings.TrimSpace(to)
		} else {
			c.Else = Otherwise(c.otherwise.Word("fail", "next", "stop", "goto NAME"))
		}
	}
	if c.tries.Present() {
		c.Tries = c.tries.Whole(1, 1000)
	}
}

// checkEnd finds stages that may never end.
func (r *reader) checkEnd(c *common, kind string, n document.Node) {
	known := c.Stage.Duration()
	var stable bool
	switch a := c.Action.(type) {
	case *Hold:
		stable = a.Stable != nil
	case *Rest:
		stable = a.Stable != nil
	}
	switch {
	case !slices.Contains(waiting, kind):
	case (kind == "hold" || kind == "rest") && known == 0 && !stable && c.Until == "":
		n.Fail("the %s never ends: give it for, until or stable", kind)
	case (c.Until != "" || stable) && !c.within.Present() && known == 0 && kind != "watch":
		at := c.until
		if !at.Present() {
			at = n
		}
		at.Fail("the stage may never end: say within which time the condition must hold")
	case c.Within > 0 && c.Until == "" && !stable && kind != "charge" && kind != "discharge":
		c.within.Fail("within bounds a wait, but there is no until to wait for")
	}
}

// resolveJumps finds the stages that else leads to: the next one of that name, else the first.
func (r *reader) resolveJumps() {
	for i := range r.p.Stages {
		s := &r.p.Stages[i]
		if s.Else != ElseGoto {
			continue
		}
		s.Goto = -1
		var names []string
		for k := range r.p.Stages {
			at := (i + 1 + k) % len(r.p.Stages)
			target := r.p.Stages[at]
			if Control(target.Action) {
				continue
			}
			names = append(names, target.Name)
			if target.Name == s.goesTo && s.Goto < 0 {
				s.Goto = at
			}
		}
		if s.Goto < 0 {
			s.at.Fail("else: no stage has the name %q; %s", s.goesTo, document.Suggest(s.goesTo, names))
		}
	}
}

func (r *reader) readSet(_ *common, n document.Node) Action {
	return &Set{r.readSettings(n, true)}
}

// readSettings reads what is set on which seats, in a safe order unless it says otherwise.
func (r *reader) readSettings(n document.Node, ordered bool) (settings []Setting) {
	asWritten := false
	for _, e := range n.Entries() {
		if e.Key == "order" && ordered {
			asWritten = e.Value.Word("safe", "as written") == "as written"
			continue
		}
		seat, ok := r.seat(e.Key)
		if !ok {
			e.At.Fail("unknown seat %q; %s", e.Key, document.Suggest(e.Key, r.seatNames()))
			continue
		}
		for _, q := range e.Value.Entries() {
			if s, ok := r.readSetting(seat, q); ok {
				settings = append(settings, s)
			}
		}
	}
	if !asWritten {
		inSafeOrder(settings)
	}
	return settings
}

func inSafeOrder(settings []Setting) {
	slices.SortStableFunc(settings, func(a, b Setting) int { return safeRank(a) - safeRank(b) })
}

func (r *reader) readSetting(seat Seat, e document.Entry) (Setting, bool) {
	if _, _, ok := r.settable(e.At, seat.Name+"."+e.Key); !ok {
		return Setting{}, false
	}
	s := Setting{Seat: seat.Name, Quantity: e.Key}
	switch e.Key {
	case "output":
		s.Word = e.Value.Word("on", "off")
	case "mode":
		s.Word = e.Value.Word(seat.Kind.Modes...)
		if s.Word != "" && len(seat.Modes) > 0 && !slices.Contains(seat.Modes, s.Word) {
			e.Value.Fail("mode %s is not among the modes that needs asks of %s", s.Word, seat.Name)
		}
	default:
		kind, _ := quantity.KindOf(e.Key)
		s.Value = r.value(e.Value, kind.Unit.Dim)
		r.bounded(e.Value, seat, e.Key, s.Value)
	}
	return s, true
}

// safeRank orders settings: outputs off (what drains first), then modes, then levels, then outputs on (what
// feeds first).
func safeRank(s Setting) int {
	kind, _ := seats.KindOf(s.Seat)
	switch {
	case s.Quantity == "output" && s.Word == "off" && kind.Drains:
		return 0
	case s.Quantity == "output" && s.Word == "off":
		return 1
	case s.Quantity == "mode":
		return 2
	case s.Quantity != "output":
		return 3
	case !kind.Drains:
		return 4
	}
	return 5
}

func (r *reader) readHold(c *common, n document.Node) Action {
	h := r.holding(c, n)
	return &h
}

// holding reads for, until, stable and within.
func (r *reader) holding(c *common, n document.Node) (h Hold) {
	n.Fields(map[string]func(document.Node){
		"for": func(n document.Node) {
			if h.For = r.value(n, quantity.Time); h.For <= 0 {
				n.Fail("a hold lasts for more than no time")
			}
		},
		"until":  func(n document.Node) { c.until, c.Until = n, r.condition(n) },
		"stable": func(n document.Node) { h.Stable = r.readStable(n) },
		"within": func(n document.Node) { c.within, c.Within = n, r.value(n, quantity.Time) },
	})
	return h
}

// readRest reads a hold before which every output is switched off.
func (r *reader) readRest(c *common, n document.Node) Action {
	rest := &Rest{Hold: r.holding(c, n)}
	for _, s := range r.p.Seats {
		if s.Kind.Switches() {
			rest.Settings = append(rest.Settings, Setting{Seat: s.Name, Quantity: "output", Word: "off"})
		}
	}
	inSafeOrder(rest.Settings)
	return rest
}

// readWatch reads a stage that only records; without for and until it goes on until somebody ends it.
func (r *reader) readWatch(c *common, n document.Node) Action {
	h := r.holding(c, n)
	if h.Stable != nil {
		n.Fail("watch ends by for, until or by hand; use hold to wait until something is stable")
	}
	return &Watch{For: h.For}
}

func (r *reader) readStable(n document.Node) *Stable {
	s := &Stable{}
	var band document.Node
	n.Fields(map[string]func(document.Node){
		"quantity": func(n document.Node) {
			if s.Column = n.Text(); r.p.Columns.Index(s.Column) < 0 {
				n.Fail("%s", unknownName(s.Column, r.p.Columns))
			}
		},
		"window": func(n document.Node) { s.Window = r.value(n, quantity.Time) },
		"band":   func(n document.Node) { band = n },
	}, "quantity", "window", "band")
	if kind, ok := quantity.KindOfColumn(s.Column); ok && band.Present() {
		s.Band = r.value(band, kind.Unit.Dim.Per(quantity.Time))
	}
	return s
}
