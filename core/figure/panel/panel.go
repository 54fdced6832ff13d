// Package panel computes what the sweep of a photovoltaic panel tells, after IEC 60904-1: its open-circuit volts, its
// short-circuit amps, its largest power and where that lies, fill factor and resistances, and how well two sweeps
// agree.
//
// Amps flow out of the panel. Values are as measured: nothing is translated to another irradiance or temperature.
package panel

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/floats"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// Figures of this family.
var Figures = []figure.Definition{
	swept("pv-open-circuit-voltage", "Open-circuit volts", "V", openCircuit, near),
	swept("pv-short-circuit-current", "Short-circuit amps", "A", shortCircuit, near),
	swept("pv-max-power", "Largest power", "W", maxPower, drop),
	swept("pv-max-power-voltage", "Volts at the largest power", "V", maxPowerVoltage, drop),
	swept("pv-max-power-current", "Amps at the largest power", "A", maxPowerCurrent, drop),
	swept("pv-fill-factor", "Fill factor", "%", fillFactor, near, drop),
	swept("pv-series-resistance", "Series resistance", "Ω", seriesResistance, near),
	swept("pv-shunt-resistance", "Shunt resistance", "Ω", shuntResistance, near),
	against(swept("pv-sweep-agreement", "Agreement of two sweeps", "%", agreement, near)),
}

// near is how near to an axis the last of a sweep must be for the axis to be reached by a straight line, as a share of
// the largest amps or volts. drop is how far below the top of the power its neighbours are sought, as a share of it.
var (
	near = figure.Arg{Name: "near", Dim: quantity.Number, Default: 0.05, Least: 0, Most: 0.5}
	drop = figure.Arg{Name: "drop", Dim: quantity.Number, Default: 0, Least: 0, Most: 0.5}
)

// ways are the parts of a sweep that may be meant.
var ways = map[string][]string{"way": {string(record.There), string(record.Back)}}

func swept(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		AllSides: true, Formula: formula, Args: args, Choices: ways}
}

func against(d figure.Definition) figure.Definition {
	d.AgainstStage, d.Choices = true, nil
	return d
}

// curve is the sweep of a panel with what of it a figure was computed from.
type curve struct {
	record.Sweep
	remarks []string
}

func seatOf(req figure.Request) string { return cmp.Or(req.Output, seats.DefaultOutput) }

func curveOf(rec *record.Record, req figure.Request) (*curve, error) {
	s, err := rec.SweepOf(seatOf(req), req.Stage, req.Pass, record.Way(req.Choices["way"]), req.At)
	if err != nil {
		return nil, err
	}
	return &curve{Sweep: s.Generated()}, nil
}

// part is a function of some places of a sweep: of their volts and amps, in the order of the places.
type part struct {
	places []int
	of     func(v, i []float64) float64
}

// result is a part as a figure, with its uncertainty.
func (c *curve) result(parts []part, of func(x []float64) float64) figure.Result {
	var readings []uncertainty.Reading
	stated := true
	for _, p := range parts {
		for _, k := range p.places {
			volts, amps, ok := c.Points[k].Readings()
			readings, stated = append(readings, volts, amps), stated && ok
		}
	}
	f := func(x []float64) float64 {
		values := make([]float64, len(parts))
		for k, p := range parts {
			v, i := make([]float64, len(p.places)), make([]float64, len(p.places))
			for j := range p.places {
				v[j], i[j] = x[2*j], x[2*j+1]
			}
			x, values[k] = x[2*len(p.places):], p.of(v, i)
		}
		return of(values)
	}
	x := make([]float64, len(readings))
	for k, r := range readings {
		x[k] = r.Value
	}
	r := figure.Result{Value: f(x), N: len(c.Points), Remarks: c.remarks}
	r.WithUncertainty(f, readings, stated)
	return r
}

func first(x []float64) float64 { return x[0] }

// value is a part by itself.
func (c *curve) value(p part) float64 {
	v, i := make([]float64, len(p.places)), make([]float64, len(p.places))
	for j, k := range p.places {
		v[j], i[j] = c.Points[k].Volts, c.Points[k].Amps
	}
	return p.of(v, i)
}

const extrapolated = "extrapolated"

// fewestPlaces is how many a straight line needs.
const fewestPlaces = 2

// zeroAmps are the volts at which no amps flow: V_a − I_a·(V_b − V_a)/(I_b − I_a) between the places around
// them, or through the last two if the last is near to it. A sweep that is led beyond them has places at which
// nothing flows: their volts are the ones.
func (c *curve) zeroAmps(share float64) (part, error) {
	n := len(c.Points)
	if n < fewestPlaces {
		return part{}, tooFew(n)
	}
	if idle := c.idle(); len(idle) > 0 {
		return part{idle, func(v, _ []float64) float64 { return floats.Sum(v) / float64(len(v)) }}, nil
	}
	at := n - 2
	for k := range n - 1 {
		if c.Points[k].Amps > 0 && c.Points[k+1].Amps <= 0 {
			at = k
			break
		}
	}
	a, b := c.Points[at], c.Points[at+1]
	switch last := c.Points[n-1]; {
	case b.Amps >= a.Amps:
		return part{}, record.Because(record.WrongSign, "the amps do not fall with the volts at %.5g V", b.Volts)
	case b.Amps > 0 && last.Amps > share*c.largestAmps():
		return part{}, record.Because(record.NotReached,
			"the sweep ends at %.5g V with %.4g A; lead it nearer to no current", last.Volts, last.Amps).
			Least(last.Volts, "V")
	case a.Amps <= 0 || b.Amps > 0:
		c.remarks = record.AddRemark(c.remarks, extrapolated)
	}
	return part{[]int{at, at + 1}, func(v, i []float64) float64 { return v[0] - i[0]*(v[1]-v[0])/(i[1]-i[0]) }}, nil
}

// idle are the last places of a sweep, two at least, at which no amps are told from none.
func (c *curve) idle() (places []int) {
	for k, p := range slices.Backward(c.Points) {
		_, amps, stated := p.Readings()
		floor := 3 * noise(p)
		if stated {
			floor += amps.Offset
		}
		if math.Abs(p.Amps) > floor {
			break
		}
		places = append(places, k)
	}
	if len(places) < fewestPlaces {
		return nil
	}
	return places
}

// zeroVolts are the amps at which there are no volts, likewise through the first two.
func (c *curve) zeroVolts(share float64) (part, error) {
	n := len(c.Points)
	if n < fewestPlaces {
		return part{}, tooFew(n)
	}
	at := 0
	for k := range n - 1 {
		if c.Points[k].Volts <= 0 && c.Points[k+1].Volts > 0 {
			at = k
			break
		}
	}
	a, b := c.Points[at], c.Points[at+1]
	switch lowest := c.Points[0]; {
	case b.Amps-a.Amps > 2*math.Hypot(noise(a), noise(b)):
		return part{}, record.Because(record.WrongSign, "the amps rise with the volts at %.5g V", a.Volts)
	case lowest.Volts > share*c.Points[n-1].Volts:
		return part{}, record.Because(record.NotReached,
			"the sweep begins at %.5g V; lead it nearer to a short circuit", lowest.Volts).Least(lowest.Amps, "A")
	case a.Volts > 0 || b.Volts <= 0:
		c.remarks = record.AddRemark(c.remarks, extrapolated)
	}
	return part{[]int{at, at + 1}, func(v, i []float64) float64 { return i[0] - v[0]*(i[1]-i[0])/(v[1]-v[0]) }}, nil
}

// noise is the standard uncertainty of a place's amps from what is new in each reading.
func noise(s record.Swept) float64 {
	_, amps, _ := s.Readings()
	return max(amps.Noise, uncertainty.Resolution(amps.Resolution))
}

func tooFew(n int) error {
	return record.Because(record.TooFew, "the sweep has %d places with readings", n)
}

func (c *curve) largestAmps() (most float64) {
	for _, p := range c.Points {
		most = max(most, math.Abs(p.Amps))
	}
	return most
}

func openCircuit(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p, err := c.zeroAmps(req.Args[near.Name])
	if err != nil {
		return figure.Result{}, err
	}
	r := c.result([]part{p}, first)
	r.Spots = c.spots(r.Value, 0, "")
	return r, nil
}

func shortCircuit(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p, err := c.zeroVolts(req.Args[near.Name])
	if err != nil {
		return figure.Result{}, err
	}
	r := c.result([]part{p}, first)
	r.Spots = c.spots(0, r.Value, "")
	return r, nil
}

// spots are where a place lies in the pictures of amps and of watts over volts.
func (c *curve) spots(volts, amps float64, label string) []figure.Spot {
	return []figure.Spot{{By: c.Seat + ".volts", Of: c.Seat + ".amps", X: volts, Y: amps, Label: label},
		{By: c.Seat + ".volts", Of: c.Seat + ".watts", X: volts, Y: volts * amps, Label: label}}
}

// fillFactor is 100·P_mp/(V_oc·I_sc). One meter has read all of it, so that its gains cancel.
func fillFactor(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := curveOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	top, err := c.top(req.Args[drop.Name])
	if err != nil {
		return figure.Result{}, err
	}
	open, err := c.zeroAmps(req.Args[near.Name])
	if err != nil {
		return figure.Result{}, err
	}
	short, err := c.zeroVolts(req.Args[near.Name])
	if err != nil {
		return figure.Result{}, err
	}
	if c.value(open)*c.value(short) == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor,
			"there are no open-circuit volts or no short-circuit amps")
	}
	r := c.result([]part{{top, power}, open, short}, func(x []float64) float64 { return 100 * x[0] / (x[1] * x[2]) })
	known(&r, r.Value*c.bent(top, power)/c.value(part{top, power}))
	if r.Value < -r.U || r.Value > 100+r.U {
		return r, record.Because(record.Implausible, "%.4g %% is no fill factor", r.Value)
	}
	return r, nil
}
