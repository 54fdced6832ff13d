package machine

import (
	"math"
	"sort"

	"gonum.org/v1/gonum/stat"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// answer is a response as a sweep measured it: one column over another, in the order of the other.
type answer struct {
	x, y   []float64
	points []record.Point
	// reading gives place k of the column that is taken over, or of the quantity.
	over, of string
}

// answerOf reads the response of a quantity over a column in one way of a sweep.
func answerOf(rec *record.Record, req figure.Request) (a answer, err error) {
	a.over, a.of = req.Over, req.Quantity
	var all []record.Point
	for _, p := range rec.Points {
		if p.Row != "" || req.Stage != "" && p.Stage != req.Stage || !p.At(req.At) ||
			p.Averages[a.over].N == 0 && !set(p, a.over) || p.Averages[a.of].N == 0 {
			continue
		}
		all = append(all, p)
	}
	there, back := record.AtTurnOf(all, a.over)
	if req.Choices["way"] == string(record.Back) {
		if there = back; len(back) == 0 {
			return a, record.Because(record.NoPoint, "the sweep has no way back")
		}
	}
	sort.SliceStable(there, func(i, j int) bool { return a.at(there[i]) < a.at(there[j]) })
	for _, p := range there {
		y, err := p.Mean(a.of)
		if err != nil {
			return a, err
		}
		a.x, a.y, a.points = append(a.x, a.at(p)), append(a.y, y), append(a.points, p)
	}
	if least := int(req.Args[points.Name]); len(a.x) < least {
		return a, record.Because(record.TooFew, "the sweep has %d places; a linear range needs %d", len(a.x), least)
	}
	return a, nil
}

func set(p record.Point, column string) bool {
	_, is := p.Place[column]
	return is
}

// at is where a point lies: as read, or as it was set where nobody reads it.
func (a answer) at(p record.Point) float64 {
	if x := p.Averages[a.over]; x.N > 0 {
		return x.Mean
	}
	return p.Place[a.over]
}

// linear is the longest run of places whose own straight line leaves little.
type linear struct {
	i, j int
	line trace.Line
	rest float64 // the largest residual
}

// longest finds the longest x_j − x_i whose own line leaves at most so much. Every pair is tried, longest first:
// that a long run fits says nothing of the runs within it, so that halving errs.
func (a answer) longest(within float64, least int) (best linear, ok bool) {
	n := len(a.x)
	best.rest = math.Inf(1)
	span := -1.0
	for i := range n {
		for j := n - 1; j-i+1 >= least; j-- {
			if a.x[j]-a.x[i] < span {
				break
			}
			line, err := trace.Fit(a.x[i:j+1], a.y[i:j+1])
			if err != nil {
				continue
			}
			rest := 0.0
			for k := i; k <= j; k++ {
				rest = max(rest, math.Abs(a.y[k]-line.Intercept-line.Slope*a.x[k]))
			}
			longer := a.x[j]-a.x[i] > span
			if rest <= within && (longer || rest < best.rest) {
				best, span = linear{i, j, line, rest}, a.x[j]-a.x[i]
			}
		}
	}
	return best, span >= 0
}

// rangeOf finds the linear range that a request means.
func rangeOf(rec *record.Record, req figure.Request) (a answer, l linear, err error) {
	if a, err = answerOf(rec, req); err != nil {
		return a, l, err
	}
	most, given := req.Args[within.Name]
	if !given {
		return a, l, record.Because(record.NoRating, "say with within how far from its line a place may lie")
	}
	l, ok := a.longest(most, int(req.Args[points.Name]))
	if !ok {
		return a, l, record.Because(record.NotFound, "no %g places in a row lie within %.4g of a straight line",
			req.Args[points.Name], most)
	}
	return a, l, nil
}

// edge is how far an end of the range may be off: it lies between a place that fits and the next.
func (a answer) edge(k, step int) float64 {
	if next := k + step; next >= 0 && next < len(a.x) {
		return math.Abs(a.x[next] - a.x[k])
	}
	return 0
}

// told is a figure of a linear range, with its remarks, its uncertainty and its picture. steps are how far its ends may
// be off for the places that the sweep has.
func (a answer) told(rec *record.Record, l linear, value float64, of func(x, y []float64) float64,
	steps ...float64) figure.Result {
	n := l.j - l.i + 1
	r := figure.Result{Value: value, N: n}
	if l.i == 0 || l.j == len(a.x)-1 {
		r.Remarks = append(r.Remarks, "edge: it may be longer than the sweep")
	}
	unit := trace.UnitOf(a.of)
	r.Remarks = append(r.Remarks, quantity.Sprintf("largest residual %.2g %s", l.rest/unit.Factor, unit.Symbol))
	var readings []uncertainty.Reading
	stated := true
	for _, p := range a.points[l.i : l.j+1] {
		x := uncertainty.Reading{Value: a.at(p), Group: "as set"}
		if p.Averages[a.over].N > 0 {
			var ok bool
			x, ok = rec.Reading(p, a.over)
			stated = stated && ok
		}
		y, ok := rec.Reading(p, a.of)
		readings, stated = append(readings, x, y), stated && ok
	}
	r.WithUncertainty(func(all []float64) float64 {
		x, y := make([]float64, n), make([]float64, n)
		for k := range n {
			x[k], y[k] = all[2*k], all[2*k+1]
		}
		return of(x, y)
	}, readings, stated)
	if stated {
		e := uncertainty.Expand(steps, []uncertainty.Normal{{Standard: r.U / max(r.K, 1)}})
		r.U, r.K = e.U, e.K
	}
	a.draw(&r, l)
	return r
}

// draw draws the response, the line and the ends of its range.
func (a answer) draw(r *figure.Result, l linear) {
	fx, fy := trace.UnitOf(a.over).Factor, trace.UnitOf(a.of).Factor
	dots := figure.Line{Label: "response", Dots: true}
	for k := range a.x {
		dots.X, dots.Y = append(dots.X, a.x[k]/fx), append(dots.Y, a.y[k]/fy)
	}
	line := figure.Line{Label: "linear"}
	for _, x := range []float64{a.x[l.i], a.x[l.j]} {
		line.X, line.Y = append(line.X, x/fx), append(line.Y, (l.line.Intercept+l.line.Slope*x)/fy)
	}
	r.Drawing = &figure.Drawing{Title: "Response and its linear range", By: a.over, Of: a.of,
		Lines: []figure.Line{dots, line}}
}

func linearRange(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, l, err := rangeOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := trace.UnitOf(a.over).Factor
	return a.told(rec, l, (a.x[l.j]-a.x[l.i])/f, func(x, _ []float64) float64 { return (x[len(x)-1] - x[0]) / f },
		a.edge(l.i, -1)/f, a.edge(l.j, 1)/f), nil
}

func linearLow(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, l, err := rangeOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := trace.UnitOf(a.over).Factor
	return a.told(rec, l, a.x[l.i]/f, func(x, _ []float64) float64 { return x[0] / f }, a.edge(l.i, -1)/f), nil
}

func linearHigh(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, l, err := rangeOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := trace.UnitOf(a.over).Factor
	return a.told(rec, l, a.x[l.j]/f, func(x, _ []float64) float64 { return x[len(x)-1] / f }, a.edge(l.j, 1)/f), nil
}

func linearSlope(rec *record.Record, req figure.Request) (figure.Result, error) {
	a, l, err := rangeOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := trace.UnitOf(a.over).Factor / trace.UnitOf(a.of).Factor
	return a.told(rec, l, l.line.Slope*f, func(x, y []float64) float64 {
		line, err := trace.Fit(x, y)
		if err != nil {
			return math.NaN()
		}
		return line.Slope * f
	}), nil
}

// sensorZero is the mean of a quiet window.
func sensorZero(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	m, err := rec.Measured(req.Quantity, span.T0, span.T1)
	if err != nil {
		return figure.Result{}, err
	}
	n := m.Len()
	if n < 3 {
		return figure.Result{}, record.Because(record.TooFew, "%d readings; three are needed", n)
	}
	average, err := trace.SettledAverage(m.Series, 0)
	if err != nil {
		return figure.Result{}, record.CodeOf(err, req.Quantity)
	}
	line, err := trace.Fit(m.T, m.X)
	drift := math.Abs(line.Slope) * (m.T[n-1] - m.T[0])
	most, given := req.Args[quiet.Name]
	switch {
	case given && average.SD > most:
		return figure.Result{}, record.Because(record.NotSettled, "%s scatters by %.3g, and %.3g is quiet", req.Quantity,
			average.SD, most)
	case err == nil && n >= 5 && drift > 2*average.SD && drift > 2*line.SlopeSD*(m.T[n-1]-m.T[0]):
		return figure.Result{}, record.Because(record.NotSettled, "%s drifts by %.3g meanwhile", req.Quantity, drift)
	}
	f := trace.UnitOf(req.Quantity).Factor
	m.Mean.Value = stat.Mean(m.X, nil) // each reading counts for one: nothing moves meanwhile
	r := figure.Of(m, m.Mean.Value/f)
	r.KnownFrom(func(x []float64) float64 { return x[0] / f }, m)
	return r, nil
}

// applied are the two rows of a sensor: what was read at what was applied.
func applied(rec *record.Record, req figure.Request) (x [2]float64, readings []uncertainty.Reading, stated bool,
	err error) {
	to, given := req.Args[high.Name]
	if !given {
		return x, nil, false, record.Because(record.NoRating, "say with high what was applied in the second row")
	}
	x, stated = [2]float64{req.Args[low.Name], to}, true
	for _, row := range []string{req.Row, req.Rows["high"]} {
		taken, err := rec.Row(row)
		if err != nil {
			return x, nil, false, err
		}
		p := taken[len(taken)-1]
		if _, err := p.Mean(req.Quantity); err != nil {
			return x, nil, false, err
		}
		reading, ok := rec.Reading(p, req.Quantity)
		readings, stated = append(readings, reading), stated && ok
	}
	if readings[0].Value == readings[1].Value {
		return x, nil, false, record.Because(record.ZeroDivisor, "both rows read the same")
	}
	return x, readings, stated, nil
}

// sensorGain is (x₂ − x₁)/(r₂ − r₁).
func sensorGain(rec *record.Record, req figure.Request) (figure.Result, error) {
	x, readings, stated, err := applied(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := trace.UnitOf(req.Over).Factor / trace.UnitOf(req.Quantity).Factor
	gain := func(r []float64) float64 { return (x[1] - x[0]) / (r[1] - r[0]) / f }
	result := figure.Result{Value: gain(values(readings)), N: 2}
	result.WithUncertainty(gain, readings, stated)
	return result, nil
}

// sensorOffset is x₁ − g·r₁.
func sensorOffset(rec *record.Record, req figure.Request) (figure.Result, error) {
	x, readings, stated, err := applied(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	f := trace.UnitOf(req.Over).Factor
	offset := func(r []float64) float64 { return (x[0] - (x[1]-x[0])/(r[1]-r[0])*r[0]) / f }
	result := figure.Result{Value: offset(values(readings)), N: 2}
	result.WithUncertainty(offset, readings, stated)
	return result, nil
}
