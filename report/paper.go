package report

import (
	"bytes"
	"fmt"
	"image"
	"image/draw"
	_ "image/jpeg" // of pictures that travel with procedures
	"image/png"
	"strings"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"

	"usherbench/core/outcome"
)

const (
	topMargin = 18.0
	lineStep  = 5.2
	family    = "Liberation"
)

// paper is a report as PDF: A4 or Letter, millimetres.
type paper struct {
	*fpdf.Fpdf
	margin, width, bottom float64

	images int // how many there are
}

// newPaper begins a document.
func newPaper(l Look, a about) *paper {
	size := papers[orWord(l.Paper, "a4")]
	p := &paper{Fpdf: fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: fpdf.SizeType{Wd: size.width, Ht: size.height}}),
		margin: (size.width - inner) / 2, width: size.width, bottom: size.height - topMargin - 4}
	p.SetMargins(p.margin, topMargin, p.margin)
	p.SetAutoPageBreak(true, topMargin+4)
	p.AddUTF8FontFromBytes(family, "", liberationsansregular.TTF)
	p.AddUTF8FontFromBytes(family, "B", liberationsansbold.TTF)
	p.SetTitle(a.title, true)
	p.SetCreator("Usher Bench", true)
	p.SetCatalogSort(true)
	p.SetCreationDate(a.at.UTC())
	p.SetModificationDate(a.at.UTC())
	p.AliasNbPages(pagesAlias)
	p.SetFooterFunc(func() {
		p.SetY(-14)
		p.font("", 7.5, mutedColor)
		p.CellFormat(inner/2, 5, a.foot, "", 0, "L", false, 0, "")
		p.CellFormat(inner/2, 5, fmt.Sprintf("%s %d / %s", l.say("Page"), p.PageNo(), pagesAlias), "", 0, "R", false, 0,
			"")
	})
	p.AddPage()
	return p
}

// pagesAlias stands for the number of pages until that is known.
const pagesAlias = "{pages}"

func (p *paper) bytes(what string) ([]byte, error) {
	var b bytes.Buffer
	if err := p.Output(&b); err != nil {
		return nil, fmt.Errorf("write the %s: %w", what, err)
	}
	return b.Bytes(), nil
}

func (p *paper) font(style string, size float64, c rgb) {
	p.SetFont(family, style, size)
	p.SetTextColor(c.r, c.g, c.b)
}

// room begins a new page where there is less than so much left on this one, mm.
func (p *paper) room(height float64) {
	if p.GetY()+height > p.bottom {
		p.AddPage()
	}
}

func (p *paper) gap(height float64) { p.Ln(height) }

// section begins one, with room for its heading and a first row at least.
func (p *paper) section(title string) {
	p.room(24)
	p.font("B", 10.5, inkColor)
	p.CellFormat(inner, 7, title, "", 1, "L", false, 0, "")
}

func (p *paper) note(text string, style noteStyle) {
	weight := ""
	if style.bold {
		weight = "B"
	}
	p.font(weight, style.size, style.color)
	p.MultiCell(inner, style.size*0.52, text, "", "L", false)
}

// row writes a row of a table. What does not fit into a line goes on in the next: nothing is cut.
func (p *paper) row(cells []cell, height, size float64) {
	step := size * 0.44 // mm from line to line
	texts, most := make([][]string, len(cells)), 1
	for i, c := range cells {
		p.cellFont(c, size)
		texts[i] = p.SplitText(c.text, c.width)
		most = max(most, len(texts[i]))
	}
	whole := height + float64(most-1)*step
	p.room(whole)
	p.SetDrawColor(ruleColor.r, ruleColor.g, ruleColor.b)
	p.SetLineWidth(0.2)
	x, y := p.GetX(), p.GetY()
	for i, c := range cells {
		p.cellFont(c, size)
		for k, line := range texts[i] {
			p.SetXY(x, y+float64(k)*step)
			p.CellFormat(c.width, height, line, "", 0, c.align, false, 0, "")
		}
		x += c.width
	}
	p.Line(p.margin, y+whole, x, y+whole)
	p.SetXY(p.margin, y+whole)
}

func (p *paper) cellFont(c cell, size float64) {
	style := ""
	if c.bold {
		style = "B"
	}
	p.font(style, size, c.color)
}

// head is the company, or the lantern, then the title and the outcome.
func (p *paper) head(h head) {
	p.sign(h)
	if h.outcome != "" {
		p.badge(h)
	}
	p.SetXY(p.margin, topMargin+12)
	p.font("", 10.5, inkColor)
	if h.about != "" {
		p.MultiCell(inner, 5.2, h.about, "", "L", false)
	}
	if h.warning != "" {
		p.font("", 9, outcomes[string(outcome.Aborted)][0])
		p.MultiCell(inner, 4.6, strings.ToUpper(h.warning[:1])+h.warning[1:], "", "L", false)
	}
	p.Ln(2)
}

// sign is the logo of the company, or the sign of the product, with the title beside it.
func (p *paper) sign(h head) {
	x, y, wide := p.margin, topMargin, 10.0
	if kind := imageKind(h.logo); kind != "" {
		info := p.RegisterImageOptionsReader("logo", fpdf.ImageOptions{ImageType: kind}, bytes.NewReader(h.logo))
		const height = 10.0
		if p.Ok() {
			wide = min(height*info.Width()/info.Height(), 40)
			p.ImageOptions("logo", x, y-0.5, wide, 0, false, fpdf.ImageOptions{ImageType: kind}, 0, "")
			wide += 4
		}
	} else {
		p.lantern(x, y)
	}
	above := "Usher Bench  ·  " + h.kind
	if h.company != "" {
		above = h.company + "  ·  " + h.kind
	}
	p.SetXY(x+wide, y-0.5)
	p.font("", 8, mutedColor)
	p.CellFormat(90, 4, above, "", 2, "L", false, 0, "")
	p.font("B", 15, inkColor)
	p.CellFormat(110, 7, h.title, "", 0, "L", false, 0, "")
	p.SetXY(x, y+12)
}

// lantern is the sign of the product.
func (p *paper) lantern(x, y float64) {
	p.SetDrawColor(inkColor.r, inkColor.g, inkColor.b)
	p.SetLineWidth(0.5)
	p.Polygon([]fpdf.PointType{{X: x + 4, Y: y}, {X: x + 6, Y: y + 2.4}, {X: x + 6, Y: y + 7.2}, {X: x + 2, Y: y + 7.2},
		{X: x + 2, Y: y + 2.4}}, "D")
	p.SetFillColor(liveColor.r, liveColor.g, liveColor.b)
	p.Circle(x+4, y+4.4, 1.35, "F")
	p.Line(x+0.8, y+8.8, x+7.2, y+8.8)
}

func (p *paper) badge(h head) {
	colors := outcomeColors(h.outcome)
	const height = 11.0
	p.font("B", 13, colors[0])
	width := max(44, p.GetStringWidth(h.outcomeWord)+17)
	x, y := p.width-p.margin-width, topMargin-1
	p.SetFillColor(colors[1].r, colors[1].g, colors[1].b)
	p.RoundedRect(x, y, width, height, 2.5, "1234", "F")
	p.SetFillColor(colors[0].r, colors[0].g, colors[0].b)
	cx, cy := x+7, y+height/2
	switch outcome.Outcome(h.outcome) {
	case outcome.Pass:
		p.Circle(cx, cy, 2, "F")
	case outcome.Marginal:
		p.Polygon([]fpdf.PointType{{X: cx, Y: cy - 2.2}, {X: cx + 2.3, Y: cy + 1.8}, {X: cx - 2.3, Y: cy + 1.8}}, "F")
	default:
		p.Rect(cx-1.9, cy-1.9, 3.8, 3.8, "F")
	}
	p.SetXY(x+11, y)
	p.CellFormat(width-12, height, h.outcomeWord, "", 0, "L", false, 0, "")
}

// facts are two columns on a ground of their own.
func (p *paper) facts(columns [2][]fact) {
	p.SetFillColor(paperColor.r, paperColor.g, paperColor.b)
	y := p.GetY()
	p.font("", 8.5, inkColor)
	lines := 0
	for _, facts := range columns {
		n := 0
		for _, f := range facts {
			n += len(p.SplitText(f.text, inner/2-34))
		}
		lines = max(lines, n)
	}
	p.RoundedRect(p.margin, y, inner, float64(lines)*lineStep+4, 2, "1234", "F")
	for column, facts := range columns {
		at := y + 2
		for _, f := range facts {
			x := p.margin + 4 + float64(column)*inner/2
			p.SetXY(x, at)
			p.font("", 8.5, mutedColor)
			p.CellFormat(28, lineStep, f.word, "", 0, "L", false, 0, "")
			p.font("", 8.5, inkColor)
			for _, line := range p.SplitText(f.text, inner/2-34) {
				p.SetXY(x+28, at)
				p.CellFormat(inner/2-34, lineStep, line, "", 0, "L", false, 0, "")
				at += lineStep
			}
		}
	}
	p.SetXY(p.margin, y+float64(lines)*lineStep+8)
}

// drawn are pictures as vectors, beside each other where two fit.
// The largest that an image is on paper, mm.
const imageWidth, imageHeight = 120.0, 80.0

func (p *paper) image(data []byte, title, about string) {
	data, err := plainImage(data)
	if err != nil { // it costs no report
		p.note(title+": "+err.Error(), plainNote)
		return
	}
	p.images++
	name, options := fmt.Sprintf("image%d", p.images), fpdf.ImageOptions{ImageType: imageKind(data)}
	info := p.RegisterImageOptionsReader(name, options, bytes.NewReader(data))
	scale := min(1, imageWidth/info.Width(), imageHeight/info.Height())
	width, height := info.Width()*scale, info.Height()*scale
	p.room(height + 14)
	p.note(title, noteStyle{size: 8.5, color: inkColor, bold: true})
	p.ImageOptions(name, p.margin, p.GetY()+1, width, height, false, options, 0, "")
	p.SetXY(p.margin, p.GetY()+height+2)
	p.note(about, plainNote)
	p.gap(2)
}

// The size of a photo among several on paper, three across, mm.
const photoWidth, photoHeight, photosAcross = 56.0, 42.0, 3

func (p *paper) photos(all []photo) {
	const words, between = 9.0, 3.0
	for i, x := range all {
		if i%photosAcross == 0 {
			p.room(photoHeight + words + between)
		}
		left, y := p.margin+float64(i%photosAcross)*(photoWidth+between), p.GetY()
		p.images++
		name, options := fmt.Sprintf("image%d", p.images), fpdf.ImageOptions{ImageType: "JPG"}
		info := p.RegisterImageOptionsReader(name, options, bytes.NewReader(x.data))
		scale := min(photoWidth/info.Width(), photoHeight/info.Height())
		width, height := info.Width()*scale, info.Height()*scale
		p.ImageOptions(name, left, y+photoHeight-height, width, height, false, options, 0, "")
		p.SetXY(left, y+photoHeight+1)
		p.font("B", 8, inkColor)
		p.CellFormat(photoWidth, 4, p.fitting(x.title, photoWidth), "", 2, "L", false, 0, "")
		p.font("", 7.5, mutedColor)
		p.CellFormat(photoWidth, 3.5, p.fitting(x.about, photoWidth), "", 0, "L", false, 0, "")
		p.SetXY(p.margin, y)
		if i%photosAcross == photosAcross-1 || i == len(all)-1 {
			p.SetXY(p.margin, y+photoHeight+words+between)
		}
	}
}

// fitting is a text cut so that it fits into a width, mm.
func (p *paper) fitting(text string, width float64) string {
	if p.GetStringWidth(text) <= width-1 {
		return text
	}
	runes := []rune(text)
	for len(runes) > 1 && p.GetStringWidth(string(runes)+" …") > width-1 {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + " …"
}

// plainImage is a PNG as paper takes it, with 8 bits and not interlaced; a JPEG stays as it is.
func plainImage(data []byte) ([]byte, error) {
	drawn, kind, err := image.Decode(bytes.NewReader(data))
	if err != nil || kind == "jpeg" {
		return data, err
	}
	plain := image.NewNRGBA(drawn.Bounds())
	draw.Draw(plain, plain.Bounds(), drawn, drawn.Bounds().Min, draw.Src)
	var b bytes.Buffer
	err = png.Encode(&b, plain)
	return b.Bytes(), err
}

func (p *paper) drawn(pictures []Picture, width, height float64) error {
	const between = 4.0
	across := max(int((inner+between)/(width+between)), 1)
	for i, picture := range pictures {
		if i%across == 0 {
			p.room(height + 8)
		}
		y := p.GetY()
		x := p.margin + float64(i%across)*(width+between)
		p.SetXY(x, y)
		p.font("", 8.5, mutedColor)
		p.CellFormat(width, 5, picture.Title, "", 0, "L", false, 0, "")
		if err := picture.draw(newVectors(p, x, y+5, height), width, height); err != nil {
			return err
		}
		p.SetXY(p.margin, y)
		if i%across == across-1 || i == len(pictures)-1 {
			p.SetXY(p.margin, y+height+8)
		}
	}
	return nil
}
