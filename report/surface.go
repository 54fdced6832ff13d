package report

import (
	"fmt"
	"image/color"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/palette"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"usherbench/core/figure/converter"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
)

// efficiencyMaps draws the efficiency maps among the figures.
func efficiencyMaps(figures []procedure.Judged) (pictures []Picture) {
	for _, f := range figures {
		if f.ID != "efficiency-map" {
			continue
		}
		if s, ok := converter.SurfaceOf(f.Table); ok {
			pictures = append(pictures, Picture{Title: "Efficiency map (%)", XLabel: axis(f.Table.Columns[1].Name),
				YLabel: axis(f.Table.Columns[0].Name), Surface: &s})
		}
	}
	return pictures
}

// fine is a surface as finely as it is drawn; it implements plotter.GridXYZ.
type fine struct {
	converter.Surface
	columns, rows int
}

func (f fine) Dims() (c, r int)   { return f.columns, f.rows }
func (f fine) X(c int) float64    { return between(f.Load, c, f.columns) }
func (f fine) Y(r int) float64    { return between(f.Line, r, f.rows) }
func (f fine) Z(c, r int) float64 { return f.Between(f.Y(r), f.X(c)) }

// between is the k-th of n places along an axis.
func between(axis []float64, k, n int) float64 {
	first, last := axis[0], axis[len(axis)-1]
	return math.Min(first+(last-first)*float64(k)/float64(n-1), last)
}

// shades are the colours of a surface from its lowest to its highest value.
type shades int

func (s shades) Colors() []color.Color {
	all := make([]color.Color, s)
	for i := range all {
		share := float64(i) / float64(s-1)
		mix := func(low, high float64) uint8 { return uint8(low + share*(high-low)) }
		all[i] = color.RGBA{mix(0xf6, 0x76), mix(0xec, 0xbc), mix(0xd8, 0xae), 0xff}
	}
	return all
}

var _ palette.Palette = shades(0)

// drawSurface draws a map with labelled contours, and a dot at every place that was measured.
func (p Picture) drawSurface(pl *plot.Plot) error {
	if p.Surface == nil {
		return nil
	}
	s := *p.Surface
	const columns, rows = 160, 100
	heat := plotter.NewHeatMap(fine{s, columns, rows}, shades(48))
	heat.NaN, heat.Rasterized = color.Transparent, true
	heat.Min, heat.Max = s.Body()
	heat.Underflow = heat.Palette.Colors()[0]
	pl.Add(heat)
	levels := s.Levels()
	if len(levels) > 0 {
		contour := plotter.NewContour(fine{s, columns / 2, rows / 2}, levels, nil)
		contour.LineStyles = []draw.LineStyle{{Color: ink, Width: vg.Points(0.5)}}
		pl.Add(contour)
	}
	measured := plotter.XYs{}
	for i, line := range s.Line {
		for j, load := range s.Load {
			if !math.IsNaN(s.At[i][j]) {
				measured = append(measured, plotter.XY{X: load, Y: line})
			}
		}
	}
	dots, err := plotter.NewScatter(measured)
	if err != nil {
		return fmt.Errorf("draw %s: %w", p.Title, err)
	}
	dots.GlyphStyle = draw.GlyphStyle{Color: ink, Radius: vg.Points(1), Shape: draw.CircleGlyph{}}
	pl.Add(dots)
	return p.labelContours(pl, s, levels)
}

// labelContours writes the value of each contour where it crosses the height between the lines.
func (p Picture) labelContours(pl *plot.Plot, s converter.Surface, levels []float64) error {
	const steps, room = 400, 30 // a label takes so many steps of the width
	height := (s.Line[0] + s.Line[1]) / 2
	var at plotter.XYLabels
	last := -room
	for k := 1; k < steps; k++ {
		before, now := s.Between(height, between(s.Load, k-1, steps)), s.Between(height, between(s.Load, k, steps))
		for _, level := range levels {
			if (before-level)*(now-level) <= 0 && before != now && k-last >= room {
				last = k
				at.XYs = append(at.XYs, plotter.XY{X: between(s.Load, k, steps), Y: height})
				at.Labels = append(at.Labels, quantity.Digits(level, 4))
			}
		}
	}
	if len(at.Labels) == 0 {
		return nil
	}
	labels, err := plotter.NewLabels(at)
	if err != nil {
		return fmt.Errorf("label %s: %w", p.Title, err)
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Color = ink
		labels.TextStyle[i].Font = font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Points(6.5)}
		labels.TextStyle[i].XAlign, labels.TextStyle[i].YAlign = text.XCenter, text.YCenter
	}
	pl.Add(labels)
	return nil
}
