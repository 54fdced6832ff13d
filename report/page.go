package report

// bottom is where a page ends, mm.
const bottom = 297 - margin - 4

// room begins a new page where there is less than so much left on this one, mm.
func (p page) room(height float64) {
	if p.GetY()+height > bottom {
		p.AddPage()
	}
}

// section begins one, with room for its heading and a first row at least.
func (p page) section(title string) {
	p.room(24)
	p.font("B", 10.5, inkColor)
	p.CellFormat(inner, 7, title, "", 1, "L", false, 0, "")
}

type cell struct {
	text  string
	width float64
	align string
	color rgb
	bold  bool
}

func (p page) row(cells []cell, height float64) { p.rowIn(cells, height, 8.5) }

// rowIn writes a row of a table in a size, pt. What does not fit into a line goes on in the next: nothing is cut.
func (p page) rowIn(cells []cell, height, size float64) {
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
	p.Line(margin, y+whole, x, y+whole)
	p.SetXY(margin, y+whole)
}

func (p page) cellFont(c cell, size float64) {
	style := ""
	if c.bold {
		style = "B"
	}
	p.font(style, size, c.color)
}

func heading(text string, width float64, align string) cell {
	return cell{text, width, align, mutedColor, false}
}
