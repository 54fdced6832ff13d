package procedure

import (
	"math"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/waveform"
)

// Trigger has captures taken of what happens seldom, all through a run, whatever stage it is in. A stage that
// captures goes before it.
type Trigger struct {
	// Name is that of its captures, as a stage's is of those that it takes.
	Name, Note string
	// When is the condition in which a capture is taken at once; empty: the scope waits for its own trigger.
	When string
	Seat string
	// Setup is what the scope is told.
	Setup waveform.Setup
	// Worst and Newest are how many captures are kept: those that go furthest, and those that came last.
	Worst, Newest int
	// Pause is the least time between two, s.
	Pause float64
}

// Shooting is a capture that can be taken beside stages.
type Shooting interface {
	Capturing
	// Shoots says by which seat, and what it is told; why is what it has that only a stage can do, empty if nothing.
	Shoots() (seat string, setup waveform.Setup, why string)
}

// Defaults and bounds of what is kept of a trigger.
const (
	usualWorst, usualNewest = 5, 5
	mostKeptCaptures        = 100
	usualTriggerPause       = 1.0 // s
	leastTriggerPause       = 0.1
)

// readTrigger reads {name: dips, when: "load.volts < 14 V", capture: {…}, keep: {worst: 5, newest: 5}, pause: 1 s}.
func (r *Reader) readTrigger(n document.Node) {
	g := Trigger{Worst: usualWorst, Newest: usualNewest, Pause: usualTriggerPause}
	var name, when, capture document.Node
	n.Fields(map[string]func(document.Node){
		"name":    func(n document.Node) { name, g.Name = n, n.Text() },
		"note":    func(n document.Node) { g.Note = n.Text() },
		"when":    func(n document.Node) { when, g.When = n, r.Condition(n) },
		"capture": func(n document.Node) { capture = n },
		"keep": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"worst":  func(n document.Node) { g.Worst = n.Whole(0, mostKeptCaptures) },
				"newest": func(n document.Node) { g.Newest = n.Whole(0, mostKeptCaptures) },
			})
			if g.Worst+g.Newest == 0 {
				n.Fail("none would be kept; say how many of the worst or of the newest are")
			}
		},
		"pause": func(n document.Node) {
			if g.Pause = r.Value(n, quantity.Time); g.Pause < leastTriggerPause {
				n.Fail("between two captures there is %s at least", SpanWords(leastTriggerPause))
			}
		},
	}, "name", "capture")
	if !capture.Present() || !name.Present() {
		return // said already
	}
	for _, s := range r.p.Stages {
		if s.Name == g.Name {
			name.Fail("a stage has the name %q already", g.Name)
		}
	}
	for _, other := range r.p.Triggers {
		switch {
		case other.Name == g.Name:
			name.Fail("another trigger has the name %q already", g.Name)
		case other.When == "" && !when.Present():
			capture.Fail("the scope already waits for the trigger of %q; it has one", other.Name)
		}
	}
	r.readShot(&g, when, capture)
	r.p.Triggers = append(r.p.Triggers, g)
}

// readShot reads what a trigger captures, as a stage that captures has it.
func (r *Reader) readShot(g *Trigger, when, capture document.Node) {
	kind, ok := kindOf(r.language.Kinds, "capture")
	if !ok {
		capture.Fail("this language captures nothing")
		return
	}
	shot, ok := kind.Read(r, &Common{Stage: Stage{Name: g.Name}}, capture).(Shooting)
	if !ok {
		return
	}
	var why string
	g.Seat, g.Setup, why = shot.Shoots()
	g.Setup.Within = math.Inf(1)
	switch {
	case why != "":
		capture.Fail("%s, which only a stage can", why)
	case when.Present() && g.Setup.Trigger != nil:
		when.Fail("the scope has a trigger of its own; give one of the two")
	case !when.Present() && g.Setup.Trigger == nil:
		capture.Fail("say when: a condition, or the scope's own trigger")
	}
}

func kindOf(kinds []Kind, word string) (Kind, bool) {
	for _, k := range kinds {
		if k.Word == word {
			return k, true
		}
	}
	return Kind{}, false
}

// TriggerCondition compiles the condition of a trigger; nil: the scope waits for its own.
func (p *Program) TriggerCondition(g Trigger) (*condition.Condition, error) {
	if g.When == "" {
		return nil, nil
	}
	return condition.Compile(g.When, p.Scope)
}

// Beyond is how far a capture goes beyond the level that triggered it, or by how much its first channel changes where
// no level did, with its unit.
func (g Trigger) Beyond(channels []record.Channel) (beyond float64, unit string) {
	for _, c := range channels {
		t := g.Setup.Trigger
		switch {
		case t == nil:
			return c.High - c.Low, c.Unit
		case t.Channel == c.Name && t.Falling:
			return t.Level - c.Low, c.Unit
		case t.Channel == c.Name:
			return c.High - t.Level, c.Unit
		}
	}
	return 0, ""
}
