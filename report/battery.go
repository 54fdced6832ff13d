package report

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/figure"
	"usherbench/core/overlay"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/store"
)

// picturePlaces is how many places of a curve are drawn on paper.
const picturePlaces = 500

// BatteryPictures draws what a battery's run is looked at for: volts over time and over charge, and amps over
// time. A run without charge or discharge has none.
func BatteryPictures(ctx context.Context, s *store.Store, run store.Run) ([]Picture, error) {
	_, record, err := archive.Record(s, run)
	if err != nil {
		return nil, nil //nolint:nilerr // a run whose texts cannot be read any more has a report all the same
	}
	halves, err := record.HalfCurves()
	if err != nil || len(halves) == 0 {
		return nil, err
	}
	overTime := Picture{Title: "Volts over time", XLabel: "Time (h)", YLabel: "Volts (V)", Plain: true}
	amps := Picture{Title: "Amps over time", XLabel: "Time (h)", YLabel: "Amps (A)", Plain: true}
	for _, c := range []struct {
		picture *Picture
		columns []string
	}{{&overTime, []string{"cycler.volts", "load.volts", "source.volts", "meter.volts"}},
		{&amps, []string{"cycler.amps", "source.amps", "load.amps"}}} {
		for _, column := range c.columns {
			if !slices.Contains(run.Columns, column) {
				continue
			}
			w, err := s.Window(ctx, run, []string{column}, 0, math.MaxFloat64, picturePlaces)
			if err != nil {
				return nil, err
			}
			line := Line{}
			for _, b := range w.Buckets[0] {
				if y := (b.Min + b.Max) / 2; !math.IsNaN(y) {
					line.X, line.Y = append(line.X, b.T/3600), append(line.Y, y)
				}
			}
			if len(line.X) > 1 {
				c.picture.Lines = append(c.picture.Lines, line)
			}
			break
		}
	}
	overCharge := Picture{Title: "Volts over charge", XLabel: "Charge (Ah)", YLabel: "Volts (V)", Plain: true}
	for _, h := range halves {
		c := overlay.Curve{Y: h.Volts}
		for _, q := range h.Charge {
			c.X = append(c.X, q/3600)
		}
		if c = c.Rising().Thinned(picturePlaces); len(c.X) > 1 {
			overCharge.Lines = append(overCharge.Lines, Line{Label: halfName(h, halves), X: c.X, Y: c.Y})
		}
	}
	var all []Picture
	for _, p := range []Picture{overCharge, overTime, amps} {
		if len(p.Lines) > 0 {
			all = append(all, p)
		}
	}
	return all, nil
}

func halfName(h record.HalfCurve, all []record.HalfCurve) string {
	n := 0
	for _, x := range all {
		if x.Kind == h.Kind {
			n++
		}
	}
	if n == 1 {
		return h.Kind
	}
	return fmt.Sprintf("%s %d", h.Kind, h.Pass)
}

// mostTableRows bounds a table on paper: a curve of hundreds of places is in the data files.
const mostTableRows = 60

// tables prints what figures are made of: cycles, stages of a charger, steps.
func (p page) tables(doc api.Run) {
	for _, f := range doc.Figures {
		if f.Table == nil || len(f.Table.Rows) == 0 || len(f.Table.Rows) > mostTableRows {
			continue
		}
		p.section(f.Title)
		p.table(f.Table)
	}
}

// table prints a table over the width of the page, in a smaller size where it has many columns.
func (p page) table(t *figure.Table) {
	width, size := inner/float64(len(t.Columns)), 8.0
	if len(t.Columns) > 9 {
		size = 6.2
	}
	var head []cell
	for _, c := range t.Columns {
		head = append(head, heading(header(strings.ReplaceAll(c.Name, ".", " "), c.Unit), width, "R"))
	}
	p.rowIn(head, 4.6, size)
	for _, row := range t.Rows {
		var cells []cell
		for i, x := range row {
			cells = append(cells, cell{TableCell(x, t.Columns[i].Unit), width, "R", inkColor, false})
		}
		p.rowIn(cells, 4.6, size)
	}
	p.Ln(3)
}

// mostPrinted bounds the columns of a table of points on paper; what does not fit is in the data files.
const mostPrinted = 14

// points prints the points of a grid and the rows of acquire and seek.
func (p page) points(doc api.Run) {
	if len(doc.Points) == 0 {
		return
	}
	t, same := WithoutSame(WithoutEmpty(TableOfPoints(doc.Points)))
	p.section("Points")
	if len(t.Rows) > mostTableRows || len(t.Columns) > mostPrinted {
		p.font("", 8.5, mutedColor)
		p.MultiCell(inner, 4.4, fmt.Sprintf("%d points of %d quantities are in the data files.", len(t.Rows),
			len(t.Columns)-3), "", "L", false)
		p.Ln(3)
		return
	}
	if same != "" {
		p.font("", 8.5, mutedColor)
		p.MultiCell(inner, 4.4, "The same at all: "+same, "", "L", false)
	}
	p.table(t)
}

// TableCell words a cell of a figure's table: times as people read them, numbers with four digits or so, a dash
// for what is missing.
func TableCell(x any, unit string) string {
	switch v := x.(type) {
	case nil:
		return "—"
	case string:
		return orDash(v)
	case float64:
		switch {
		case unit == "s":
			return Seconds(v)
		case v == math.Trunc(v) && math.Abs(v) < 1e6 && unit == "":
			return fmt.Sprintf("%.0f", v)
		}
		return quantity.Fixed(v, decimalsFor(v))
	}
	return fmt.Sprint(x)
}

// decimalsFor leaves four significant digits or so.
func decimalsFor(x float64) int {
	if x == 0 {
		return 2
	}
	return min(max(3-int(math.Floor(math.Log10(math.Abs(x)))), 0), 5)
}

// OverlayPDF prints an overlay: the picture with its band, the figures with their spread, comparisons and differences.
func OverlayPDF(o api.Overlay) ([]byte, error) {
	p := newPage("Overlay", "Overlay of "+fmt.Sprint(len(o.Curves))+" curves")
	p.lantern("Usher Bench overlay", fmt.Sprintf("%d curves", len(o.Curves)))
	axis := func(label, unit string) string {
		if unit == "" {
			return label
		}
		return label + " (" + unit + ")"
	}
	picture := Picture{Title: "Curves", XLabel: axis(o.XLabel, o.XUnit), YLabel: axis(o.YLabel, o.YUnit), Plain: true,
		Band: o.Band}
	for _, c := range o.Curves {
		if c.Drawn && len(c.X) > 1 {
			picture.Lines = append(picture.Lines, Line{c.Label, c.X, c.Y})
		}
	}
	png, err := picture.PNG(inner, 100)
	if err != nil {
		return nil, err
	}
	p.placed("overlay", png, inner, 100)
	if o.Band != nil {
		p.font("", 8.5, mutedColor)
		p.CellFormat(inner, 5, quantity.Sprintf("The band is widest at %.4g %s: %.4g %s", o.Band.At, o.XUnit, o.Band.Widest,
			o.YUnit), "", 1, "L", false, 0, "")
	}
	for _, c := range o.Comparisons {
		color := inkColor
		if c.Differs {
			color = outcomes["pass"][0]
		}
		p.font("B", 9, color)
		p.MultiCell(inner, 4.8, c.Words, "", "L", false)
	}
	p.Ln(2)
	p.overlayTables(o)
	return p.bytes("overlay")
}

func (p page) overlayTables(o api.Overlay) {
	if len(o.Figures) > 0 {
		p.section("Figures and their spread")
		p.row([]cell{heading("Figure", 60, "L"), heading("runs", 14, "R"), heading("mean", 34, "R"),
			heading("spread", 30, "R"), heading("sd", 30, "R")}, 6)
		for _, f := range o.Figures {
			p.row([]cell{{f.Title, 60, "L", inkColor, true}, {fmt.Sprint(len(f.Values)), 14, "R", inkColor, false},
				{quantity.Sprintf("%.5g %s", f.Mean, f.Unit), 34, "R", inkColor, false},
				{percent(f.Spread), 30, "R", inkColor, false}, {percent(f.SD), 30, "R", inkColor, false}}, 6)
		}
		p.Ln(3)
	}
	if len(o.Differences) > 0 {
		p.section("Differences from " + o.Reference)
		p.row([]cell{heading("Curve", 60, "L"), heading("mean ("+o.YUnit+")", 28, "R"), heading("rms ("+o.YUnit+")", 28, "R"),
			heading("largest ("+o.YUnit+")", 28, "R"), heading("end ("+o.XUnit+")", 28, "R")}, 6)
		for _, d := range o.Differences {
			p.row([]cell{{d.Label, 60, "L", inkColor, true}, {numberOr(d.Mean), 28, "R", inkColor, false},
				{numberOr(d.RMS), 28, "R", inkColor, false}, {numberOr(d.Largest), 28, "R", inkColor, false},
				{numberOr(d.End), 28, "R", inkColor, false}}, 5)
		}
	}
}

func percent(x *float64) string {
	if x == nil {
		return "—"
	}
	return quantity.Sprintf("%.3g %%", *x)
}

func numberOr(x *float64) string {
	if x == nil {
		return "—"
	}
	return strings.Replace(quantity.Sprintf("%.4g", *x), "-", "−", 1)
}

// LabelsPDF prints a label for each group of matched cells, to cut out and lay on them, and the list of those
// left over.
func LabelsPDF(m api.Matching) ([]byte, error) {
	p := newPage("Labels of lot "+m.Lot, "Lot "+m.Lot)
	p.lantern("Usher Bench, cells that belong together", "Lot "+m.Lot)
	const gap = 4.0
	width := (inner - gap) / 2
	height := 16 + float64(m.Size)*5
	for i, g := range m.Groups {
		x, y := margin+float64(i%2)*(width+gap), p.GetY()
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
			p.SetXY(margin, y)
		} else {
			p.SetXY(margin, y+height+gap)
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
