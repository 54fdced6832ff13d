package machine

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// leading is a curve through resistances that leads them back to the moment of switch-off.
type leading struct {
	zero float64
	at   func(t float64) float64
}

// led leads resistances back by a method.
func (c cooling) led(x []float64, method string, floor float64) (leading, error) {
	if method == logLinear {
		return logLed(c.t, x, floor)
	}
	return exponentialLed(c.t, x)
}

// logLed is the straight line ln(R − floor) over t; R(0) = floor + e^a.
func logLed(t, x []float64, floor float64) (leading, error) {
	y := make([]float64, len(x))
	for k := range x {
		if x[k] <= floor {
			return leading{}, record.Because(record.Implausible, "%.5g Ω lie at or below the floor of %.5g Ω", x[k], floor)
		}
		y[k] = math.Log(x[k] - floor)
	}
	line, err := trace.Fit(t, y)
	if err != nil {
		return leading{}, record.CodeOf(err, "the times of the resistances")
	}
	at := func(t float64) float64 { return floor + math.Exp(line.Intercept+line.Slope*t) }
	return leading{at(0), at}, nil
}

// exponentialLed is R = C + A·e^(−t/τ): for each τ C and A follow by least squares, and the τ that leaves the
// least is sought from the spacing of the readings to ten times their span.
func exponentialLed(t, x []float64) (leading, error) {
	n := len(t)
	fit := func(lnTau float64) (c, a, rest float64) {
		tau := math.Exp(lnTau)
		e := make([]float64, n)
		for k := range t {
			e[k] = math.Exp(-(t[k] - t[0]) / tau)
		}
		line, err := trace.Fit(e, x)
		if err != nil {
			return 0, 0, math.Inf(1)
		}
		for k := range t {
			d := x[k] - line.Intercept - line.Slope*e[k]
			rest += d * d
		}
		return line.Intercept, line.Slope, rest
	}
	low, high := math.Log((t[n-1]-t[0])/float64(n-1)), math.Log(10*(t[n-1]-t[0]))
	// The best of a coarse look, then closer and closer around it.
	rest := func(l float64) float64 {
		_, _, rest := fit(l)
		return rest
	}
	best, width, least := low, (high-low)/30, math.Inf(1)
	for l := low; l <= high; l += width {
		if x := rest(l); x < least {
			best, least = l, x
		}
	}
	a, b := max(best-width, low), min(best+width, high)
	const golden = 0.6180339887498949
	p, q := b-golden*(b-a), a+golden*(b-a)
	atP, atQ := rest(p), rest(q)
	for range 55 {
		if atP < atQ {
			b, q, atQ = q, p, atP
			p = b - golden*(b-a)
			atP = rest(p)
		} else {
			a, p, atP = p, q, atQ
			q = a + golden*(b-a)
			atQ = rest(q)
		}
	}
	lnTau := (a + b) / 2
	c, amplitude, _ := fit(lnTau)
	tau := math.Exp(lnTau)
	if amplitude <= 0 {
		return leading{}, record.Because(record.Implausible, "the resistances do not fall as those of a body that cools")
	}
	at := func(s float64) float64 { return c + amplitude*math.Exp(-(s-t[0])/tau) }
	return leading{at(0), at}, nil
}

// hot is the value at switch-off from the readings of a cooling, for figures that are computed from it.
func (c cooling) hot(req figure.Request) (func(x []float64) float64, error) {
	method, above := req.Choices["method"], req.Args[floor.Name]
	if _, err := c.led(values(c.readings), method, above); err != nil {
		return nil, err
	}
	return func(x []float64) float64 {
		l, err := c.led(x, method, above)
		if err != nil {
			return math.NaN()
		}
		return l.zero
	}, nil
}

// hotResistance is what a winding had at the moment of switch-off, led back through readings that were taken while it
// cooled.
func hotResistance(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := coolingRow(rec, req, req.Row)
	if err != nil {
		return figure.Result{}, err
	}
	zero, err := c.hot(req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: zero(values(c.readings)), N: len(c.t), Remarks: []string{req.Choices["method"]}}
	r.WithUncertainty(zero, c.readings, c.stated)
	if c.late {
		r.Remarks = append(r.Remarks, quantity.Sprintf("late: the first reading is of %.3g s", c.t[0]))
	}
	c.draw(&r, req)
	return r, nil
}

// The columns of the picture of a cooling.
const coolingTime = "cooling.seconds"

// draw draws the readings and the curve that leads back to switch-off.
func (c cooling) draw(r *figure.Result, req figure.Request) {
	l, err := c.led(values(c.readings), req.Choices["method"], req.Args[floor.Name])
	if err != nil {
		return
	}
	curve := figure.Line{Label: req.Choices["method"]}
	end := c.t[len(c.t)-1]
	for k := range 61 {
		t := end * float64(k) / 60
		curve.X, curve.Y = append(curve.X, t), append(curve.Y, l.at(t))
	}
	r.Drawing = &figure.Drawing{Title: "Resistance after switch-off", By: coolingTime, Of: ohmsOf(req),
		Lines: []figure.Line{{Label: "read", Dots: true, X: c.t, Y: values(c.readings)}, curve}}
	r.Spots = []figure.Spot{{By: coolingTime, Of: ohmsOf(req), X: 0, Y: l.zero, Label: "at switch-off"}}
	r.Table = &figure.Table{Columns: []figure.TableColumn{{Name: "after switch-off", Unit: "s"}, {Name: "read",
		Unit: "Ω"},
		{Name: "curve", Unit: "Ω"}}}
	for k, t := range c.t {
		r.Table.Rows = append(r.Table.Rows, []any{t, c.readings[k].Value, l.at(t)})
	}
}

// beforeOff is for how long before switch-off the coolant's temperature is averaged, s.
const beforeOff = 60

// temperatureRise is (R₂/R₁)·(k + θ₁) − k − θ_a: of the winding over what cools it at the end.
func temperatureRise(rec *record.Record, req figure.Request) (figure.Result, error) {
	before, err := coldRow(rec, req, req.Rows["cold"])
	if err != nil {
		return figure.Result{}, err
	}
	c, err := coolingRow(rec, req, req.Row)
	if err != nil {
		return figure.Result{}, err
	}
	zero, err := c.hot(req)
	if err != nil {
		return figure.Result{}, err
	}
	column := roomColumn
	if !rec.Has(column) {
		column = machineColumn
	}
	coolant, err := rec.Measured(column, max(c.off-beforeOff, 0), c.off)
	if err != nil {
		return figure.Result{}, err
	}
	k, hot := req.Args[constant.Name], len(c.readings)
	rise := func(x []float64) float64 {
		r1, theta := means(x[hot+1:])
		return zero(x[:hot])/r1*(k+theta) - k - x[hot]
	}
	readings := append(append(append([]uncertainty.Reading{}, c.readings...), coolant.Mean), before.readings...)
	r1, theta := means(values(before.readings))
	r2 := zero(values(c.readings))
	switch {
	case r1 == 0:
		return figure.Result{}, record.Because(record.ZeroDivisor, "the cold resistance is 0")
	case r2 < r1:
		return figure.Result{}, record.Because(record.Implausible,
			"the hot resistance of %.5g Ω is below the cold one of %.5g Ω",
			r2, r1)
	}
	r := figure.Result{Value: rise(values(readings)), N: hot, Remarks: []string{req.Choices["method"],
		quantity.Sprintf("winding %.1f °C, coolant %.1f °C", r2/r1*(k+theta)-k, coolant.Mean.Value)}}
	r.WithUncertainty(rise, readings, c.stated && coolant.Stated && before.stated)
	c.draw(&r, req)
	return r, nil
}
