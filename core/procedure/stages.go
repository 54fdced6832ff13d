package procedure

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
)

// MostPlaces bounds a grid; at one point a second it would take a day.
const MostPlaces = 100_000

// mostStages bounds a program after its repeats over values were written out.
const mostStages = 5000

// Kind is one kind of stage: how it is written, and what it may carry. How it runs is said by its actions, which the
// stage machine executes.
type Kind struct {
	// Word is the key of the document, About a few words for completion and the language reference.
	Word, About string
	// Keys says which of until, within, else and tries go with it.
	Keys Keys
	// Read reads what a stage does. A nil action is none that the program must execute.
	Read func(*Reader, *Common, document.Node) Action
}

// Keys says which of the common keys go with a kind.
type Keys int

// What goes with a kind.
const (
	Plain   Keys = iota // none: it ends by itself, and there is nothing that it could fail to reach
	Bounded             // within, else and tries: it ends by itself, or in vain
	Waits               // until as well
)

// flowKinds are the kinds that hold other stages; they are part of the language itself.
func flowKinds() []Kind {
	return []Kind{
		{Word: "repeat", About: "does stages again", Read: (*Reader).readRepeat},
		{Word: "when", About: "chooses between stages", Read: (*Reader).readWhen},
		{Word: "use", About: "does what another procedure does", Read: (*Reader).readUse},
	}
}

// KindList lists the kinds of stages by their words, those that hold others included.
func (l Language) KindList() []Kind {
	all := slices.Concat(l.Kinds, flowKinds())
	slices.SortFunc(all, func(a, b Kind) int { return strings.Compare(a.Word, b.Word) })
	return all
}

// KindWords lists the words of the kinds of stages.
func (l Language) KindWords() (words []string) {
	for _, k := range l.KindList() {
		words = append(words, k.Word)
	}
	return words
}

// readStages adds the stages of a list to the program.
func (r *Reader) readStages(n document.Node) {
	for _, item := range n.Items() {
		if len(r.p.Stages) > mostStages {
			n.Fail("the procedure has more than %d stages when its repeats are written out", mostStages)
			return
		}
		r.readStage(item)
	}
}

// Common is a stage while it is read, with the nodes of the keys that every stage may have.
type Common struct {
	Stage
	until, within, otherwise, tries, record, guards, stages, otherwiseStages, with, state, asks document.Node
}

func (r *Reader) readStage(n document.Node) {
	c := r.newCommon(n)
	kind, what, ok := r.readKeys(c, n)
	if !ok {
		return
	}
	r.readCommon(c, kind)
	outer := r.record
	r.record = c.Record
	from := len(r.p.Stages)
	c.Action = kind.Read(r, c, what)
	r.record = outer
	if c.Action != nil {
		if kind.Keys == Waits {
			r.checkEnd(c, n)
		}
		r.p.Stages = append(r.p.Stages, c.Stage)
	}
	for _, g := range c.guards.Items() {
		r.readGuard(g, from, len(r.p.Stages))
	}
}

// newCommon is a stage of which nothing has been read.
func (r *Reader) newCommon(n document.Node) *Common {
	line, _ := n.Position()
	if r.inside != nil {
		line = r.inside.line
	}
	return &Common{Stage: Stage{
		Name: fmt.Sprintf("stage %d", len(r.p.Stages)+1), Path: slices.Clone(r.path), Line: line, Else: ElseFail, Tries: 1,
		at: n, Locals: maps.Clone(r.locals), Record: r.record,
	}}
}

// readKeys reads the keys of a stage: those of every stage, and the one that says what it does.
func (r *Reader) readKeys(c *Common, n document.Node) (kind Kind, what document.Node, ok bool) {
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	fields := map[string]func(document.Node){
		"name": func(n document.Node) {
			if c.Name = n.Text(); strings.ContainsAny(c.Name, "\n\r") || len(c.Name) > 80 {
				n.Fail("a name of a stage is one line of up to 80 characters")
			}
		},
		"note":  func(n document.Node) { c.Note = n.Text() },
		"state": keep(&c.state), "asks": keep(&c.asks),
		"until": keep(&c.until), "within": keep(&c.within), "else": keep(&c.otherwise), "tries": keep(&c.tries),
		"record": keep(&c.record), "guards": keep(&c.guards), "stages": keep(&c.stages),
		"otherwise": keep(&c.otherwiseStages), "with": keep(&c.with),
	}
	for _, k := range r.language.KindList() {
		fields[k.Word] = func(n document.Node) {
			if kind.Word != "" {
				n.Fail("the stage does %s and %s; write a stage for each", kind.Word, k.Word)
				return
			}
			kind, what = k, n
		}
	}
	n.Fields(fields)
	if kind.Word == "" && n.IsMap() {
		n.Fail("the stage says nothing to do; give it one of %s", strings.Join(r.language.KindWords(), ", "))
	}
	return kind, what, kind.Word != ""
}

// readCommon reads the keys that every stage may have, and refuses those that do not go with its kind.
func (r *Reader) readCommon(c *Common, kind Kind) {
	if c.record.Present() {
		c.Record = r.readRecord(c.record)
	}
	refuse := func(n document.Node, key, why string) {
		if n.Present() {
			n.Fail("%s does not go with %s; %s", key, kind.Word, why)
		}
	}
	if kind.Keys == Waits {
		r.Until(c, c.until)
	} else {
		refuse(c.until, "until", "it ends by itself")
	}
	if kind.Keys == Plain {
		refuse(c.within, "within", "it ends by itself")
		refuse(c.otherwise, "else", "there is nothing that it could fail to reach")
		refuse(c.tries, "tries", "there is nothing that it could fail to reach")
	} else {
		r.Within(c, c.within)
	}
	if c.state.Present() {
		c.State = c.state.Text()
		if err := record.CheckState(c.State); err != nil {
			c.state.Fail("%s", err)
		}
	}
	c.Asks = r.readAsks(c.asks)
	if slices.ContainsFunc(flowKinds(), func(k Kind) bool { return k.Word == kind.Word }) {
		refuse(c.state, "state", "it belongs to the stages in it")
		refuse(c.asks, "asks", "it belongs to the stages in it")
	}
	if kind.Word != "use" {
		refuse(c.with, "with", "it belongs to use")
	}
	if kind.Word != "when" {
		refuse(c.otherwiseStages, "otherwise", "it belongs to when")
	}
	if kind.Word != "repeat" && kind.Word != "when" {
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

// Until reads the condition that ends a stage, if there is one.
func (r *Reader) Until(c *Common, n document.Node) {
	if n.Present() {
		c.until, c.Until = n, r.Condition(n)
	}
}

// Within reads the bound of a wait, if there is one.
func (r *Reader) Within(c *Common, n document.Node) {
	if n.Present() {
		if c.within, c.Stage.Within = n, r.Value(n, quantity.Time); c.Stage.Within < 0 {
			n.Fail("a time within which something comes is not less than 0")
		}
	}
}

// checkEnd finds stages that may never end.
func (r *Reader) checkEnd(c *Common, n document.Node) {
	var ends Ends
	if e, ok := c.Action.(Ending); ok {
		ends = e.Ends()
	}
	word, known := c.Kind(), c.Stage.Duration()
	switch {
	case ends.Needed && known == 0 && !ends.Waits && c.Until == "":
		n.Fail("the %s never ends: give it for, until or stable", word)
	case (c.Until != "" || ends.Waits) && !c.within.Present() && known == 0 && !ends.Open:
		at := c.until
		if !at.Present() {
			at = n
		}
		at.Fail("the stage may never end: say within which time the condition must hold")
	case c.Stage.Within > 0 && c.Until == "" && !ends.Waits && !ends.Bounded:
		c.within.Fail("within bounds a wait, but there is no until to wait for")
	}
}

// resolveJumps finds the stages that else leads to: the next one of that name, else the first.
func (r *Reader) resolveJumps() {
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

// Settings reads what is set on which seats, in a safe order unless it says otherwise.
func (r *Reader) Settings(n document.Node, ordered bool) (settings []Setting) {
	asWritten := false
	for _, e := range n.Entries() {
		if e.Key == "order" && ordered {
			asWritten = e.Value.Word("safe", "as written") == "as written"
			continue
		}
		seat, ok := r.Seat(e.Key)
		if !ok {
			e.At.Fail("unknown seat %q; %s", e.Key, document.Suggest(e.Key, r.SeatNames()))
			continue
		}
		for _, q := range e.Value.Entries() {
			if s, ok := r.readSetting(seat, q); ok {
				settings = append(settings, s)
			}
		}
	}
	if !asWritten {
		InSafeOrder(settings)
	}
	return settings
}

// InSafeOrder sorts settings so that they can be carried out one after the other.
func InSafeOrder(settings []Setting) {
	slices.SortStableFunc(settings, SafeBefore)
}

func (r *Reader) readSetting(seat Seat, e document.Entry) (Setting, bool) {
	if _, _, ok := r.Settable(e.At, seat.Name+"."+e.Key); !ok {
		return Setting{}, false
	}
	s := Setting{Seat: seat.Name, Quantity: e.Key}
	switch e.Key {
	case seats.Output:
		s.Word = e.Value.Word(seats.On, seats.Off)
	case seats.Mode:
		s.Word = e.Value.Word(seat.Kind.Modes...)
		if s.Word != "" && len(seat.Modes) > 0 && !slices.Contains(seat.Modes, s.Word) {
			e.Value.Fail("mode %s is not among the modes that needs asks of %s", s.Word, seat.Name)
		}
	default:
		kind, _ := quantity.KindOf(e.Key)
		s.Value = r.Value(e.Value, kind.Unit.Dim)
		r.Bounded(e.Value, seat, e.Key, s.Value)
	}
	return s, true
}

// rank is the place of a setting in the safe order.
func (s Setting) rank() int { return seats.Rank(s.Seat, s.Quantity, s.Word) }

// SafeBefore compares two settings for slices.SortFunc: what is set first comes first.
func SafeBefore(a, b Setting) int { return a.rank() - b.rank() }
