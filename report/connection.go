package report

import (
	"bytes"
	"fmt"
	"image/color"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"

	"usherbench/api"
	"usherbench/core/burden"
)

// Wirings are those of which there is a drawing.
func Wirings() []string { return []string{string(burden.AtSupply), string(burden.AtUnit)} }

// The size of the drawing of a connection, mm.
const connectionWidth, connectionHeight = 85.0, 46.0

// Connection draws how the voltage input of a power meter is joined, as SVG.
func Connection(wiring string) ([]byte, error) {
	if !slices.Contains(Wirings(), wiring) {
		return nil, fmt.Errorf("there is no wiring %q; say %s", wiring, strings.Join(Wirings(), " or "))
	}
	canvas := vgsvg.NewWith(vgsvg.UseWH(connectionWidth*vg.Millimeter, connectionHeight*vg.Millimeter))
	drawConnection(canvas, burden.Wiring(wiring))
	var b bytes.Buffer
	_, err := canvas.WriteTo(&b)
	return b.Bytes(), err
}

// connected is the drawing of how a run was wired; nil where that made no difference.
func (p page) connected(doc api.Run) []Picture {
	for _, w := range Wirings() {
		if slices.ContainsFunc(doc.Accuracies, func(a api.Accuracy) bool { return strings.HasSuffix(a.Words, w) }) {
			return []Picture{{Title: p.look.say(w), Connection: burden.Wiring(w)}}
		}
	}
	return nil
}

// sketch draws with lines on a canvas, mm from its lower left corner.
type sketch struct {
	canvas vg.Canvas
	font   text.Handler
}

func point(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x) * vg.Millimeter, Y: vg.Length(y) * vg.Millimeter}
}

func (s sketch) line(points ...float64) {
	var path vg.Path
	for k := 0; k < len(points); k += 2 {
		if k == 0 {
			path.Move(point(points[0], points[1]))
		} else {
			path.Line(point(points[k], points[k+1]))
		}
	}
	s.canvas.Stroke(path)
}

func (s sketch) dot(x, y float64) {
	s.canvas.Fill(circle(x, y, 0.8))
}

func circle(x, y, radius float64) (path vg.Path) {
	path.Move(point(x+radius, y))
	path.Arc(point(x, y), vg.Length(radius)*vg.Millimeter, 0, 2*math.Pi)
	path.Close()
	return path
}

// round is an instrument with its sign.
func (s sketch) round(x, y, radius float64, sign string) {
	s.canvas.SetColor(color.White)
	s.canvas.Fill(circle(x, y, radius))
	s.canvas.SetColor(ink)
	s.canvas.Stroke(circle(x, y, radius))
	s.write(x, y-1.3, 11, sign)
}

// write puts words about the middle of a place.
func (s sketch) write(x, y, size float64, words string) {
	face := s.font.Cache().Lookup(font.Font{Typeface: family, Variant: "Sans"}, vg.Points(size))
	at := point(x, y)
	at.X -= face.Width(words) / 2
	s.canvas.FillString(face, at, words)
}

// drawConnection draws a supply, a power meter with its ammeter and voltmeter, and a unit: the voltmeter at the supply,
// before the ammeter, or at the unit, behind it.
func drawConnection(canvas vg.Canvas, wiring burden.Wiring) {
	const low, middle, high = 7.0, 20.0, 33.0
	s := sketch{canvas, text.Plain{Fonts: font.DefaultCache}}
	canvas.SetColor(ink)
	canvas.SetLineWidth(vg.Points(1))
	s.line(9, middle, 9, high, 74, high, 74, middle)
	s.line(9, middle, 9, low, 74, low, 74, middle)
	s.round(9, middle, 5.5, "~")
	volts := 28.0
	if wiring == burden.AtUnit {
		volts = 54
	}
	s.line(volts, low, volts, high)
	s.dot(volts, low)
	s.dot(volts, high)
	s.round(volts, middle, 4.6, "V")
	s.round(41, high, 4.6, "A")
	var unit vg.Path
	unit.Move(point(67, 13))
	for _, corner := range [][2]float64{{81, 13}, {81, 27}, {67, 27}} {
		unit.Line(point(corner[0], corner[1]))
	}
	unit.Close()
	canvas.SetColor(color.White)
	canvas.Fill(unit)
	canvas.SetColor(ink)
	canvas.Stroke(unit)
	s.write(74, middle-1, 8.5, "unit")
	canvas.SetColor(grid)
	canvas.SetLineDash([]vg.Length{vg.Points(3), vg.Points(2)}, 0)
	s.line(20, 2.5, 62, 2.5, 62, 40.5, 20, 40.5, 20, 2.5)
	canvas.SetLineDash(nil, 0)
	canvas.SetColor(ink)
	s.write(41, 42, 8, "power meter")
}
