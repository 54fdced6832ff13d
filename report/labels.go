package report

import (
	"fmt"

	"usherbench/api"
)

// LabelsPDF prints a label for each group of matched cells, to cut out and lay on them, and the list of those
// left over.
func LabelsPDF(m api.Matching) ([]byte, error) {
	p := newPaper(Look{}, about{title: "Labels of lot " + m.Lot, foot: "Lot " + m.Lot})
	p.sign(head{kind: "cells that belong together", title: "Lot " + m.Lot})
	const gap = 4.0
	width := (inner - gap) / 2
	height := 16 + float64(m.Size)*5
	for i, g := range m.Groups {
		x, y := p.margin+float64(i%2)*(width+gap), p.GetY()
		if i%2 == 0 && y+height > 275 {
			p.AddPage()
			y = p.GetY()
		}
		p.SetDrawColor(inkColor.r, inkColor.g, inkColor.b)
		p.SetLineWidth(0.3)
		p.RoundedRect(x, y, width, height, 2, "1234", "D")
		p.SetXY(x+3, y+2)
		p.font("B", 12, inkColor)
		p.CellFormat(width-6, 6, g.Name, "", 2, "L", false, 0, "")
		p.font("", 8, mutedColor)
		p.CellFormat(width-6, 4.5, fmt.Sprintf("spread %.2f %% of capacity, %.1f %% of resistance, curves %.1f mV",
			g.CapacitySpread, g.ResistanceSpread, g.CurveDistance), "", 2, "L", false, 0, "")
		for _, c := range g.Cells {
			p.SetX(x + 3)
			p.font("B", 9, inkColor)
			p.CellFormat(30, 5, c.Serial, "", 0, "L", false, 0, "")
			p.font("", 9, inkColor)
			p.CellFormat(width-36, 5, fmt.Sprintf("%.4f Ah   %.1f mΩ", c.Capacity, c.Resistance), "", 1, "R", false, 0, "")
		}
		if i%2 == 0 && i+1 < len(m.Groups) {
			p.SetXY(p.margin, y)
		} else {
			p.SetXY(p.margin, y+height+gap)
		}
	}
	if len(m.Rejects) > 0 {
		p.section("Left over")
		for _, r := range m.Rejects {
			p.font("B", 9, inkColor)
			p.CellFormat(30, 5, r.Serial, "", 0, "L", false, 0, "")
			p.font("", 8.5, mutedColor)
			p.MultiCell(inner-30, 5, r.Why, "", "L", false)
		}
	}
	p.font("", 8.5, mutedColor)
	p.MultiCell(inner, 5,
		fmt.Sprintf("Score %.2f; the same number of groups cut from the list sorted by capacity has %.2f. Smaller is better.",
			m.Score, m.Sorted), "", "L", false)
	return p.bytes("labels of lot " + m.Lot)
}
