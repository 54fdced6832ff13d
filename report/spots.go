package report

import (
	"fmt"
	"slices"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// spotsOf are where the figures of a run lie in a picture, as far as they are determined.
func spotsOf(c procedure.Curve, figures []procedure.Judged) (spots []figure.Spot) {
	for _, f := range figures {
		for _, s := range f.Spots {
			logarithmic := strings.Contains(c.Log, "x") && s.X <= 0 || strings.Contains(c.Log, "y") && s.Y <= 0
			if s.By == c.By && s.Of == c.Of && s.Label != "" && f.Undetermined == nil && !logarithmic &&
				!slices.Contains(spots, s) { // figures made of one another lie at one spot
				spots = append(spots, s)
			}
		}
	}
	return spots
}

// drawSpots draws a cross where each figure lies, with what it is and its place.
func (p Picture) drawSpots(pl *plot.Plot, f font.Font) error {
	for _, s := range p.Spots {
		at := plotter.XYs{{X: s.X, Y: s.Y}}
		cross, err := plotter.NewScatter(at)
		if err != nil {
			return fmt.Errorf("draw %s: %w", s.Label, err)
		}
		cross.Shape, cross.Radius, cross.Color = draw.CrossGlyph{}, vg.Points(4.5), ink
		words, err := plotter.NewLabels(plotter.XYLabels{XYs: at, Labels: []string{SpotWords(s)}})
		if err != nil {
			return fmt.Errorf("draw %s: %w", s.Label, err)
		}
		words.Offset = vg.Point{X: -vg.Points(7), Y: vg.Points(3)}
		words.TextStyle[0].Font, words.TextStyle[0].Color = f, ink
		words.TextStyle[0].XAlign = -1 // to the left of the cross, where a curve that rises to it leaves room
		if s.X-pl.X.Min < 0.35*(pl.X.Max-pl.X.Min) {
			words.Offset.X, words.TextStyle[0].XAlign = vg.Points(7), 0
		}
		pl.Add(cross, words)
	}
	return nil
}

// SpotWords say what lies at a spot, and where.
func SpotWords(s figure.Spot) string {
	show := func(column string, x float64) string {
		unit := trace.UnitOf(column)
		return quantity.Quantity{Value: x * unit.Factor, Dim: unit.Dim}.Format(4)
	}
	return fmt.Sprintf("%s %s at %s", s.Label, show(s.Of, s.Y), show(s.By, s.X))
}
