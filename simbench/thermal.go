package simbench

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"

	"usherbench/simbench/plant"
)

// ThermalPicture is what a thermal camera sees of the bus bars of a unit, as PNG.
type ThermalPicture struct {
	PNG []byte
	// Coldest and Hottest are what the ends of its colours stand for, °C.
	Coldest, Hottest float64
}

// The picture of the camera, pixels, with the strip for the scale at its right.
const thermalWidth, thermalHeight, thermalScale = 480, 360, 64

// Thermal takes a thermal picture in a bay.
func (b *Bench) Thermal(bay string) (ThermalPicture, error) {
	f, err := b.fixture(bay)
	if err != nil {
		return ThermalPicture{}, err
	}
	f.mu.Lock()
	f.now()
	unit, ok := f.unit.(interface{ Bars() []float64 })
	var bars []float64
	if ok {
		bars = append(bars, unit.Bars()...)
	}
	f.mu.Unlock()
	if !ok {
		return ThermalPicture{}, fmt.Errorf("the unit in %s has no bus bars to look at; choose the layout %s", bay,
			Recirculated)
	}
	return ThermalOf(bars)
}

// ThermalOf draws bus bars beside each other, each as warm as told where it is joined, °C.
func ThermalOf(bars []float64) (ThermalPicture, error) {
	p := ThermalPicture{Coldest: plant.Ambient - 2, Hottest: plant.Ambient + 8}
	for _, x := range bars {
		p.Hottest = math.Max(p.Hottest, math.Ceil(x)+1)
	}
	m := image.NewRGBA(image.Rect(0, 0, thermalWidth+thermalScale, thermalHeight))
	for y := range thermalHeight {
		for x := range thermalWidth {
			celsius := warmth(bars, float64(x)/thermalWidth, float64(y)/thermalHeight)
			m.Set(x, y, thermalColor((celsius-p.Coldest)/(p.Hottest-p.Coldest)))
		}
		for x := range thermalScale {
			c := color.Color(color.RGBA{0x0b, 0x1a, 0x1f, 0xff})
			if x >= 12 && x < 28 && y >= 30 && y < thermalHeight-30 {
				c = thermalColor(1 - float64(y-30)/(thermalHeight-60))
			}
			m.Set(thermalWidth+x, y, c)
		}
	}
	for _, label := range []struct {
		celsius float64
		y       int
	}{{p.Hottest, 20}, {p.Coldest, thermalHeight - 12}} {
		d := font.Drawer{Dst: m, Src: image.White, Face: basicfont.Face7x13, Dot: fixed.P(thermalWidth+8, label.y)}
		d.DrawString(fmt.Sprintf("%.0f C", label.celsius))
	}
	var out bytes.Buffer
	err := png.Encode(&out, m)
	p.PNG = out.Bytes()
	return p, err
}

// warmth is how warm it is at a place of the picture, 0 … 1 each way, °C.
func warmth(bars []float64, x, y float64) float64 {
	celsius := plant.Ambient - 1 + 2*(1-y)
	for i, hot := range bars {
		middle := (float64(i) + 0.5) / float64(len(bars))
		across := math.Abs(x-middle) * float64(len(bars)) // 0.5 is half way to the next
		joint := math.Exp(-math.Pow((y-0.34)/0.09, 2))
		along := 0.35 + 0.15*math.Exp(-math.Pow((y-0.34)/0.3, 2)) + 0.5*joint
		edge := 1 / (1 + math.Exp((across-0.22-0.1*joint)/0.02)) // the bar is wider at its joint
		celsius += (hot - plant.Ambient) * along * edge
	}
	return celsius
}

// thermalColor is the colour of a share of the scale: dark, deep water, rust, amber, cream.
func thermalColor(share float64) color.RGBA {
	stops := [...][3]float64{{11, 26, 31}, {31, 86, 94}, {147, 60, 20}, {243, 179, 61}, {255, 246, 221}}
	at := math.Max(math.Min(share, 1), 0) * float64(len(stops)-1)
	k := min(int(at), len(stops)-2)
	mix := func(i int) uint8 { return uint8(stops[k][i] + (at-float64(k))*(stops[k+1][i]-stops[k][i])) }
	return color.RGBA{mix(0), mix(1), mix(2), 0xff}
}
