package kinds

import (
	"encoding/json"
	"fmt"
	"regexp"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// AskKind asks the operator.
var AskKind = procedure.Kind{
	Word: "ask", About: "asks the operator", Keys: procedure.Bounded, Read: readAsk,
}

// Ask is a prompt to the operator.
type Ask struct{ stage.Prompt }

// Kind implements procedure.Action.
func (*Ask) Kind() string { return "ask" }

// Prompting implements stage.Prompting.
func (a *Ask) Prompting() *stage.Prompt { return &a.Prompt }

// Words implements procedure.Worded.
func (a *Ask) Words() string { return string(a.Form) + ": " + a.Text }

// Run implements stage.Runnable.
func (a *Ask) Run(p *stage.Parts) stage.Runner {
	return &askRunner{name: p.Stage.Name, spec: &a.Prompt, within: p.Stage.Within}
}

var answerName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// readAsk reads a prompt: one of confirm, number, text, choice, serial, picture with its words. A picture beside
// another of them is one that the operator sees.
func readAsk(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	a := &Ask{}
	var low, high, unitNode, choice, into, picture document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	fields := map[string]func(document.Node){"unit": keep(&unitNode), "min": keep(&low), "max": keep(&high),
		"choices": keep(&choice), "into": keep(&into),
		"picture": keep(&picture)}
	for _, form := range []stage.AskForm{stage.AskConfirm, stage.AskNumber, stage.AskText, stage.AskChoice,
		stage.AskSerial} {
		fields[string(form)] = func(n document.Node) {
			if a.Form != "" {
				n.Fail("the stage asks for %s and %s; write a stage for each", a.Form, form)
			}
			a.Form, a.Text = form, n.Text()
		}
	}
	n.Fields(fields)
	switch {
	case !n.IsMap():
		return a
	case a.Form != "" && picture.Present(): // the operator sees one beside the question
		a.Picture = r.Picture(picture)
	case picture.Present(): // the question is for one
		a.Form, a.Text = stage.AskPicture, picture.Text()
	case a.Form == "":
		n.Fail("say what is asked: confirm, number, text, choice, serial or picture, with the words for the operator")
		return a
	}
	only := func(n document.Node, key string, form stage.AskForm) {
		if n.Present() && a.Form != form {
			n.Fail("%s goes with %s only", key, form)
		}
	}
	only(unitNode, "unit", stage.AskNumber)
	only(low, "min", stage.AskNumber)
	only(high, "max", stage.AskNumber)
	only(choice, "choices", stage.AskChoice)
	for _, item := range choice.Items() {
		a.Choice = append(a.Choice, item.Text())
	}
	if a.Form == stage.AskChoice && len(a.Choice) < 2 {
		n.Fail("a choice needs choices, two at least")
	}
	if into.Present() {
		if a.Into = into.Text(); !answerName.MatchString(a.Into) {
			into.Fail("%q is not a name of an answer; use small letters, digits and underscores", a.Into)
		}
	}
	if a.Form != stage.AskNumber {
		return a
	}
	if !into.Present() {
		n.Fail("a number is asked for to be used: name it with into, and conditions know it as answer.NAME")
		return a
	}
	a.Unit = unitNode.Text()
	unit, err := a.AnswerUnit()
	if err != nil {
		unitNode.Fail("%s", err)
		return a
	}
	bound := func(n document.Node) *float64 {
		if !n.Present() {
			return nil
		}
		x := r.Value(n, unit.Dim) / unit.Factor
		return &x
	}
	a.Min, a.Max = bound(low), bound(high)
	if a.Min != nil && a.Max != nil && *a.Min > *a.Max {
		low.Fail("min is above max; swap them")
	}
	r.WillAnswer(a.Into, unit.Dim)
	return a
}

// askRunner waits for the operator.
type askRunner struct {
	stage.Idle
	name   string
	spec   *stage.Prompt
	within float64
	wait   stage.Wait
}

func (r *askRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.wait = stage.Wait{Since: m.Now()}
	return r.Asked(), stage.GoesOn
}

// asked gives the prompt that is waited for.
func (r *askRunner) Asked() []stage.Effect { return []stage.Effect{r.prompt()} }

func (r *askRunner) prompt() stage.Ask {
	a := stage.Ask{Prompt: *r.spec, T: r.wait.Since, Stage: r.name}
	if r.within > 0 {
		a.Until = r.wait.Since + r.within
	}
	return a
}

func (r *askRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if r.within > 0 && f.T-r.wait.Since > r.within {
		return []stage.Effect{stage.Dismiss{}}, m.InVain(fmt.Sprintf("nobody answered within %s", stage.Seconds(r.within)))
	}
	return nil, stage.GoesOn
}

// answered takes the answer; a prompt to confirm that is answered with no has not been reached.
func (r *askRunner) Answered(m *stage.Machine, e stage.Answered) ([]stage.Effect, stage.Verdict) {
	x, err := stage.AnswerOf(r.spec, e.Text)
	if err != nil {
		return nil, stage.GoesOn
	}
	name := r.spec.Into
	if name == "" {
		name = r.name
	}
	said := e.Text
	if r.spec.Form == stage.AskPicture {
		said = "picture " + e.Text
	}
	m.Reply(name, said)
	if r.spec.Form == stage.AskNumber {
		m.Answer(r.spec.Into, x)
	}
	effects := []stage.Effect{stage.Dismiss{}, stage.NewMark(e.T, record.MarkAnswer, fmt.Sprintf("%s answered %s: %s %s",
		e.By, name, said, r.spec.Unit))}
	if r.spec.Form == stage.AskConfirm && e.Text == "no" {
		return effects, m.InVain(e.By + " answered no")
	}
	return effects, stage.Over
}

func (r *askRunner) Leave() []stage.Effect { return []stage.Effect{stage.Dismiss{}} }

func (r *askRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	if r.within <= 0 {
		return 0, 0, "waits for the operator"
	}
	past := m.Now() - r.wait.Since
	return min(past/r.within, 1), 0, "waits for the operator"
}

func (r *askRunner) Shift(s float64)        { r.wait.Since += s }
func (r *askRunner) Save() any              { return r.wait }
func (r *askRunner) Load(data []byte) error { return json.Unmarshal(data, &r.wait) }
