package machine

import (
	"cmp"
	"math"
	"sort"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// course reads the temperature of a stage, averaged over short times, so that noise is no change.
func course(rec *record.Record, req figure.Request, over float64) (span record.Span, m record.Measured, err error) {
	if span, err = rec.Span(req.Stage, req.Pass); err != nil {
		return span, m, err
	}
	m, err = rec.Measured(cmp.Or(req.Quantity, machineColumn), span.T0, span.T1)
	if err != nil || over <= 0 {
		return span, m, err
	}
	var smooth trace.Series
	for k, n := 0, m.Len(); k < n; {
		end, first := m.T[k]+over, k
		var t, x, count float64
		for ; k < n && (m.T[k] < end || k == first); k++ {
			t, x, count = t+m.T[k], x+m.X[k], count+1
		}
		smooth.T, smooth.X = append(smooth.T, t/count), append(smooth.X, x/count)
	}
	m.Series = smooth
	return span, m, nil
}

// at is the temperature at a time, straight between readings.
func at(m record.Measured, t float64) float64 {
	n := m.Len()
	k := sort.SearchFloat64s(m.T, t)
	switch {
	case k == 0:
		return m.X[0]
	case k == n:
		return m.X[n-1]
	}
	share := (t - m.T[k-1]) / (m.T[k] - m.T[k-1])
	return m.X[k-1] + share*(m.X[k]-m.X[k-1])
}

// averagedOver is by how much of the window a temperature is averaged before it is compared.
const averagedOver = 0.01

// settleTime is the earliest time from which on |θ(t′) − θ(t′ − window)| stays within the change, since the
// stage began.
func settleTime(rec *record.Record, req figure.Request) (figure.Result, error) {
	most, over := req.Args[change.Name], req.Args[window.Name]
	span, m, err := course(rec, req, averagedOver*over)
	if err != nil {
		return figure.Result{}, err
	}
	first, last := m.T[0], m.T[m.Len()-1]
	if last-first < 2*over*(1-1e-9) {
		return figure.Result{}, record.Because(record.TooFew, "the record of %s is shorter than two windows",
			quantity.Quantity{Value: last - first, Dim: quantity.Time})
	}
	settled, lastChange := math.NaN(), 0.0
	for k := m.Len() - 1; k >= 0 && m.T[k]-over >= first-1e-9; k-- {
		d := math.Abs(m.X[k] - at(m, m.T[k]-over))
		if k == m.Len()-1 {
			lastChange = d
		}
		if d > most {
			break
		}
		settled = m.T[k]
	}
	if math.IsNaN(settled) {
		return figure.Result{}, record.Because(record.NotReached, "it still changes by %.2g K within the window", lastChange)
	}
	r := figure.Of(m, settled-span.T0)
	// It is known to the interval of the readings, and to what noise changes of the moment.
	e := uncertainty.Expand([]float64{max(interval(m), averagedOver*over)}, nil)
	r.U, r.K = e.U, e.K
	return r, nil
}

// interval is the usual one of the readings, s.
func interval(m record.Measured) float64 {
	return (m.T[m.Len()-1] - m.T[0]) / float64(max(m.Len()-1, 1))
}

// three are the temperatures at the end of a stage, and one and two steps before.
func three(rec *record.Record, req figure.Request) (x [3]float64, m record.Measured, h float64, err error) {
	_, m, err = course(rec, req, 0)
	if err != nil {
		return x, m, h, err
	}
	first, last := m.T[0], m.T[m.Len()-1]
	if h = req.Args[step.Name]; h == 0 {
		h = (last - first) / 3
	}
	if last-2*h < first-1e-9 {
		return x, m, h, record.Because(record.TooFew, "the stage is shorter than two steps")
	}
	x = [3]float64{at(m, last-2*h), at(m, last-h), at(m, last)}
	d1, d2 := x[1]-x[0], x[2]-x[1]
	switch {
	case d1 == d2:
		return x, m, h, record.Because(record.ZeroDivisor, "the temperature goes on as a straight line")
	case d1*d2 <= 0 || math.Abs(d2) > math.Abs(d1):
		return x, m, h, record.Because(record.Implausible,
			"its steps of %.3g and %.3g K are not those of a body that settles",
			d1, d2)
	}
	return x, m, h, nil
}

// of is a function of three temperatures as a figure.
func of(m record.Measured, x [3]float64, f func(x []float64) float64) figure.Result {
	r := figure.Of(m, f(x[:]))
	readings := make([]uncertainty.Reading, 3)
	for k := range readings {
		readings[k] = m.Mean
		readings[k].Value, readings[k].Noise, readings[k].N = x[k], m.Noise(), 0
	}
	r.WithUncertainty(f, readings, m.Stated)
	return r
}

// finalTemperature is (θ₁·θ₃ − θ₂²)/(θ₁ + θ₃ − 2·θ₂).
func finalTemperature(rec *record.Record, req figure.Request) (figure.Result, error) {
	x, m, _, err := three(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	return of(m, x, func(x []float64) float64 { return (x[0]*x[2] - x[1]*x[1]) / (x[0] + x[2] - 2*x[1]) }), nil
}

// timeConstant is h/ln[(θ₂ − θ₁)/(θ₃ − θ₂)].
func timeConstant(rec *record.Record, req figure.Request) (figure.Result, error) {
	x, m, h, err := three(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	return of(m, x, func(x []float64) float64 { return h / math.Log((x[1]-x[0])/(x[2]-x[1])) }), nil
}
