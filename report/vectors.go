package report

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"

	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// vectors draws plots as vectors onto paper: a place on a page whose origin is at its lower left corner.
type vectors struct {
	p      *paper
	now    strokes
	before []strokes
}

// strokes are how the next stroke is drawn.
type strokes struct {
	// to are the coefficients that bring a point of the plot, pt, to one of the page, mm: x' = a·x + c·y + e and
	// y' = b·x + d·y + f.
	a, b, c, d, e, f float64
	width            vg.Length
	dash             []vg.Length
	offset           vg.Length
	color            color.Color
}

// perPoint is a point in mm.
const perPoint = 25.4 / 72

// newVectors draws onto a place with its upper left corner at x and y, mm.
func newVectors(p *paper, x, y, height float64) *vectors {
	return &vectors{p: p, now: strokes{a: perPoint, d: -perPoint, e: x, f: y + height, width: vg.Points(1),
		color: color.Black}}
}

func (v *vectors) at(pt vg.Point) (x, y float64) {
	n := v.now
	px, py := float64(pt.X), float64(pt.Y)
	return n.a*px + n.c*py + n.e, n.b*px + n.d*py + n.f
}

// scale is how many mm a point is long.
func (v *vectors) scale() float64 { return math.Sqrt(math.Abs(v.now.a*v.now.d - v.now.b*v.now.c)) }

// SetLineWidth implements vg.Canvas, as do the methods below.
func (v *vectors) SetLineWidth(w vg.Length) { v.now.width = w }

func (v *vectors) SetLineDash(pattern []vg.Length, offset vg.Length) {
	v.now.dash, v.now.offset = pattern, offset
}

func (v *vectors) SetColor(c color.Color) {
	if c == nil {
		c = color.Black
	}
	v.now.color = c
}

func (v *vectors) Rotate(rad float64) {
	sin, cos := math.Sincos(rad)
	n := v.now
	v.now.a, v.now.b = n.a*cos+n.c*sin, n.b*cos+n.d*sin
	v.now.c, v.now.d = n.c*cos-n.a*sin, n.d*cos-n.b*sin
}

func (v *vectors) Translate(pt vg.Point) { v.now.e, v.now.f = v.at(pt) }

func (v *vectors) Scale(x, y float64) {
	v.now.a, v.now.b, v.now.c, v.now.d = v.now.a*x, v.now.b*x, v.now.c*y, v.now.d*y
}

func (v *vectors) Push() { v.before = append(v.before, v.now) }

func (v *vectors) Pop() {
	last := len(v.before) - 1
	v.now, v.before = v.before[last], v.before[:last]
}

func (v *vectors) Stroke(path vg.Path) {
	if v.now.width <= 0 || len(path) == 0 {
		return
	}
	v.ink()
	v.p.SetLineWidth(float64(v.now.width) * v.scale())
	dashes := make([]float64, len(v.now.dash))
	for i, d := range v.now.dash {
		dashes[i] = float64(d) * v.scale()
	}
	v.p.SetDashPattern(dashes, float64(v.now.offset)*v.scale())
	v.trace(path)
	v.p.DrawPath("D")
	v.p.SetDashPattern(nil, 0)
	v.p.SetAlpha(1, "Normal")
}

func (v *vectors) Fill(path vg.Path) {
	if len(path) == 0 {
		return
	}
	v.ink()
	v.trace(path)
	v.p.DrawPath("F")
	v.p.SetAlpha(1, "Normal")
}

// ink takes the colour.
func (v *vectors) ink() rgb {
	c := color.NRGBAModel.Convert(v.now.color).(color.NRGBA)
	r, g, b := int(c.R), int(c.G), int(c.B)
	v.p.SetDrawColor(r, g, b)
	v.p.SetFillColor(r, g, b)
	if c.A != 0xff {
		v.p.SetAlpha(float64(c.A)/0xff, "Normal")
	}
	return rgb{r, g, b}
}

// arcSteps is of how many straight pieces a whole circle is drawn.
const arcSteps = 32

func (v *vectors) trace(path vg.Path) {
	for _, c := range path {
		x, y := v.at(c.Pos)
		switch c.Type {
		case vg.MoveComp:
			v.p.MoveTo(x, y)
		case vg.LineComp:
			v.p.LineTo(x, y)
		case vg.ArcComp:
			steps := max(int(math.Ceil(math.Abs(c.Angle)/(2*math.Pi)*arcSteps)), 1)
			for k := range steps + 1 {
				sin, cos := math.Sincos(c.Start + c.Angle*float64(k)/float64(steps))
				px, py := v.at(vg.Point{X: c.Pos.X + c.Radius*vg.Length(cos), Y: c.Pos.Y + c.Radius*vg.Length(sin)})
				if k == 0 {
					v.p.MoveTo(px, py)
				} else {
					v.p.LineTo(px, py)
				}
			}
		case vg.CurveComp:
			first, last := c.Control[0], c.Control[len(c.Control)-1]
			x0, y0 := v.at(first)
			x1, y1 := v.at(last)
			v.p.CurveBezierCubicTo(x0, y0, x1, y1, x, y)
		case vg.CloseComp:
			v.p.ClosePath()
		}
	}
}

func (v *vectors) FillString(f font.Face, pt vg.Point, text string) {
	x, y := v.at(pt)
	v.p.font("", float64(f.Font.Size)*v.scale()/perPoint, v.ink())
	turned := math.Atan2(-v.now.b, v.now.a) * 180 / math.Pi
	if math.Abs(turned) > 1e-6 {
		v.p.TransformBegin()
		v.p.TransformRotate(turned, x, y)
	}
	v.p.Text(x, y, text)
	if math.Abs(turned) > 1e-6 {
		v.p.TransformEnd()
	}
	v.p.SetAlpha(1, "Normal")
}

func (v *vectors) DrawImage(r vg.Rectangle, img image.Image) {
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		v.p.SetError(fmt.Errorf("draw an image: %w", err))
		return
	}
	left, top := v.at(vg.Point{X: r.Min.X, Y: r.Max.Y})
	right, bottom := v.at(vg.Point{X: r.Max.X, Y: r.Min.Y})
	name := fmt.Sprintf("image %d at %.2f %.2f", v.p.PageNo(), left, top)
	options := fpdf.ImageOptions{ImageType: "PNG"}
	v.p.RegisterImageOptionsReader(name, options, &b)
	v.p.ImageOptions(name, left, top, right-left, bottom-top, false, options, 0, "")
}
