package machine

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/record"
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

// resistive reads a test with the resistance that its losses need.
func resistive(rec *record.Record, req figure.Request) (*test, error) {
	m, err := testOf(rec, req)
	if err != nil {
		return nil, err
	}
	return m, m.need(true, false, false)
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
