package machine

import (
	"math"
	"slices"
	"sort"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// The columns of a machine's points.
const (
	voltsColumn  = "meter.volts"
	ampsColumn   = "meter.amps"
	wattsColumn  = "meter.watts"
	hertzColumn  = "meter.hertz"
	speedColumn  = "shaft.speed"
	torqueColumn = "shaft.torque"
)

// place says which of the readings are those of a point; −1: it has none.
type place struct{ volts, amps, watts, hertz, speed, torque, celsius int }

// test is what the losses of a machine are computed from: its points under load and without, and its resistance.
type test struct {
	req          figure.Request
	readings     []uncertainty.Reading
	stated       bool
	load, noLoad []place
	// ohms gives the resistance at a point from the readings; nil: nobody knows it.
	ohms  func(x []float64, p place) float64
	rated float64 // line-to-line volts
	pairs float64 // of poles
	count int
}

// read takes a column of a point into the readings.
func (m *test) read(rec *record.Record, p record.Point, column string) int {
	if p.Averages[column].N == 0 {
		return -1
	}
	reading, ok := rec.Reading(p, column)
	m.readings, m.stated = append(m.readings, reading), m.stated && ok
	return len(m.readings) - 1
}

func (m *test) places(rec *record.Record, row string) (all []place, err error) {
	taken, err := rec.Row(row)
	if err != nil {
		return nil, err
	}
	for _, p := range taken {
		at := place{volts: m.read(rec, p, voltsColumn), amps: m.read(rec, p, ampsColumn), watts: m.read(rec, p, wattsColumn),
			hertz: m.read(rec, p, hertzColumn), speed: m.read(rec, p, speedColumn), torque: m.read(rec, p, torqueColumn),
			celsius: m.read(rec, p, machineColumn)}
		if at.volts < 0 || at.amps < 0 || at.watts < 0 {
			return nil, record.Because(record.IsMissing, "row %q has a point without volts, amps or watts of the meter", row)
		}
		all = append(all, at)
	}
	m.count += len(all)
	return all, nil
}

// testOf reads what a request names.
func testOf(rec *record.Record, req figure.Request) (*test, error) {
	m := &test{req: req, stated: true}
	var err error
	if m.load, err = m.places(rec, req.Row); err != nil {
		return nil, err
	}
	if row := req.Rows["no load"]; row != "" {
		if m.noLoad, err = m.places(rec, row); err != nil {
			return nil, err
		}
	}
	if q, ok := rec.Rating("", "line_volts"); ok {
		m.rated = q.Value
	}
	m.pairs = req.Args[polePairs.Name]
	if q, ok := rec.Rating("", "poles"); ok && m.pairs == 0 {
		m.pairs = q.Value / 2
	}
	return m, m.resist(rec)
}

// resist finds the resistance of the points: a number, that at switch-off, or the cold one referred to the temperature
// that each point has.
func (m *test) resist(rec *record.Record) error {
	k := m.req.Args[constant.Name]
	if x, given := m.req.Args[resistance.Name]; given {
		m.ohms = func([]float64, place) float64 { return x }
		return nil
	}
	if row := m.req.Rows["hot"]; row != "" {
		c, err := coolingRow(rec, m.req, row)
		if err != nil {
			return err
		}
		zero, err := c.hot(m.req)
		if err != nil {
			return err
		}
		from := len(m.readings)
		m.readings, m.stated = append(m.readings, c.readings...), m.stated && c.stated
		m.ohms = func(x []float64, _ place) float64 { return zero(x[from : from+len(c.readings)]) }
	}
	row := m.req.Rows["cold"]
	if row == "" {
		return nil
	}
	c, err := coldRow(rec, m.req, row)
	if err != nil {
		return err
	}
	from, hot := len(m.readings), m.ohms
	m.readings, m.stated = append(m.readings, c.readings...), m.stated && c.stated
	m.ohms = func(x []float64, p place) float64 {
		ohms, celsius := means(x[from : from+len(c.readings)])
		switch {
		case hot != nil && slices.Contains(m.load, p):
			return hot(x, p)
		case p.celsius >= 0:
			return ohms * (k + x[p.celsius]) / (k + celsius)
		}
		return ohms
	}
	return nil
}

// phases is by what I²·R is multiplied, with R from line to line: 1.5 of three phases, star or delta.
func (m *test) phases() float64 {
	if m.req.Choices["phases"] == "one" {
		return 1
	}
	return 1.5
}

// line are the volts from line to line of a point.
func (m *test) line(x []float64, p place) float64 {
	if m.req.Choices["read"] == "phase" {
		return math.Sqrt(3) * x[p.volts]
	}
	return x[p.volts]
}

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

// chosen is the load point that a request means: that nearest to its torque or its volts, else the one with the most.
func (m *test) chosen(points []place) place {
	x := values(m.readings)
	key, want := func(p place) float64 { return m.line(x, p) }, m.rated
	if v, given := m.req.Args[volts.Name]; given {
		want = v
	} else if want == 0 {
		want = math.Inf(1)
	}
	turns := !slices.ContainsFunc(points, func(p place) bool { return p.torque < 0 })
	if t, given := m.req.Args[torque.Name]; turns {
		key = func(p place) float64 { return x[p.torque] }
		if want = math.Inf(1); given {
			want = t
		}
	}
	best := points[0]
	for _, p := range points {
		if math.IsInf(want, 1) && key(p) > key(best) || math.Abs(key(p)-want) < math.Abs(key(best)-want) {
			best = p
		}
	}
	return best
}

// result is a function of the readings as a figure.
func (m *test) result(of func(x []float64) float64) figure.Result {
	r := figure.Result{Value: of(values(m.readings)), N: m.count}
	r.WithUncertainty(of, m.readings, m.stated)
	return r
}

// need fails where something is not there that a figure is computed from.
func (m *test) need(ohms, without, shaft bool) error {
	switch {
	case ohms && m.ohms == nil:
		return record.Because(record.NoData,
			"the resistance of the winding is not known: name rows with cold or hot, or give it "+
				"with resistance")
	case without && len(m.lowPoints()) < 3:
		return record.Because(record.TooFew,
			"%d points without load lie at or below 60 %% of the rated volts; three are needed",
			len(m.lowPoints()))
	case shaft && m.pairs == 0:
		return record.Because(record.NoRating,
			"the number of poles is not known: state poles on the nameplate, or give pole-pairs")
	}
	for _, p := range m.load {
		if shaft && (p.speed < 0 || p.hertz < 0 || p.torque < 0) {
			return record.Because(record.IsMissing, "a load point has no speed, torque or frequency")
		}
	}
	if !without {
		return nil
	}
	line := m.friction(values(m.readings), m.lowPoints())
	if line.Intercept < 0 || line.Slope <= 0 {
		return record.Because(record.WrongSign, "the loss without load does not rise with the volts from above 0")
	}
	return nil
}

func windingLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := testOf(rec, req)
	if err == nil {
		err = m.need(true, false, false)
	}
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	return m.result(func(x []float64) float64 { return m.winding(x, p) }), nil
}

func constantLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, err := testOf(rec, req)
	if err == nil {
		err = m.need(true, false, false)
	}
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

// noLoadTest reads a test whose row itself is that without load, unless another is named.
func noLoadTest(rec *record.Record, req figure.Request) (*test, error) {
	m, err := testOf(rec, req)
	if err != nil {
		return nil, err
	}
	if len(m.noLoad) == 0 {
		m.noLoad = m.load
	}
	return m, m.need(true, true, false)
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

// loaded reads a test with everything that its losses need.
func loaded(rec *record.Record, req figure.Request) (*test, []place, error) {
	m, err := testOf(rec, req)
	if err != nil {
		return nil, nil, err
	}
	if err := m.need(true, true, true); err != nil {
		return nil, nil, err
	}
	x := values(m.readings)
	for _, p := range m.load {
		if m.slip(x, p) < 0 && req.Choices["works"] != "generator" {
			return nil, nil, record.Because(record.WrongSign, "the shaft turns faster than the field, at %.5g r/s", x[p.speed])
		}
	}
	return m, m.lowPoints(), nil
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

func additionalLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, low, err := loaded(rec, req)
	if err == nil {
		err = m.additionalOf(low)
	}
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
	m, low, err := loaded(rec, req)
	if err == nil {
		err = m.additionalOf(low)
	}
	if err != nil {
		return figure.Result{}, err
	}
	p := m.chosen(m.load)
	r := m.result(func(x []float64) float64 { return m.sum(x, p, low) })
	r.Table = m.table(low)
	return r, nil
}

func summedEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	m, low, err := loaded(rec, req)
	if err == nil {
		err = m.additionalOf(low)
	}
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
