package report

import (
	"bytes"
	"image/color"
	"slices"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/core/wiring"
)

// The size of the drawing of a harness, mm: its height is that of its rows.
const (
	wiringWidth  = 120.0
	wiringRow    = 6.0
	headsAt      = 34.0
	tailsAt      = 86.0
	pinRadius    = 1.5
	wordsBeside  = 4.0
	shortReaches = 9.0 // of a short between pins of one row, beside it
)

// faultStyle is how a fault is drawn: by its line, its sign and its word, not by colour alone.
var faultStyles = map[wiring.FaultKind]struct {
	sign string
	dash []vg.Length
	wide float64
}{
	wiring.Opened:   {"○ open", []vg.Length{vg.Points(2), vg.Points(3)}, 1.2},
	wiring.Miswired: {"◊ miswire", nil, 2.4},
	wiring.Shorted:  {"■ short", []vg.Length{vg.Points(6), vg.Points(2)}, 2.4},
}

var faultColour = color.RGBA{0xa6, 0x2b, 0x1f, 0xff}

// ScansOf are the scans of a harness in a run, in order.
func ScansOf(marks []record.Mark) (all []record.Scanned) {
	for _, m := range marks {
		if s, is := m.About.(record.Scanned); is {
			all = append(all, s)
		}
	}
	return all
}

// Wiring draws how a harness is joined, as SVG; the error says why it cannot be judged.
func Wiring(s wiring.Scan) ([]byte, error) {
	d, err := s.Diagram()
	if err != nil {
		return nil, err
	}
	canvas := vgsvg.NewWith(vgsvg.UseWH(wiringWidth*vg.Millimeter, vg.Length(heightOf(d))*vg.Millimeter))
	drawWiring(canvas, d)
	var b bytes.Buffer
	_, err = canvas.WriteTo(&b)
	return b.Bytes(), err
}

func heightOf(d wiring.Diagram) float64 {
	return wiringRow*float64(max(len(d.Heads), len(d.Tails))) + wiringRow
}

// wired draws how a harness is joined by its last scan, or says why that cannot be judged.
func (p page) wired(doc api.Run) {
	scans := ScansOf(doc.Marks)
	if len(scans) == 0 {
		return
	}
	p.titled(p.look.say("Wiring"))
	d, err := scans[len(scans)-1].Diagram()
	if err == nil {
		err = p.drawn([]Picture{{Wired: &d}}, wiringWidth, heightOf(d))
	}
	if err != nil {
		p.remark(err.Error())
	}
}

// drawWiring draws two rows of pins with their wires, and at each fault its sign and its word.
func drawWiring(canvas vg.Canvas, d wiring.Diagram) {
	s := sketch{canvas, text.Plain{Fonts: font.DefaultCache}}
	height := heightOf(d)
	at := func(pin string) (x, y float64) {
		if i := slices.Index(d.Heads, pin); i >= 0 {
			return headsAt, height - wiringRow*(float64(i)+0.8)
		}
		return tailsAt, height - wiringRow*(float64(slices.Index(d.Tails, pin))+0.8)
	}
	words := map[string]string{} // beside pins, the first fault of each
	for _, w := range d.Wires {
		style := faultStyles[w.Fault]
		canvas.SetColor(ink)
		canvas.SetLineWidth(vg.Points(1.2))
		if w.Fault != "" {
			canvas.SetColor(faultColour)
			canvas.SetLineWidth(vg.Points(style.wide))
			canvas.SetLineDash(style.dash, 0)
			if words[w.To] == "" {
				words[w.To] = style.sign
			}
		}
		x0, y0 := at(w.From)
		x1, y1 := at(w.To)
		if x0 == x1 { // of one row: between the wires, beside it
			out := x0 - shortReaches
			if x0 == headsAt {
				out = x0 + shortReaches
			}
			s.line(x0, y0, out, y0, out, y1, x1, y1)
		} else {
			s.line(x0, y0, x1, y1)
		}
		canvas.SetLineDash(nil, 0)
	}
	canvas.SetColor(ink)
	for _, row := range [][]string{d.Heads, d.Tails} {
		for _, pin := range row {
			x, y := at(pin)
			canvas.SetColor(ink)
			canvas.Fill(circle(x, y, pinRadius))
			side := 1.0
			if x == headsAt {
				side = -1
			}
			s.beside(x+side*wordsBeside, y-1.1, 9, side, pin)
			if words[pin] != "" {
				canvas.SetColor(faultColour)
				s.beside(x+side*3.2*wordsBeside, y-1.1, 8.5, side, words[pin])
			}
		}
	}
}

// beside writes words that begin at a place, or end there with a side below 0.
func (s sketch) beside(x, y, size, side float64, words string) {
	face := s.font.Cache().Lookup(font.Font{Typeface: family, Variant: "Sans"}, vg.Points(size))
	at := point(x, y)
	if side < 0 {
		at.X -= face.Width(words)
	}
	s.canvas.FillString(face, at, words)
}
