package machine

import (
	"math"
	"slices"
	"sort"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

func (m *test) winding(x []float64, p place) float64 {
	return m.phases() * x[p.amps] * x[p.amps] * m.ohms(x, p)
}

// constant is what is left of the power without load.
func (m *test) constant(x []float64, p place) float64 { return x[p.watts] - m.winding(x, p) }

// lowVolts is up to which share of the rated volts the iron's loss goes with their square.
const lowVolts = 0.6

// lowPoints are the points without load at low volts, of those that are there at x.
func (m *test) lowPoints() (low []place) {
	x := values(m.readings)
	most := m.rated
	for _, p := range m.noLoad {
		if m.rated == 0 {
			most = max(most, m.line(x, p))
		}
	}
	for _, p := range m.noLoad {
		if m.line(x, p) <= lowVolts*most*1.005 {
			low = append(low, p)
		}
	}
	return low
}

// friction is the straight line of the constant loss over V²: its intercept.
func (m *test) friction(x []float64, low []place) (line trace.Line) {
	var squares, watts []float64
	for _, p := range low {
		v := m.line(x, p)
		squares, watts = append(squares, v*v), append(watts, m.constant(x, p))
	}
	line, _ = trace.Fit(squares, watts) // their number and spread was looked at
	return line
}

// iron is the iron's loss at line volts, between the points without load.
func (m *test) iron(x []float64, low []place, volts float64) float64 {
	all := slices.Clone(m.noLoad)
	sort.Slice(all, func(i, j int) bool { return m.line(x, all[i]) < m.line(x, all[j]) })
	n := len(all)
	k := sort.Search(n, func(i int) bool { return m.line(x, all[i]) >= volts })
	k = min(max(k, 1), n-1)
	a, b := all[k-1], all[k]
	va, vb := m.line(x, a), m.line(x, b)
	share := (volts - va) / (vb - va)
	return m.constant(x, a) + share*(m.constant(x, b)-m.constant(x, a)) - m.friction(x, low).Intercept
}

// inner are the volts behind the resistive drop d = (√3/2)·I·R: √[(V − d·cos φ)² + (d·sin φ)²] (IEC
// 60034-2-1).
func (m *test) inner(x []float64, p place) float64 {
	v, d := m.line(x, p), math.Sqrt(3)/2*x[p.amps]*m.ohms(x, p)
	cos := min(x[p.watts]/(math.Sqrt(3)*v*x[p.amps]), 1)
	return math.Hypot(v-d*cos, d*math.Sqrt(1-cos*cos))
}

// loss is the losses of a load point by kind, W.
type loss struct{ in, out, winding, iron, friction, slip, residual, torque float64 }

func (m *test) lossAt(x []float64, p place, low []place) loss {
	l := loss{in: x[p.watts], winding: m.winding(x, p), iron: m.iron(x, low, m.inner(x, p)),
		friction: m.friction(x, low).Intercept}
	l.slip = m.slip(x, p) * (l.in - l.winding - l.iron)
	if p.torque >= 0 {
		l.torque = x[p.torque]
		l.out = 2 * math.Pi * x[p.speed] * l.torque
	}
	l.residual = l.in - l.out - l.winding - l.slip - l.iron - l.friction
	return l
}

// slip is 1 − n·p/f.
func (m *test) slip(x []float64, p place) float64 { return 1 - x[p.speed]*m.pairs/x[p.hertz] }

// additional is the straight line of the residual over T²; the loss is its slope times T², its intercept is dropped.
func (m *test) additional(x []float64, low []place) (line trace.Line, correlation float64) {
	var squares, residuals []float64
	for _, p := range m.load {
		l := m.lossAt(x, p, low)
		squares, residuals = append(squares, l.torque*l.torque), append(residuals, l.residual)
	}
	line, err := trace.Fit(squares, residuals)
	if err != nil {
		return line, 0
	}
	mean := 0.0
	for _, y := range residuals {
		mean += y / float64(len(residuals))
	}
	rest, all := 0.0, 0.0
	for k, y := range residuals {
		d := y - line.Intercept - line.Slope*squares[k]
		rest, all = rest+d*d, all+(y-mean)*(y-mean)
	}
	return line, math.Sqrt(max(1-rest/all, 0))
}

// result is a function of the readings as a figure.
func (m *test) result(of func(x []float64) float64) figure.Result {
	r := figure.Result{Value: of(values(m.readings)), N: m.count}
	r.WithUncertainty(of, m.readings, m.stated)
	return r
}

func windingLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := resistive(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	return m.result(func(x []float64) float64 { return m.winding(x, p) }), nil
}

func constantLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := resistive(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	r := m.result(func(x []float64) float64 { return m.constant(x, p) })
	if r.Value <= 0 {
		return r, record.Because(record.Implausible, "the winding alone would lose more than the %.4g W that are taken",
			m.readings[p.watts].Value)
	}
	return r, nil
}

func frictionLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := noLoadTest(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	low := m.lowPoints()
	r := m.result(func(x []float64) float64 { return m.friction(x, low).Intercept })
	m.drawFriction(&r, low)
	return r, nil
}

// drawFriction draws the constant loss over the square of the volts, with the line that leads to friction and windage.
func (m *test) drawFriction(r *figure.Result, low []place) {
	x := values(m.readings)
	dots, line := figure.Line{Label: "without load", Dots: true}, m.friction(x, low)
	most := 0.0
	for _, p := range m.noLoad {
		v := m.line(x, p)
		dots.X, dots.Y = append(dots.X, v*v), append(dots.Y, m.constant(x, p))
	}
	for _, p := range low {
		most = max(most, m.line(x, p)*m.line(x, p))
	}
	r.Drawing = &figure.Drawing{Title: "Constant loss over the square of the volts", By: "square.V²", Of: wattsColumn,
		Lines: []figure.Line{dots, {Label: "low volts", X: []float64{0, most},
			Y: []float64{line.Intercept, line.Intercept + line.Slope*most}}}}
	r.Spots = []figure.Spot{{By: "square.V²", Of: wattsColumn, X: 0, Y: line.Intercept, Label: "friction and windage"}}
}

// ironLoss is that behind the resistive drop at a load point; without one, at the volts that are asked for.
func ironLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := noLoadTest(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	low := m.lowPoints()
	if v, given := req.Args[volts.Name]; given || req.Rows["no load"] == "" {
		if !given {
			if v = m.rated; v == 0 {
				return figure.Result{}, record.Because(record.NoRating, "say with volts at which volts, or state line_volts")
			}
		}
		return m.result(func(x []float64) float64 { return m.iron(x, low, v) }), nil
	}
	p := m.chosen(m.load)
	return m.result(func(x []float64) float64 { return m.iron(x, low, m.inner(x, p)) }), nil
}

func slipLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, low, err := loaded(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	r := m.result(func(x []float64) float64 { return m.lossAt(x, p, low).slip })
	r.Remarks = append(r.Remarks, quantity.Sprintf("slip %.4f", m.slip(values(m.readings), p)))
	return r, nil
}

// fewestLoads is how many load points an additional loss needs, leastCorrelation how straight their line must be.
const fewestLoads, leastCorrelation = 4, 0.95

// additionalOf checks the line of the residuals.
func (m *test) additionalOf(low []place) error {
	if len(m.load) < fewestLoads {
		return record.Because(record.TooFew, "%d load points; four are needed, six are usual", len(m.load))
	}
	line, correlation := m.additional(values(m.readings), low)
	switch {
	case line.Slope < 0:
		return record.Because(record.WrongSign, "the residual loss falls with the torque")
	case correlation < leastCorrelation:
		return record.Because(record.Implausible, "the residual loss is no straight line over T²: r = %.3f", correlation)
	}
	return nil
}

// straight reads a test whose residuals lie on a straight line.
func straight(rec *record.Record, req figure.Request) (*test, []place, error) {
	m, low, err := loaded(rec, req)
	if err != nil {
		return nil, nil, err
	}
	return m, low, m.additionalOf(low)
}

func additionalLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, low, err := straight(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	r := m.result(func(x []float64) float64 {
		line, _ := m.additional(x, low)
		return line.Slope * x[p.torque] * x[p.torque]
	})
	x := values(m.readings)
	dots := figure.Line{Label: "residual", Dots: true}
	most := 0.0
	for _, p := range m.load {
		square := x[p.torque] * x[p.torque]
		dots.X, dots.Y = append(dots.X, square), append(dots.Y, m.lossAt(x, p, low).residual)
		most = max(most, square)
	}
	line, correlation := m.additional(x, low)
	r.Remarks = append(r.Remarks, quantity.Sprintf("r = %.4f", correlation))
	r.Drawing = &figure.Drawing{Title: "Residual loss over the square of the torque", By: "square.(N·m)²",
		Of: wattsColumn,
		Lines: []figure.Line{dots, {Label: "line", X: []float64{0, most},
			Y: []float64{line.Intercept, line.Intercept + line.Slope*most}}}}
	return r, nil
}

// sum is all losses at a load point.
func (m *test) sum(x []float64, p place, low []place) float64 {
	l := m.lossAt(x, p, low)
	line, _ := m.additional(x, low)
	return l.winding + l.slip + l.iron + l.friction + line.Slope*l.torque*l.torque
}

func summedLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, low, err := straight(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	r := m.result(func(x []float64) float64 { return m.sum(x, p, low) })
	r.Table = m.table(low)
	return r, nil
}

func summedEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, low, err := straight(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	if m.readings[p.watts].Value == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "nothing is taken")
	}
	r := m.result(func(x []float64) float64 {
		sum := m.sum(x, p, low)
		if req.Choices["works"] == "generator" {
			out := m.lossAt(x, p, low).out
			return 100 * out / (out + sum)
		}
		return 100 * (x[p.watts] - sum) / x[p.watts]
	})
	return r, nil
}

// table is the losses by kind at each load point.
func (m *test) table(low []place) *figure.Table {
	t := &figure.Table{}
	for _, c := range [][2]string{{"torque", "N·m"}, {"speed", "r/s"}, {"input", "W"}, {"output", "W"}, {"winding", "W"},
		{"slip", "W"}, {"iron", "W"}, {"friction", "W"}, {"additional", "W"}, {"together", "W"}, {"efficiency", "%"}} {
		t.Columns = append(t.Columns, figure.TableColumn{Name: c[0], Unit: c[1]})
	}
	x := values(m.readings)
	line, _ := m.additional(x, low)
	for _, p := range m.load {
		l, sum := m.lossAt(x, p, low), m.sum(x, p, low)
		t.Rows = append(t.Rows, []any{l.torque, x[p.speed], l.in, l.out, l.winding, l.slip, l.iron, l.friction,
			line.Slope * l.torque * l.torque, sum, 100 * (l.in - sum) / l.in})
	}
	return t
}
