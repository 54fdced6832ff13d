package report

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/record"
)

// The page: A4, millimetres.
const (
	pageWidth = 210.0
	margin    = 18.0
	inner     = pageWidth - 2*margin
	lineStep  = 5.2
	family    = "Liberation"
)

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

// page draws onto the PDF.
type page struct{ *fpdf.Fpdf }

// PDF makes the report of a run, one to three pages. more are pictures beside those of its points.
func PDF(doc api.Run, more ...Picture) ([]byte, error) {
	p := newPage(fmt.Sprintf("%s, %s", doc.Serial, doc.Title), "Run "+doc.ID)
	p.head(doc)
	p.facts(doc)
	p.figures(doc)
	if err := p.pictures(append(slices.Clone(more), Pictures(doc)...)); err != nil {
		return nil, err
	}
	p.tables(doc)
	p.points(doc)
	p.instruments(doc)
	p.accuracies(doc)
	p.preflight(doc)
	p.marks(doc)
	return p.bytes("report of run " + doc.ID)
}

// newPage begins a document.
func newPage(title, foot string) page {
	p := page{fpdf.New("P", "mm", "A4", "")}
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, margin+4)
	p.AddUTF8FontFromBytes(family, "", liberationsansregular.TTF)
	p.AddUTF8FontFromBytes(family, "B", liberationsansbold.TTF)
	p.SetTitle(title, true)
	p.SetCreator("Usher Bench", true)
	p.SetFooterFunc(func() {
		p.SetY(-14)
		p.font("", 7.5, mutedColor)
		p.CellFormat(inner/2, 5, foot, "", 0, "L", false, 0, "")
		p.CellFormat(inner/2, 5, fmt.Sprintf("Page %d", p.PageNo()), "", 0, "R", false, 0, "")
	})
	p.AddPage()
	return p
}

func (p page) bytes(what string) ([]byte, error) {
	var b bytes.Buffer
	if err := p.Output(&b); err != nil {
		return nil, fmt.Errorf("write the %s: %w", what, err)
	}
	return b.Bytes(), nil
}

func (p page) font(style string, size float64, c rgb) {
	p.SetFont(family, style, size)
	p.SetTextColor(c.r, c.g, c.b)
}

// head is the lantern, the title and the outcome.
func (p page) head(doc api.Run) {
	p.lantern("Usher Bench test report", doc.Serial)
	p.badge(doc)
	p.SetXY(margin, margin+12)
	p.font("", 10.5, inkColor)
	p.MultiCell(inner, 5.2, doc.Title, "", "L", false)
	if doc.Reason != "" {
		p.font("", 9, outcomes["aborted"][0])
		p.MultiCell(inner, 4.6, strings.ToUpper(doc.Reason[:1])+doc.Reason[1:], "", "L", false)
	}
	p.Ln(2)
}

// lantern is the sign of the product with a title beside it.
func (p page) lantern(above, title string) {
	x, y := margin, margin
	p.SetDrawColor(inkColor.r, inkColor.g, inkColor.b)
	p.SetLineWidth(0.5)
	p.Polygon([]fpdf.PointType{{X: x + 4, Y: y}, {X: x + 6, Y: y + 2.4}, {X: x + 6, Y: y + 7.2}, {X: x + 2, Y: y + 7.2},
		{X: x + 2, Y: y + 2.4}}, "D")
	p.SetFillColor(liveColor.r, liveColor.g, liveColor.b)
	p.Circle(x+4, y+4.4, 1.35, "F")
	p.Line(x+0.8, y+8.8, x+7.2, y+8.8)
	p.SetXY(x+10, y-0.5)
	p.font("", 8, mutedColor)
	p.CellFormat(90, 4, above, "", 2, "L", false, 0, "")
	p.font("B", 15, inkColor)
	p.CellFormat(110, 7, title, "", 0, "L", false, 0, "")
	p.SetXY(x, y+12)
}

func (p page) badge(doc api.Run) {
	word := doc.Outcome
	if word == "" {
		word = "no limits"
	}
	colors, ok := outcomes[doc.Outcome]
	if !ok {
		colors = outcomes[string(outcome.Undetermined)]
	}
	const width, height = 44.0, 11.0
	x, y := pageWidth-margin-width, margin-1
	p.SetFillColor(colors[1].r, colors[1].g, colors[1].b)
	p.RoundedRect(x, y, width, height, 2.5, "1234", "F")
	p.SetFillColor(colors[0].r, colors[0].g, colors[0].b)
	cx, cy := x+7, y+height/2
	switch outcome.Outcome(doc.Outcome) {
	case outcome.Pass:
		p.Circle(cx, cy, 2, "F")
	case outcome.Marginal:
		p.Polygon([]fpdf.PointType{{X: cx, Y: cy - 2.2}, {X: cx + 2.3, Y: cy + 1.8}, {X: cx - 2.3, Y: cy + 1.8}}, "F")
	default:
		p.Rect(cx-1.9, cy-1.9, 3.8, 3.8, "F")
	}
	p.SetXY(x+11, y)
	p.font("B", 13, colors[0])
	p.CellFormat(width-12, height, word, "", 0, "L", false, 0, "")
}

// facts are two columns of what was tested, how, where and when.
func (p page) facts(doc api.Run) {
	left := [][2]string{{"Unit", doc.Serial}, {"Nameplate", doc.Nameplate}, {"Lot", orDash(doc.Lot)},
		{"Procedure", fmt.Sprintf("%s, revision %d", doc.Procedure, doc.Revision)}, {"Parameters", parameters(doc)}}
	right := [][2]string{{"Bay", doc.Bay}, {"Operator", doc.Operator}, {"Started", moment(&doc.StartedAt)},
		{"Ended", moment(doc.EndedAt)}, {"Duration", Seconds(doc.Duration) + timeFactor(doc)}}
	p.SetFillColor(paperColor.r, paperColor.g, paperColor.b)
	y := p.GetY()
	p.font("", 8.5, inkColor)
	lines := 0
	for _, facts := range [][][2]string{left, right} {
		n := 0
		for _, f := range facts {
			n += len(p.SplitText(f[1], inner/2-30))
		}
		lines = max(lines, n)
	}
	p.RoundedRect(margin, y, inner, float64(lines)*lineStep+4, 2, "1234", "F")
	for column, facts := range [][][2]string{left, right} {
		at := y + 2
		for _, f := range facts {
			x := margin + 4 + float64(column)*inner/2
			p.SetXY(x, at)
			p.font("", 8.5, mutedColor)
			p.CellFormat(24, lineStep, f[0], "", 0, "L", false, 0, "")
			p.font("", 8.5, inkColor)
			for _, line := range p.SplitText(f[1], inner/2-30) {
				p.SetXY(x+24, at)
				p.CellFormat(inner/2-30, lineStep, line, "", 0, "L", false, 0, "")
				at += lineStep
			}
		}
	}
	p.SetXY(margin, y+float64(lines)*lineStep+8)
}

func parameters(doc api.Run) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(doc.Parameters)) {
		parts = append(parts, name+" = "+doc.Parameters[name])
	}
	return orDash(strings.Join(parts, ", "))
}

func timeFactor(doc api.Run) string {
	if doc.TimeFactor <= 1 {
		return ""
	}
	return fmt.Sprintf(" of bench time, ×%g", doc.TimeFactor)
}

func orDash(s string) string {
	if s == "" {
		return "—"
	}
	return s
}

// figures is the table of figures with limits and uncertainty.
func (p page) figures(doc api.Run) {
	if len(doc.Figures) == 0 {
		return
	}
	p.section("Figures")
	p.row([]cell{heading("Figure", 34, "L"), heading("at", 51, "L"), heading("value ± U (95 %)", 36, "R"),
		heading("limit", 32, "R"), heading("outcome", 21, "R")}, 6)
	for _, f := range doc.Figures {
		color := inkColor
		if c, ok := outcomes[string(f.Outcome)]; ok {
			color = c[0]
		}
		p.row([]cell{
			{f.Title, 34, "L", inkColor, true}, {orDash(f.Where), 51, "L", mutedColor, false},
			{Value(f), 36, "R", inkColor, false},
			{Limit(f), 32, "R", inkColor, false}, {orDash(string(f.Outcome)), 21, "R", color, true},
		}, 6)
		if notes := remarks(f.Remarks); f.Undetermined != nil || notes != "" {
			if f.Undetermined != nil {
				notes = strings.TrimSuffix(f.Undetermined.Code+": "+f.Undetermined.Sentence+"; "+notes, "; ")
			}
			p.font("", 7.5, mutedColor)
			p.MultiCell(inner, 4, notes, "", "L", false)
		}
	}
	p.Ln(3)
}

func remarks(r []string) string { return strings.Join(r, "; ") }

// pictures draws the curves that the procedure asks for, two beside each other.
func (p page) pictures(all []Picture) error {
	if len(all) == 0 {
		return nil
	}
	const width, height, gap = 85.0, 58.0, 4.0
	p.section("Curves")
	told := map[string]bool{"": true}
	for _, picture := range all {
		if !told[picture.Note] {
			told[picture.Note] = true
			p.font("", 8.5, mutedColor)
			p.MultiCell(inner, 4.5, picture.Note, "", "L", false)
			p.Ln(1)
		}
	}
	for i, picture := range all {
		png, err := picture.PNG(width, height)
		if err != nil {
			return err
		}
		if i%2 == 0 && p.GetY()+height+8 > 277 {
			p.AddPage()
		}
		y := p.GetY()
		x := margin + float64(i%2)*(width+gap)
		name := fmt.Sprintf("picture%d", i)
		p.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(png))
		p.SetXY(x, y)
		p.font("", 8.5, mutedColor)
		p.CellFormat(width, 5, picture.Title, "", 0, "L", false, 0, "")
		p.ImageOptions(name, x, y+5, width, height, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
		p.SetXY(margin, y)
		if i%2 == 1 || i == len(all)-1 {
			p.SetXY(margin, y+height+8)
		}
	}
	return nil
}

// placed puts a picture over the width of the page.
func (p page) placed(name string, png []byte, width, height float64) {
	p.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(png))
	y := p.GetY()
	p.ImageOptions(name, margin, y, width, height, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
	p.SetXY(margin, y+height+2)
}

func (p page) instruments(doc api.Run) {
	if len(doc.Instruments) == 0 {
		return
	}
	p.section("Instruments")
	p.row([]cell{heading("Seat", 22, "L"), heading("Instrument", 30, "L"), heading("Identity", 66, "L"),
		heading("Calibrated", 24, "R"), heading("due", 32, "R")}, 6)
	for _, u := range doc.Instruments {
		due := cell{orDash(u.Due), 32, "R", inkColor, false}
		if date, err := time.Parse(time.DateOnly, u.Due); err == nil && date.Before(doc.StartedAt) {
			due.color, due.text = outcomes["fail"][0], u.Due+" overdue"
		}
		p.row([]cell{
			{u.Seat, 22, "L", inkColor, false}, {fmt.Sprintf("%s, channel %d", u.Instrument, u.Channel), 30, "L", inkColor,
				false},
			{u.Identity, 66, "L", inkColor, false}, {orDash(u.Calibrated), 24, "R", inkColor, false}, due,
		}, 6)
	}
	p.Ln(3)
}

// preflight lists what was found before the start and was not fine.
func (p page) preflight(doc api.Run) {
	if len(doc.Preflight) == 0 {
		return
	}
	p.section("Preflight")
	fine := 0
	for _, f := range doc.Preflight {
		if f.Verdict == api.Fine {
			fine++
			continue
		}
		p.row([]cell{{string(f.Verdict), 22, "L", outcomes["marginal"][0], true}, {f.Check + ": " + f.What, 152, "L",
			inkColor, false}}, 6)
	}
	p.row([]cell{{fmt.Sprintf("%d checks were fine.", fine), 174, "L", inkColor, false}}, 6)
	p.Ln(3)
}

// mostMarks bounds the list in the report; the data files hold all.
const mostMarks = 40

// marks lists guards and what else happened, without commands and points.
func (p page) marks(doc api.Run) {
	var list []record.Mark
	for _, m := range doc.Marks {
		if m.Kind != record.MarkCommand && m.Kind != record.MarkPointDone && m.Kind != record.MarkStageEnd {
			list = append(list, m)
		}
	}
	if len(list) == 0 {
		return
	}
	p.section("Guards and marks")
	for i, m := range list {
		if i == mostMarks {
			p.font("", 8, mutedColor)
			p.CellFormat(inner, 5, fmt.Sprintf("%d more are in the data files", len(list)-i), "", 1, "L", false, 0, "")
			return
		}
		color := inkColor
		if m.Kind == record.MarkGuard || m.Kind == record.MarkBench || m.Kind == record.MarkTimeout {
			color = outcomes["fail"][0]
		}
		p.row([]cell{{Seconds(m.T), 24, "R", mutedColor, false}, {"", 3, "L", inkColor, false},
			{string(m.Kind), 22, "L", mutedColor, false}, {m.Label, inner - 49, "L", color, false}}, 5.2)
	}
}
