package report

import (
	"bytes"
	"errors"
	"fmt"
	"image/color"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/floats"
	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"usherbench/api"
	"usherbench/core/burden"
	"usherbench/core/figure"
	"usherbench/core/figure/converter"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/wiring"
)

// Line is one curve of a picture.
type Line struct {
	Label string
	X, Y  []float64
	// Plain is true for one without dots, in a picture whose other lines have them.
	Plain bool
}

// Picture is a curve request evaluated over the points of a run.
type Picture struct {
	Title, XLabel, YLabel string
	// Note is what somebody has written about it; several pictures may share one.
	Note  string
	Lines []Line
	// Plain lines have no dots: they are drawn from many places.
	Plain bool
	// Thin lines are drawn of what is dense.
	Thin bool
	// Between has the legend stand halfway up, where lines run along the top and the bottom.
	Between bool
	// LogX and LogY are for logarithmic axes, on which there is nothing at or below 0.
	LogX, LogY bool
	units      [2]string // of the axes
	// Spots are where figures lie.
	Spots []figure.Spot
	// Surface is drawn as a map with contours in place of lines; nil: there is none.
	Surface *converter.Surface
	// Connection is drawn in place of axes and lines: how the voltage input of a power meter is joined.
	Connection burden.Wiring
	// Wired is drawn in place of axes and lines: how a harness is joined; nil: there is none.
	Wired *wiring.Diagram
	// Band is drawn behind the lines, from Min to Max; nil: none.
	Band *api.OverlayBand
	// Spells are drawn behind the lines, each with its state above it: T0 and T1 in the unit of the X axis.
	Spells []record.Spell
}

// Pictures evaluates the curves that a run's procedure asks for.
func Pictures(doc api.Run) []Picture {
	var pictures []Picture
	for _, c := range doc.Curves {
		p := picture(c)
		for _, played := range doc.Played {
			if played.Curve == c {
				p.Lines = append(p.Lines, Line{Label: played.Label, X: played.X, Y: slices.Clone(played.Y), Plain: !played.Dots})
			}
		}
		p.deviates(c, doc.Rated)
		if c.Less == "" {
			p.Spots = spotsOf(c, doc.Figures)
		}
		if len(p.Lines) > 0 {
			pictures = append(pictures, p)
		}
	}
	return append(pictures, efficiencyMaps(doc.Figures)...)
}

func picture(c procedure.Curve) Picture {
	p := Picture{Title: titleOf(c, label(c.Of)), XLabel: axis(c.By), YLabel: axis(c.Of), Between: c.Title != "",
		LogX: strings.Contains(c.Log, "x"), LogY: strings.Contains(c.Log, "y")}
	p.units = [2]string{trace.UnitOf(c.By).Symbol, trace.UnitOf(c.Of).Symbol}
	return p
}

func titleOf(c procedure.Curve, of string) string {
	if c.Title != "" {
		return c.Title
	}
	return fmt.Sprintf("%s by %s", of, strings.ToLower(label(c.By)))
}

// deviates draws the lines as their deviation, where the curve asks for that.
func (p *Picture) deviates(c procedure.Curve, rated map[string]float64) {
	if c.Less == "" {
		return
	}
	from := label(c.Less)
	switch c.Less {
	case procedure.LessMean:
		from = "the mean"
	case procedure.LessRated:
		unit := trace.UnitOf(c.Of)
		from = "rated " + quantity.Quantity{Value: rated[c.Of] * unit.Factor, Dim: unit.Dim}.String()
	}
	for _, l := range p.Lines {
		base := 0.0
		switch c.Less {
		case procedure.LessRated:
			base = rated[c.Of]
		case procedure.LessMean:
			base = stat.Mean(l.Y, nil)
		}
		floats.AddConst(-base, l.Y)
	}
	p.Title = titleOf(c, label(c.Of)+" less "+from)
	of := axis(c.Of)
	p.YLabel = "Deviation of " + strings.ToLower(of[:1]) + of[1:]
}

func label(of string) string {
	seat, q, ok := strings.Cut(of, ".")
	if ok {
		of = seat + " " + orWord(columnWords[q], q)
	}
	return strings.ToUpper(of[:1]) + of[1:]
}

// columnWords are what columns are called whose names say their unit alone.
var columnWords = map[string]string{"dbv": "level", "hertz": "frequency"}

func axis(of string) string {
	unit := trace.UnitOf(of).Symbol
	switch of {
	case "efficiency":
		unit = "%"
	case "loss":
		unit = "W"
	}
	if unit == "" {
		return label(of)
	}
	return fmt.Sprintf("%s (%s)", label(of), unit)
}

// powers are the ticks of a logarithmic axis: at the powers of ten, in a unit.
func powers(symbol string) plot.Ticker {
	unit, err := quantity.ParseUnit(symbol)
	return plot.TickerFunc(func(low, high float64) (all []plot.Tick) {
		for e := math.Ceil(math.Log10(low) - 1e-9); e <= math.Log10(high)+1e-9; e++ {
			q := quantity.Quantity{Value: math.Pow(10, e)}
			if err == nil {
				q.Dim = unit.Dim
			}
			all = append(all, plot.Tick{Value: q.Value, Label: q.Format(2)})
		}
		return all
	})
}

// lineStyle is how a line is drawn.
type lineStyle struct {
	color color.RGBA
	dash  []vg.Length
}

// The colours of the console's quantities on paper, in the order of lines, with a dash each so that colour is
// never the only sign.
var lineStyles = []lineStyle{
	{color.RGBA{0x00, 0x67, 0xa5, 0xff}, nil},
	{color.RGBA{0xc9, 0x4f, 0x00, 0xff}, []vg.Length{vg.Points(6), vg.Points(2)}},
	{color.RGBA{0x00, 0x79, 0x5a, 0xff}, []vg.Length{vg.Points(2), vg.Points(2)}},
	{color.RGBA{0xa3, 0x4a, 0x80, 0xff}, []vg.Length{vg.Points(8), vg.Points(2), vg.Points(2), vg.Points(2)}},
	{color.RGBA{0x8a, 0x6a, 0x00, 0xff}, []vg.Length{vg.Points(10), vg.Points(3)}},
}

var ink, grid = color.RGBA{0x1d, 0x2a, 0x2b, 0xff}, color.RGBA{0xdd, 0xd5, 0xc5, 0xff}

// PNG draws a picture, width and height in millimetres.
func (p Picture) PNG(width, height float64) ([]byte, error) {
	canvas := vgimg.NewWith(vgimg.UseWH(vg.Length(width)*vg.Millimeter, vg.Length(height)*vg.Millimeter),
		vgimg.UseDPI(220))
	if err := p.draw(canvas, width, height); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if _, err := (vgimg.PngCanvas{Canvas: canvas}).WriteTo(&b); err != nil {
		return nil, fmt.Errorf("draw %s: %w", p.Title, err)
	}
	return b.Bytes(), nil
}

// draw draws a picture onto a canvas of a size, millimetres.
func (p Picture) draw(canvas vg.Canvas, width, height float64) error {
	if p.Wired != nil {
		drawWiring(canvas, *p.Wired)
		return nil
	}
	if p.Connection != "" {
		drawConnection(canvas, p.Connection)
		return nil
	}
	pl := plot.New()
	sans := func(size float64) font.Font {
		return font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Points(size)}
	}
	pl.X.Label.Text, pl.Y.Label.Text = p.XLabel, p.YLabel
	for _, a := range []*plot.Axis{&pl.X, &pl.Y} {
		a.Label.TextStyle.Font, a.Tick.Label.Font = sans(8.5), sans(8)
		a.Label.TextStyle.Color, a.Tick.Label.Color, a.Color = ink, ink, ink
		a.Tick.Color = ink
	}
	pl.Legend.TextStyle.Font, pl.Legend.TextStyle.Color = sans(8), ink
	pl.Legend.Top, pl.Legend.ThumbnailWidth, pl.Legend.Padding = p.falls(), vg.Points(24), vg.Points(1)
	if p.Between {
		pl.Legend.Top, pl.Legend.YOffs = false, vg.Length(height/3)*vg.Millimeter
	}
	pl.X.Tick.Marker, pl.Y.Tick.Marker = plot.TickerFunc(ticks), plot.TickerFunc(ticks)
	for i, log := range []bool{p.LogX, p.LogY} {
		if a := []*plot.Axis{&pl.X, &pl.Y}[i]; log {
			a.Scale, a.Tick.Marker = plot.LogScale{}, powers(p.units[i])
		}
	}
	lines := plotter.NewGrid()
	lines.Horizontal.Color, lines.Vertical.Color = grid, grid
	pl.Add(lines)
	if err := errors.Join(p.drawBand(pl), p.drawSurface(pl)); err != nil {
		return err
	}
	for i, l := range p.Lines {
		style := lineStyles[i%len(lineStyles)]
		if len(p.Lines) > len(lineStyles) {
			style = shade(i, len(p.Lines))
		}
		xys := make(plotter.XYs, len(l.X))
		for k := range l.X {
			xys[k].X, xys[k].Y = l.X[k], l.Y[k]
		}
		line, dots, err := plotter.NewLinePoints(xys)
		if err != nil {
			return fmt.Errorf("draw %s: %w", p.Title, err)
		}
		line.Color, line.Dashes, line.Width = style.color, style.dash, vg.Points(1.2)
		if p.Thin && i == 0 {
			line.Width = vg.Points(0.5)
		}
		dots.Color, dots.Shape, dots.Radius = style.color, draw.CircleGlyph{}, vg.Points(1.6)
		pl.Add(line)
		if !p.Plain && !l.Plain {
			pl.Add(dots)
		}
		if said := len(p.Lines) == 1 && strings.HasPrefix(strings.ToLower(p.YLabel), l.Label); l.Label != "" && !said &&
			len(p.Lines) <= mostLegend {
			pl.Legend.Add(l.Label, line)
		}
	}
	if err := p.drawSpots(pl, sans(8)); err != nil {
		return err
	}
	if p.Surface == nil && !p.LogY {
		pad(&pl.Y)
	}
	if err := p.drawSpells(pl, sans(8)); err != nil {
		return err
	}
	pl.Draw(draw.NewCanvas(canvas, vg.Length(width)*vg.Millimeter, vg.Length(height)*vg.Millimeter))
	return nil
}

// mostLegend is how many lines a legend has room for.
const mostLegend = 6

// shade is the style of one of many lines: by lightness, from dark to light.
func shade(i, n int) lineStyle {
	share := float64(i) / math.Max(float64(n-1), 1)
	mix := func(dark, light float64) uint8 { return uint8(dark + share*(light-dark)) }
	return lineStyle{color: color.RGBA{mix(0x00, 0x8c), mix(0x3a, 0xbf), mix(0x5c, 0xe0), 0xff}}
}

// drawBand fills where the curves lie.
func (p Picture) drawBand(pl *plot.Plot) error {
	if p.Band == nil || len(p.Band.X) < 2 {
		return nil
	}
	n := len(p.Band.X)
	edge := make(plotter.XYs, 0, 2*n)
	for k := range n {
		edge = append(edge, plotter.XY{X: p.Band.X[k], Y: p.Band.Max[k]})
	}
	for k := n - 1; k >= 0; k-- {
		edge = append(edge, plotter.XY{X: p.Band.X[k], Y: p.Band.Min[k]})
	}
	area, err := plotter.NewPolygon(edge)
	if err != nil {
		return fmt.Errorf("draw the band of %s: %w", p.Title, err)
	}
	area.Color, area.LineStyle.Width = color.RGBA{0xec, 0xe2, 0xcc, 0xff}, 0
	pl.Add(area)
	return nil
}

// spellRoom is the share of the height that the names of states have above the lines.
const spellRoom = 0.12

// drawSpells shades every second state and names all of them above the lines, in a room of their own.
func (p Picture) drawSpells(pl *plot.Plot, sans font.Font) error {
	if len(p.Spells) == 0 {
		return nil
	}
	low, top := pl.Y.Min, pl.Y.Max+spellRoom*(pl.Y.Max-pl.Y.Min)
	names := plotter.XYLabels{}
	for i, s := range p.Spells {
		from, to := max(s.T0, pl.X.Min), min(s.T1, pl.X.Max)
		if !(to > from) {
			continue
		}
		names.XYs = append(names.XYs, plotter.XY{X: (from + to) / 2, Y: top})
		names.Labels = append(names.Labels, s.State)
		area, err := plotter.NewPolygon(plotter.XYs{{X: from, Y: low}, {X: to, Y: low}, {X: to, Y: top}, {X: from, Y: top}})
		if err != nil {
			return fmt.Errorf("draw the states of %s: %w", p.Title, err)
		}
		area.LineStyle.Width = 0
		area.Color = color.RGBA{0xec, 0xe2, 0xcc, uint8(0x90 * (i % 2))}
		area.LineStyle.Color = grid
		pl.Add(area)
	}
	labels, err := plotter.NewLabels(names)
	if err != nil {
		return fmt.Errorf("name the states of %s: %w", p.Title, err)
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Font, labels.TextStyle[i].Color = sans, ink
		labels.TextStyle[i].XAlign, labels.TextStyle[i].YAlign = draw.XCenter, draw.YTop
	}
	pl.Add(labels)
	pl.Y.Max = top
	return nil
}

// falls tells whether the curves end lower than they begin, so that the free corner on the right is the upper one.
func (p Picture) falls() bool {
	var change float64
	for _, l := range p.Lines {
		change += l.Y[len(l.Y)-1] - l.Y[0]
	}
	return change < 0
}

// ticks divides an axis into four to eight round steps, with labels of as many decimals as the step needs.
func ticks(least, most float64) []plot.Tick {
	raw := (most - least) / 5
	if !(raw > 0) {
		return []plot.Tick{{Value: least, Label: quantity.Fixed(least, 3)}}
	}
	power := math.Pow(10, math.Floor(math.Log10(raw)))
	step := 10 * power
	for _, round := range []float64{1, 2, 5} {
		if raw <= round*power {
			step = round * power
			break
		}
	}
	decimals := max(0, int(math.Ceil(-math.Log10(step)-1e-9)))
	var all []plot.Tick
	for k := math.Ceil(least/step - 1e-9); k*step <= most+1e-9*step; k++ {
		all = append(all, plot.Tick{Value: k * step, Label: quantity.Fixed(k*step, decimals)})
	}
	return all
}

// pad leaves some air above and below the curves, so that a flat one does not fill the picture with noise at its
// edge.
func pad(a *plot.Axis) {
	span := a.Max - a.Min
	if span <= 0 {
		span = math.Max(math.Abs(a.Max)*1e-3, 1e-6)
	}
	a.Min, a.Max = a.Min-0.08*span, a.Max+0.08*span
}
