package report

import (
	"fmt"
	"time"

	"usherbench/core/outcome"
)

// medium is what a report is written onto: paper, or a page of the web. Everything that a report says goes through it,
// so that both say the same.
type medium interface {
	// head is the beginning: what kind of report it is, of what, and its outcome in two words, of which the first is as
	// the record has it; without an outcome there is no badge.
	head(h head)
	// facts are two columns of a word and what it is.
	facts(columns [2][]fact)
	section(title string)
	// row is a row of a table, height in mm and size in pt.
	row(cells []cell, height, size float64)
	// note is a paragraph.
	note(text string, style noteStyle)
	// drawn are pictures, two beside each other, mm.
	drawn(pictures []Picture, width, height float64) error
	// image is a photograph or drawing, PNG or JPEG, with a title and what is said of it.
	image(data []byte, title, about string)
	// photos are several JPEGs beside each other, small.
	photos(all []photo)
	gap(height float64)
	bytes(what string) ([]byte, error)
}

// head is the beginning of a report.
type head struct {
	kind, title, about, warning string
	outcome, outcomeWord        string
	company                     string
	logo                        []byte
}

type fact struct{ word, text string }

// photo is a JPEG with a title and what is said of it.
type photo struct {
	data         []byte
	title, about string
}

// noteStyle is how a paragraph looks.
type noteStyle struct {
	size  float64
	color rgb
	bold  bool
}

var plainNote = noteStyle{size: 8.5, color: mutedColor}

// page is a report that is being written.
type page struct {
	medium
	look Look
}

// inner is the width of what is written, mm.
const inner = 174.0

type rgb struct{ r, g, b int }

var (
	inkColor   = rgb{0x1d, 0x2a, 0x2b}
	mutedColor = rgb{0x5b, 0x6a, 0x6b}
	ruleColor  = rgb{0xdd, 0xd5, 0xc5}
	paperColor = rgb{0xf5, 0xf1, 0xe8}
	liveColor  = rgb{0xf3, 0xb3, 0x3d}
	outcomes   = map[string][2]rgb{ // text, fill
		string(outcome.Pass):         {{0x00, 0x68, 0x4d}, {0xd8, 0xef, 0xe6}},
		string(outcome.Marginal):     {{0x8f, 0x56, 0x00}, {0xfb, 0xe8, 0xc5}},
		string(outcome.Fail):         {{0xa3, 0x23, 0x1c}, {0xf8, 0xdc, 0xd8}},
		string(outcome.Aborted):      {{0xa3, 0x23, 0x1c}, {0xf8, 0xdc, 0xd8}},
		string(outcome.Undetermined): {{0x5b, 0x6a, 0x6b}, {0xec, 0xe6, 0xd9}},
	}
)

// outcomeColors are those of an outcome, or of none.
func outcomeColors(word string) [2]rgb {
	if colors, ok := outcomes[word]; ok {
		return colors
	}
	return outcomes[string(outcome.Undetermined)]
}

type cell struct {
	text  string
	width float64
	align string
	color rgb
	bold  bool
}

// about says what a report is of: its title, what stands at the foot of every page, and when it was, which is the date
// of the file: the same data give the same bytes.
type about struct {
	title, foot string
	at          time.Time
}

// begin begins a report in a format.
func (l Look) begin(format string, a about) (page, error) {
	if err := l.Check(); err != nil {
		return page{}, err
	}
	switch format {
	case "", "pdf":
		return page{newPaper(l, a), l}, nil
	case "html":
		return page{newWeb(l, a), l}, nil
	}
	return page{}, fmt.Errorf("there are no reports as %q; say pdf or html", format)
}

// section begins one in the language of the report.
func (p page) section(title string) { p.medium.section(p.look.say(title)) }

// titled begins a section whose title comes from the record.
func (p page) titled(title string) { p.medium.section(title) }

func (p page) row(cells []cell, height float64) { p.rowIn(cells, height, 8.5) }

// rowIn writes a row in a size, pt. What is aligned to the right is a number.
func (p page) rowIn(cells []cell, height, size float64) {
	for i, c := range cells {
		if c.align == "R" {
			cells[i].text = p.look.number(c.text)
		}
	}
	p.medium.row(cells, height, size)
}

func (p page) remark(text string) { p.medium.note(text, plainNote) }

// heading is a cell of the head of a table.
func (p page) heading(text string, width float64, align string) cell {
	return cell{p.look.say(text), width, align, mutedColor, false}
}

// begun writes the head of a report with the company that it is of.
func (p page) begun(h head) {
	h.kind, h.company, h.logo = p.look.say(h.kind), p.look.Company, p.look.Logo
	if h.outcome != "" && h.outcomeWord == "" {
		h.outcomeWord = p.look.say(h.outcome)
	}
	p.medium.head(h)
}

// known writes facts with their words in the language of the report.
func (p page) known(left, right []fact) {
	for _, facts := range [][]fact{left, right} {
		for i, f := range facts {
			facts[i].word = p.look.say(f.word)
		}
	}
	p.medium.facts([2][]fact{left, right})
}

// pictures draws pictures under a heading, with what somebody has written about them.
func (p page) pictures(all []Picture) error {
	if len(all) == 0 {
		return nil
	}
	p.section("Curves")
	told := map[string]bool{"": true}
	for _, picture := range all {
		if !told[picture.Note] {
			told[picture.Note] = true
			p.remark(picture.Note)
		}
	}
	return p.drawn(all, 85, 58)
}

// signatures are lines for those who sign.
func (p page) signatures() {
	if len(p.look.Signatures) == 0 {
		return
	}
	p.section("Signatures")
	p.row([]cell{p.heading("", 44, "L"), p.heading("Name", 50, "L"), p.heading("Date", 30, "L"),
		p.heading("Signature", 50, "L")}, 6)
	for _, who := range p.look.Signatures {
		p.row([]cell{{p.look.say(who), 44, "L", inkColor, true}, {"", 50, "L", inkColor, false},
			{"", 30, "L", inkColor, false}, {"", 50, "L", inkColor, false}}, 11)
	}
}
