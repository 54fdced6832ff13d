package archive

import (
	"slices"

	"usherbench/api"
	"usherbench/core/procedure"
)

// Drawn is what figures show of what they were computed from: the curves, and the pictures in which they stand.
func Drawn(figures []procedure.Judged) (pictures []procedure.Curve, lines []api.PlayedCurve) {
	for _, f := range figures {
		if f.Drawing == nil {
			continue
		}
		c := procedure.Curve{Title: f.Drawing.Title, Of: f.Drawing.Of, By: f.Drawing.By}
		if slices.Contains(pictures, c) {
			continue // as a range and its ends are drawn alike
		}
		pictures = append(pictures, c)
		for _, l := range f.Drawing.Lines {
			lines = append(lines, api.PlayedCurve{Curve: c, Label: l.Label, Dots: l.Dots, X: l.X, Y: l.Y})
		}
	}
	return pictures, lines
}
