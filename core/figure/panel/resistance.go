package panel

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// band is which part of a sweep a resistance is read from: up to so much of the short-circuit amps, or of the
// open-circuit volts.
const band = 0.1

// fitted is the slope of the straight line of y over x through places.
func fitted(x, y func(v, i float64) float64) func(v, i []float64) float64 {
	return func(v, i []float64) float64 {
		xs, ys := make([]float64, len(v)), make([]float64, len(v))
		for k := range v {
			xs[k], ys[k] = x(v[k], i[k]), y(v[k], i[k])
		}
		line, err := trace.Fit(xs, ys)
		if err != nil {
			return math.NaN()
		}
		return line.Slope
	}
}

func ofVolts(v, _ float64) float64 { return v }
func ofAmps(_, i float64) float64  { return i }

// places are those of the curve for which a condition holds.
func (c *curve) places(is func(record.Swept) bool) (found []int) {
	for k, p := range c.Points {
		if is(p) {
			found = append(found, k)
		}
	}
	return found
}

// seriesResistance is −b of the straight line of V over I for small |I|: an upper estimate, since it holds what the
// junctions have, N·n·k_B·T/(e·I_sc).
func seriesResistance(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	short, err := c.zeroVolts(req.Args[near.Name])
	if err != nil {
		return figure.Result{}, err
	}
	least := band * c.value(short)
	found := c.places(func(p record.Swept) bool { return math.Abs(p.Amps) <= least })
	if len(found) < fewestPlaces {
		return figure.Result{}, record.Because(record.TooFew, "%d places lie within %.3g A of no current", len(found), least)
	}
	c.remarks = record.AddRemark(nil, "an upper estimate: it holds the junctions'")
	r := c.result([]part{{found, fitted(ofAmps, ofVolts)}}, func(x []float64) float64 { return -x[0] })
	if r.Value < -r.U {
		return r, record.Because(record.WrongSign, "the volts rise with the amps near no current")
	}
	return r, nil
}

// shuntResistance is −1/b of the straight line of I over V for low V; it holds the series resistance too.
func shuntResistance(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	open, err := c.zeroAmps(req.Args[near.Name])
	if err != nil {
		return figure.Result{}, err
	}
	c.remarks = nil
	least := band * c.value(open)
	found := c.places(func(p record.Swept) bool { return p.Volts <= least })
	if len(found) < fewestPlaces {
		return figure.Result{}, record.Because(record.TooFew, "%d places lie below %.3g V", len(found), least)
	}
	slope := part{found, fitted(ofVolts, ofAmps)}
	b, sb := c.value(slope), c.slopeDeviation(found)
	switch {
	case math.Abs(b) <= 2*sb:
		return figure.Result{}, record.Because(record.BelowFloor, "the slope of the amps is not told from 0").
			Least(1/(math.Abs(b)+2*sb), "Ω")
	case b > 0:
		return figure.Result{}, record.Because(record.WrongSign, "the amps rise with the volts near the short circuit")
	}
	return c.result([]part{slope}, func(x []float64) float64 { return -1 / x[0] }), nil
}

// slopeDeviation is the standard error of the slope of I over V at some places: from what they leave beside their line,
// or from the meter's own noise where that is more, as of two places it is.
func (c *curve) slopeDeviation(found []int) float64 {
	var x, y []float64
	var own float64
	for _, k := range found {
		x, y = append(x, c.Points[k].Volts), append(y, c.Points[k].Amps)
		own = max(own, noise(c.Points[k]))
	}
	line, err := trace.Fit(x, y)
	if err != nil {
		return math.Inf(1)
	}
	return line.Noisy(own).SlopeSD
}

// leastCommon is how much of the open-circuit volts two sweeps must share, and mostLight by how much their irradiance
// may differ.
const leastCommon, mostLight = 0.8, 0.02

// agreement is 100·max|I_a(V) − I_b(V)|/I_sc at all volts of either in the range that they share, with the mean
// I_sc.
func agreement(rec *record.Record, req figure.Request) (figure.Result, error) {
	req.Choices = map[string]string{"way": string(record.There)}
	a, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	other := req
	if req.Against != "" {
		other.Stage, other.Pass = req.Against, 0
	} else {
		other.Choices = map[string]string{"way": string(record.Back)}
	}
	b, err := curveOf(rec, other)
	if err != nil {
		return figure.Result{}, err
	}
	if err := sameLight(rec, req, other); err != nil {
		return figure.Result{}, err
	}
	shorts := [2]float64{}
	open := math.Inf(1)
	for k, c := range []*curve{a, b} {
		short, err := c.zeroVolts(req.Args[near.Name])
		if err != nil {
			return figure.Result{}, err
		}
		shorts[k] = c.value(short)
		if p, err := c.zeroAmps(req.Args[near.Name]); err == nil {
			open = min(open, c.value(p))
		}
	}
	low := max(a.Points[0].Volts, b.Points[0].Volts)
	high := min(a.Points[len(a.Points)-1].Volts, b.Points[len(b.Points)-1].Volts)
	if math.IsInf(open, 0) {
		open = max(a.Points[len(a.Points)-1].Volts, b.Points[len(b.Points)-1].Volts)
	}
	mean := (shorts[0] + shorts[1]) / 2
	switch {
	case high-low < leastCommon*open:
		return figure.Result{}, record.Because(record.NoPoint, "the sweeps share %.4g V only, of %.4g V",
			max(high-low, 0), open)
	case mean <= 0:
		return figure.Result{}, record.Because(record.ZeroDivisor, "there are no short-circuit amps")
	}
	return compared(a, b, low, high, mean), nil
}

// sameLight fails for sweeps under different light, where that was read.
func sameLight(rec *record.Record, a, b figure.Request) error {
	const light = "light.irradiance"
	x, known := rec.MeanOver(seatOf(a), a.Stage, a.Pass, light)
	y, both := rec.MeanOver(seatOf(b), b.Stage, b.Pass, light)
	if known && both && math.Abs(x-y) > mostLight*max(math.Abs(x), math.Abs(y)) {
		return record.Because(record.WrongConditions, "the irradiance was %.4g and %.4g W/m²: more than 2 %% apart", x, y)
	}
	return nil
}

// compared is the largest difference of two curves, as a share of the short-circuit amps.
func compared(a, b *curve, low, high, short float64) figure.Result {
	var worst float64
	var at record.Swept
	var around *curve
	signs := [2]int{}
	for k, c := range []*curve{a, b} {
		other := []*curve{b, a}[k]
		for _, p := range c.Points {
			if p.Volts < low || p.Volts > high {
				continue
			}
			d := p.Amps - other.At(p.Volts)
			if k == 1 {
				d = -d // always a less b
			}
			if d > 0 {
				signs[0]++
			} else if d < 0 {
				signs[1]++
			}
			if around == nil || math.Abs(d) > math.Abs(worst) {
				worst, at, around = d, p, other
			}
		}
	}
	if math.Abs(worst) < 1e-12*short { // what rounding leaves
		worst = 0
	}
	r := figure.Result{Value: 100 * math.Abs(worst) / short, N: len(a.Points) + len(b.Points)}
	r.Remarks = append(r.Remarks, "largest at "+words(at.Volts))
	if many := signs[0] + signs[1]; many >= 8 && max(signs[0], signs[1]) >= many*9/10 {
		r.Remarks = append(r.Remarks, "the difference has one sign: sweep slower")
	}
	lower, upper, _ := around.Between(at.Volts)
	_, mine, stated := at.Readings()
	_, below, okBelow := around.Points[lower].Readings()
	_, above, okAbove := around.Points[upper].Readings()
	share := 0.0
	if v := around.Points[upper].Volts - around.Points[lower].Volts; v > 0 {
		share = (at.Volts - around.Points[lower].Volts) / v
	}
	r.WithUncertainty(func(x []float64) float64 {
		return 100 * (x[0] - (1-share)*x[1] - share*x[2]) / short
	}, []uncertainty.Reading{mine, below, above}, stated && okBelow && okAbove)
	return r
}

func words(volts float64) string {
	return quantity.Quantity{Value: volts, Dim: quantity.Voltage}.String()
}
