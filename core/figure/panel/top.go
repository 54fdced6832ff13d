package panel

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
)

// severalWithin is how near to the top another maximum of the power is worth a remark, as a share of it.
const severalWithin = 0.02

// top finds the place of largest power and its neighbours: of a noisy sweep the first on each side that lie at least a
// share below it.
func (c *curve) top(share float64) ([]int, error) {
	n := len(c.Points)
	if n < 3 {
		return nil, tooFew(n)
	}
	at := 0
	for k := range c.Points {
		if c.Points[k].Watts() > c.Points[at].Watts() {
			at = k
		}
	}
	found, ok := c.beside(at, share)
	if !ok {
		return nil, record.Because(record.NotFound, "the largest power lies at an end of the sweep, at %.5g V; sweep further",
			c.Points[at].Volts).Least(c.Points[at].Watts(), "W")
	}
	if c.value(part{found, curvature}) >= 0 {
		return nil, record.Because(record.WrongSign, "the power has no top at %.5g V", c.Points[at].Volts)
	}
	if c.several(at) {
		c.remarks = record.AddRemark(c.remarks, "several maxima of the power within 2 %")
	}
	return found, nil
}

// beside are a place and its neighbours that lie a share below it; ok is false where an end of the sweep comes first.
func (c *curve) beside(at int, share float64) (found []int, ok bool) {
	least := c.Points[at].Watts() * (1 - share)
	below, above := at-1, at+1
	for below >= 0 && c.Points[below].Watts() > least {
		below--
	}
	for above < len(c.Points) && c.Points[above].Watts() > least {
		above++
	}
	return []int{below, at, above}, below >= 0 && above < len(c.Points)
}

// bent is how far a value of the parabola may be off because the curve is none: the neighbours lie at a distance, and
// what it is off grows with the square of that. Neighbours twice as far away make it four times as much.
func (c *curve) bent(places []int, of func(v, i []float64) float64) float64 {
	below, above := 2*places[0]-places[1], 2*places[2]-places[1]
	if below < 0 || above >= len(c.Points) {
		return 0
	}
	return math.Abs(c.value(part{places, of})-c.value(part{[]int{below, places[1], above}, of})) / 3
}

// known widens U by what is not known for another reason.
func known(r *figure.Result, within float64) {
	if r.U > 0 {
		r.U = math.Hypot(r.U, within)
	}
}

// several tells whether another maximum comes up to within severalWithin of the top, behind a valley that stands out
// from the noise.
func (c *curve) several(at int) bool {
	peak := c.Points[at].Watts()
	for _, step := range []int{-1, 1} {
		valley := at
		for k := at + step; k >= 0 && k < len(c.Points); k += step {
			p := c.Points[k]
			if p.Watts() < c.Points[valley].Watts() {
				valley = k
			}
			rises := p.Watts() - c.Points[valley].Watts()
			if p.Watts() >= peak*(1-severalWithin) && rises > 4*math.Hypot(p.Noise(), c.Points[valley].Noise()) {
				return true
			}
		}
	}
	return false
}

// slopes are those of the power between the three places of a parabola, and its curvature c.
func slopes(v, i []float64) (d1, c float64) {
	p := [3]float64{v[0] * i[0], v[1] * i[1], v[2] * i[2]}
	d1, d2 := (p[1]-p[0])/(v[1]-v[0]), (p[2]-p[1])/(v[2]-v[1])
	return d1, (d2 - d1) / (v[2] - v[0])
}

func curvature(v, i []float64) float64 {
	_, c := slopes(v, i)
	return c
}

// volts of the parabola's top: V_mp = (V₁ + V₂)/2 − d₁/(2·c).
func volts(v, i []float64) float64 {
	d1, c := slopes(v, i)
	return (v[0]+v[1])/2 - d1/(2*c)
}

// power of the parabola's top: P_mp = P₁ + d₁·(V_mp − V₁) + c·(V_mp − V₁)·(V_mp − V₂).
func power(v, i []float64) float64 {
	d1, c := slopes(v, i)
	at := volts(v, i)
	return v[0]*i[0] + d1*(at-v[0]) + c*(at-v[0])*(at-v[1])
}

func amps(v, i []float64) float64 { return power(v, i) / volts(v, i) }

func maxPower(rec *record.Record, req figure.Request) (figure.Result, error) {
	return ofTop(rec, req, power)
}

func maxPowerVoltage(rec *record.Record, req figure.Request) (figure.Result, error) {
	return ofTop(rec, req, volts)
}

func maxPowerCurrent(rec *record.Record, req figure.Request) (figure.Result, error) {
	return ofTop(rec, req, amps)
}

// ofTop is a figure of the parabola through the place of largest power.
func ofTop(rec *record.Record, req figure.Request, of func(v, i []float64) float64) (figure.Result, error) {
	c, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	places, err := c.top(req.Args[drop.Name])
	if err != nil {
		return figure.Result{}, err
	}
	r := c.result([]part{{places, of}}, first)
	known(&r, c.bent(places, of))
	if req.ID == "pv-max-power" {
		r.Spots = c.spots(c.value(part{places, volts}), c.value(part{places, amps}), "largest power")
	}
	return r, nil
}
