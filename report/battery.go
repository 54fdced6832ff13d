package report

import (
	"context"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

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
	var tables []*figure.Table
	var titles [][]string // of the figures that are made of each
	for _, f := range doc.Figures {
		if f.Table == nil || len(f.Table.Rows) == 0 || len(f.Table.Rows) > mostTableRows {
			continue
		}
		k := slices.IndexFunc(tables, func(t *figure.Table) bool { return reflect.DeepEqual(t, f.Table) })
		if k < 0 {
			k, tables, titles = len(tables), append(tables, f.Table), append(titles, nil)
		}
		titles[k] = append(titles[k], p.look.say(f.Title))
	}
	for k, t := range tables {
		p.titled(strings.Join(titles[k], ", "))
		p.table(t)
	}
}

// side is where the cells of a column stand: words to the left, numbers to the right.
func side(t *figure.Table, column int) string {
	if len(t.Rows) > 0 {
		if _, words := t.Rows[0][column].(string); words {
			return "L"
		}
	}
	return "R"
}

// table prints a table over the width of the page, in a smaller size where it has many columns.
func (p page) table(t *figure.Table) {
	width, size := inner/float64(len(t.Columns)), 8.0
	if len(t.Columns) > 9 {
		size = 6.2
	}
	var head []cell
	for k, c := range t.Columns {
		head = append(head, p.heading(header(strings.ReplaceAll(c.Name, ".", " "), c.Unit), width, side(t, k)))
	}
	p.rowIn(head, 4.6, size)
	for _, row := range t.Rows {
		var cells []cell
		for i, x := range row {
			cells = append(cells, cell{TableCell(x, t.Columns[i].Unit), width, side(t, i), inkColor, false})
		}
		p.rowIn(cells, 4.6, size)
	}
	p.gap(3)
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
		p.remark(fmt.Sprintf("%d points of %d quantities are in the data files.", len(t.Rows), len(t.Columns)-3))
		p.gap(3)
		return
	}
	if same != "" {
		p.remark("The same at all: " + same)
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

// Overlay prints an overlay: the picture with its band, the figures with their spread, comparisons and differences.
func Overlay(o api.Overlay, look Look, format string, at time.Time) ([]byte, error) {
	p, err := look.begin(format, about{title: "Overlay", foot: "Overlay of " + fmt.Sprint(len(o.Curves)) + " curves",
		at: at})
	if err != nil {
		return nil, err
	}
	p.begun(head{kind: "Overlay", title: fmt.Sprintf("%d curves", len(o.Curves))})
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
			picture.Lines = append(picture.Lines, Line{Label: c.Label, X: c.X, Y: c.Y})
		}
	}
	if err := p.drawn([]Picture{picture}, inner, 100); err != nil {
		return nil, err
	}
	if o.Band != nil {
		p.remark(quantity.Sprintf("The band is widest at %.4g %s: %.4g %s", o.Band.At, o.XUnit, o.Band.Widest, o.YUnit))
	}
	for _, c := range o.Comparisons {
		color := inkColor
		if c.Differs {
			color = outcomes["pass"][0]
		}
		p.note(c.Words, noteStyle{size: 9, color: color, bold: true})
	}
	p.gap(2)
	p.overlayTables(o)
	return p.bytes("overlay")
}

func (p page) overlayTables(o api.Overlay) {
	if len(o.Pairs) > 0 {
		first, second := Sides(o)
		p.section("Figures side by side")
		p.row([]cell{p.heading("Figure", 66, "L"), {first, 36, "R", mutedColor, false},
			{second, 36, "R", mutedColor, false}, p.heading("difference", 36, "R")}, 6)
		for _, x := range o.Pairs {
			p.row([]cell{{x.Title, 66, "L", inkColor, true}, {Side(x.First, x.Unit), 36, "R", inkColor, false},
				{Side(x.Second, x.Unit), 36, "R", inkColor, false}, {Apart(x), 36, "R", inkColor, x.Differs}}, 6)
		}
		p.gap(3)
	}
	if len(o.Figures) > 0 && len(o.Pairs) == 0 {
		p.section("Figures and their spread")
		p.row([]cell{p.heading("Figure", 60, "L"), p.heading("runs", 14, "R"), p.heading("mean", 34, "R"),
			p.heading("spread", 30, "R"), p.heading("sd", 30, "R")}, 6)
		for _, f := range o.Figures {
			p.row([]cell{{f.Title, 60, "L", inkColor, true}, {fmt.Sprint(len(f.Values)), 14, "R", inkColor, false},
				{quantity.Sprintf("%.5g %s", f.Mean, f.Unit), 34, "R", inkColor, false},
				{percent(f.Spread), 30, "R", inkColor, false}, {percent(f.SD), 30, "R", inkColor, false}}, 6)
		}
		p.gap(3)
	}
	if len(o.Differences) > 0 {
		p.titled("Differences from " + o.Reference)
		in := func(word, unit string) cell { return p.heading(word+" ("+unit+")", 28, "R") }
		p.row([]cell{p.heading("Curve", 60, "L"), in(p.look.say("mean"), o.YUnit), in(p.look.say("rms"), o.YUnit),
			in(p.look.say("largest"), o.YUnit), in(p.look.say("end"), o.XUnit)}, 6)
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
