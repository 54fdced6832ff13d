package nameplate

import (
	"fmt"
	"slices"

	"usherbench/core/document"
	"usherbench/core/serials"
)

// Production is what a nameplate says of how its units go through the tests:
//
//	serials: {form: "TN-{year:2}{week}-{count:4}{check}", others: warn}
//	parts:
//	  board: {serials: "B-{digits:5}"}
//	  coil: {about: who wound it, required: no}
//	retest: {attempts: 3, counts: last}
//	reseats: 2
//	card: {routine: [tern-acceptance], type: [tern-validation], optional: [tern-soak], at failure: stop}
type Production struct {
	// Serials is what serial numbers look like; StrangeSerials lets others through with a warning.
	Serials        serials.Pattern
	StrangeSerials bool
	Parts          []Part
	Retest         Retest
	// Reseats is how often a unit whose contact is open may be put in anew before that counts as a failure.
	Reseats int
	Card    Card
}

// UsualReseats is how often a unit may be put in anew where its nameplate says nothing.
const UsualReseats = 2

// Part is a named piece of a unit, with a serial number of its own or a text.
type Part struct {
	Name, About string
	Serials     serials.Pattern
	Required    bool
}

// Retest says which attempt of a unit counts, and how many there may be; 0: as many as one likes.
type Retest struct {
	Attempts int
	First    bool
}

// Card lists the procedures that a unit must pass: each of routine, and of type for one that stands for its type;
// optional ones count where they were run.
type Card struct {
	Routine, Type, Optional []string
	// GoOn runs what is left after a failure.
	GoOn bool
}

// Procedures are all of a card, routine first.
func (c Card) Procedures() []string { return slices.Concat(c.Routine, c.Type, c.Optional) }

// ReseatsOf is how often a unit of a nameplate may be put in anew; of none the usual.
func ReseatsOf(p *Nameplate) int {
	if p == nil {
		return UsualReseats
	}
	return p.Reseats
}

// fields are the keys of a nameplate that are about its units in production.
func (p *Production) fields() map[string]func(document.Node) {
	p.Reseats = UsualReseats
	return map[string]func(document.Node){
		"serials": p.readSerials,
		"parts":   p.readParts,
		"retest":  p.readRetest,
		"reseats": func(n document.Node) { p.Reseats = n.Whole(0, 20) },
		"card":    p.readCard,
	}
}

func readPattern(to *serials.Pattern) func(document.Node) {
	return func(n document.Node) {
		var err error
		if *to, err = serials.Parse(n.Text()); err != nil {
			n.Fail("%s", err)
		}
	}
}

func (p *Production) readSerials(n document.Node) {
	if !n.IsMap() {
		readPattern(&p.Serials)(n)
		return
	}
	n.Fields(map[string]func(document.Node){
		"form":   readPattern(&p.Serials),
		"others": func(n document.Node) { p.StrangeSerials = n.Word("refuse", "warn") == "warn" },
	}, "form")
}

func (p *Production) readParts(n document.Node) {
	for _, e := range n.Entries() {
		part := Part{Name: e.Key, Required: true}
		if !ratingName.MatchString(e.Key) {
			e.At.Fail("%q is not a name of a part; use small letters, digits and underscores", e.Key)
			continue
		}
		e.Value.Fields(map[string]func(document.Node){
			"about":    func(n document.Node) { part.About = n.Text() },
			"serials":  readPattern(&part.Serials),
			"required": func(n document.Node) { part.Required = n.Word("yes", "no") == "yes" },
		})
		p.Parts = append(p.Parts, part)
	}
}

func (p *Production) readRetest(n document.Node) {
	n.Fields(map[string]func(document.Node){
		"attempts": func(n document.Node) { p.Retest.Attempts = n.Whole(1, 1000) },
		"counts":   func(n document.Node) { p.Retest.First = n.Word("last", "first") == "first" },
	})
}

func (p *Production) readCard(n document.Node) {
	seen := map[string]bool{}
	names := func(to *[]string) func(document.Node) {
		return func(n document.Node) {
			for _, item := range n.Items() {
				name := item.Text()
				switch {
				case !NamePattern.MatchString(name):
					item.Fail("%q is not a name of a procedure", name)
				case seen[name]:
					item.Fail("%s stands twice on the card; keep one", name)
				}
				seen[name] = true
				*to = append(*to, name)
			}
		}
	}
	n.Fields(map[string]func(document.Node){
		"routine":    names(&p.Card.Routine),
		"type":       names(&p.Card.Type),
		"optional":   names(&p.Card.Optional),
		"at failure": func(n document.Node) { p.Card.GoOn = n.Word("stop", "go on") == "go on" },
	})
}

// CheckSerial says what is wrong with the serial number of a unit; refused tells that it must not be tested by it.
func (p Production) CheckSerial(serial string) (refused bool, err error) {
	err = p.Serials.Check(serial)
	return err != nil && !p.StrangeSerials, err
}

// CheckParts says which parts of a unit are missing, unknown, or of another form.
func (p Production) CheckParts(parts map[string]string) error {
	for _, part := range p.Parts {
		text, given := parts[part.Name]
		switch {
		case part.Required && (!given || text == ""):
			return fmt.Errorf("nobody has said which %s is in it", part.Name)
		case given && text != "":
			if err := part.Serials.Check(text); err != nil {
				return fmt.Errorf("%s: %w", part.Name, err)
			}
		}
	}
	for name := range parts {
		if !slices.ContainsFunc(p.Parts, func(x Part) bool { return x.Name == name }) {
			return fmt.Errorf("the nameplate has no part %q", name)
		}
	}
	return nil
}
