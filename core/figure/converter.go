package figure

import (
	"errors"
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Figures of converters and supplies. Points hold means of frames; volts are those at the unit's terminals.
var converterFigures = []Definition{
	{ID: "efficiency", Title: "Efficiency", Unit: "%", Least: 0, Most: 100, Points: true, compute: efficiency},
	{ID: "loss", Title: "Loss", Unit: "W", Least: 0, Most: math.Inf(1), Points: true, compute: loss},
	{ID: "line-regulation", Title: "Line regulation", Unit: "%", Least: 0, Most: math.Inf(1), Points: true, compute: lineRegulation},
	{ID: "line-shift", Title: "Line shift", Unit: "mV", Least: math.Inf(-1), Most: math.Inf(1), Points: true, compute: lineShift},
	{ID: "load-regulation", Title: "Load regulation", Unit: "%", Least: 0, Most: math.Inf(1), Points: true, compute: loadRegulation},
	{ID: "load-shift", Title: "Load shift", Unit: "mV", Least: math.Inf(-1), Most: math.Inf(1), Points: true, compute: loadShift},
	{ID: "output-accuracy", Title: "Output accuracy", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1), Points: true, compute: outputAccuracy},
	{ID: "no-load-power", Title: "No-load power", Unit: "W", Least: 0, Most: math.Inf(1), compute: noLoadPower},
}

// place completes a request with the nominal line and full load of the nameplate, except for the columns left open. A rating
// that is not stated does not matter where every point has the same setpoint.
func (rec *Record) place(req Request, open ...string) (map[string]float64, error) {
	place := map[string]float64{}
	for column, value := range req.At {
		place[column] = value
	}
	for column, rating := range map[string]string{req.Input + ".volts": "nominal_line", req.Output + ".amps": "rated_current"} {
		if _, given := place[column]; given || slices.Contains(open, column) {
			continue
		}
		if q, ok := rec.Ratings[rating]; ok {
			place[column] = q.Value
			continue
		}
		for _, p := range rec.Points {
			if p.Place[column] != rec.Points[0].Place[column] {
				return nil, undetermined(NoRating, "the nameplate does not state %s; state it, or say at which %s", rating, column)
			}
		}
	}
	for _, column := range open {
		delete(place, column)
	}
	return place, nil
}

// pointAt finds the point at a place.
func (rec *Record) pointAt(req Request) (Point, Result, error) {
	place, err := rec.place(req)
	r := Result{Request: Request{At: place}}
	if err != nil {
		return Point{}, r, err
	}
	points := rec.pointsAt(place, "")
	if len(points) == 0 {
		return Point{}, r, undetermined(NoPoint, "no point was measured at %s", Request{At: place}.Where())
	}
	if len(points) > 1 {
		r.Remarks = append(r.Remarks, "several points there, the first taken")
	}
	return points[0], r, nil
}

// power is what efficiency and loss share: the two powers of a point in W, and the readings volts and amps of both sides.
type power struct {
	in, out  float64
	readings []uncertainty.Reading
	stated   bool
	result   Result
}

func (rec *Record) power(req Request) (power, error) {
	var w power
	p, result, err := rec.pointAt(req)
	w.result = result
	if err != nil {
		return w, err
	}
	if err := unlimited(p, req.Input); err != nil {
		return w, err
	}
	w.stated = true
	for _, column := range []string{req.Input + ".volts", req.Input + ".amps", req.Output + ".volts", req.Output + ".amps"} {
		if _, err := p.mean(column); err != nil {
			return w, err
		}
		r, ok := rec.reading(p, column)
		w.readings, w.stated = append(w.readings, r), w.stated && ok
	}
	if w.in, err = p.mean(req.Input + ".watts"); err != nil {
		return w, err
	}
	if w.out, err = p.mean(req.Output + ".watts"); err != nil {
		return w, err
	}
	w.result.N = p.Averages[req.Output+".watts"].N
	return w, nil
}

// efficiency is η = 100·ΣP_out/ΣP_in.
func efficiency(rec *Record, req Request) (Result, error) {
	w, err := rec.power(req)
	if err != nil {
		return w.result, err
	}
	watts := func(x []float64) float64 { return x[0] * x[1] }
	if w.stated {
		if u := uncertainty.Propagate(watts, w.readings[:2]); math.Abs(w.in) <= u.U {
			return w.result, undetermined(ZeroDivisor, "the input power is not told from 0")
		}
		if u := uncertainty.Propagate(watts, w.readings[2:]); w.out <= u.U {
			return w.result, undetermined(BelowFloor, "the output power is not told from 0; see no-load-power")
		}
	} else if w.in == 0 {
		return w.result, undetermined(ZeroDivisor, "the input power is 0")
	}
	r := w.result
	r.Value = 100 * w.out / w.in
	r.withUncertainty(func(x []float64) float64 { return 100 * x[2] * x[3] / (x[0] * x[1]) }, w.readings, w.stated)
	if r.Value > 100+r.U {
		return r, undetermined(Implausible, "more power came out than went in, %.4g %%; check the wiring of the sense leads", r.Value)
	}
	return r, nil
}

// loss is ΣP_in − ΣP_out.
func loss(rec *Record, req Request) (Result, error) {
	w, err := rec.power(req)
	if err != nil {
		return w.result, err
	}
	r := w.result
	r.Value = w.in - w.out
	r.withUncertainty(func(x []float64) float64 { return x[0]*x[1] - x[2]*x[3] }, w.readings, w.stated)
	if r.Value < -r.U {
		return r, undetermined(Implausible, "more power came out than went in; check the wiring of the sense leads")
	}
	return r, nil
}

// sweep is the output volts along line or load, the other held.
type sweep struct {
	place    map[string]float64 // what is held
	points   []Point
	volts    []float64 // output, at each point
	along    []float64 // measured line or load, increasing
	readings []uncertainty.Reading
	stated   bool
}

// heldTolerance is how far the quantity that is held may vary: 1 % for a load, 0.5 % for a line.
func (rec *Record) sweep(req Request, along, held string, heldTolerance float64, what string) (sweep, error) {
	s := sweep{stated: true}
	place, err := rec.place(req, along)
	if err != nil {
		return s, err
	}
	s.place, s.points = place, rec.pointsAt(place, along)
	if len(s.points) == 0 {
		return s, undetermined(NoPoint, "no point was measured at %s", Request{At: place}.Where())
	}
	volts := req.Output + ".volts"
	least, most := math.Inf(1), math.Inf(-1)
	for _, p := range s.points {
		v, err := p.mean(volts)
		if err != nil {
			return s, err
		}
		a, err := p.mean(along)
		if err != nil {
			return s, err
		}
		h, err := p.mean(held)
		if err != nil {
			return s, err
		}
		if err := rec.settled(p, volts); err != nil {
			return s, err
		}
		if err := unlimited(p, req.Input); err != nil {
			return s, err
		}
		least, most = min(least, h), max(most, h)
		r, ok := rec.reading(p, volts)
		s.volts, s.along, s.readings, s.stated = append(s.volts, v), append(s.along, a), append(s.readings, r), s.stated && ok
	}
	if s.along[len(s.along)-1]-s.along[0] <= PlaceTolerance*math.Abs(s.along[len(s.along)-1]) {
		return s, undetermined(TooFew, "only one %s was measured; two are needed", what)
	}
	if middle := (most + least) / 2; most-least > heldTolerance*math.Abs(middle) {
		return s, undetermined(WrongConditions, "%s was not held: it varies by %.2g %%", held, 100*(most-least)/math.Abs(middle))
	}
	return s, nil
}

// regulation is 100·(max V − min V)/V_ref along the sweep. reference gives V_ref from the volts of all points.
func (s sweep) regulation(reference func(volts []float64) float64) Result {
	top, bottom := 0, 0
	for i, v := range s.volts {
		if v > s.volts[top] {
			top = i
		}
		if v < s.volts[bottom] {
			bottom = i
		}
	}
	f := func(x []float64) float64 { return 100 * (x[top] - x[bottom]) / math.Abs(reference(x)) }
	r := Result{Request: Request{At: s.place}, Value: f(s.volts), N: len(s.points)}
	r.withUncertainty(f, s.readings, s.stated)
	if s.stated && r.Value <= r.U {
		r.Remarks = append(r.Remarks, "not told from 0")
	}
	return r
}

// referenceAt interpolates the output volts at a measured line or load.
func (s sweep) referenceAt(at float64) (func([]float64) float64, error) {
	near := PlaceTolerance * math.Abs(at)
	n := len(s.along)
	if at < s.along[0]-near || at > s.along[n-1]+near {
		return nil, undetermined(NoPoint, "the reference is outside the measured points, and nothing is extrapolated")
	}
	for i := 1; i < n; i++ {
		if at <= s.along[i] || i == n-1 {
			w := min(max((at-s.along[i-1])/(s.along[i]-s.along[i-1]), 0), 1)
			return func(x []float64) float64 { return x[i-1] + w*(x[i]-x[i-1]) }, nil
		}
	}
	return nil, undetermined(TooFew, "two points are needed")
}

// reference is V_ref of a regulation: the rated volts, or the output at the nominal place along the sweep. A point whose setpoint
// is the nominal one counts as that place as it stands; interpolation is only for a nominal place between the points.
func (rec *Record) reference(req Request, s sweep, along, rating string) (func([]float64) float64, error) {
	if req.Reference == "rated" {
		q, ok := rec.Ratings["rated_volts"]
		if !ok {
			return nil, undetermined(NoRating, "the nameplate does not state rated_volts")
		}
		return func([]float64) float64 { return q.Value }, nil
	}
	q, ok := rec.Ratings[rating]
	if !ok {
		return nil, undetermined(NoRating, "the nameplate does not state %s, to which the regulation refers", rating)
	}
	for i, p := range s.points {
		if p.at(map[string]float64{along: q.Value}) {
			return func(x []float64) float64 { return x[i] }, nil
		}
	}
	return s.referenceAt(q.Value)
}

func (rec *Record) alongLine(req Request) (sweep, error) {
	return rec.sweep(req, req.Input+".volts", req.Output+".amps", 0.01, "line voltage")
}

func (rec *Record) alongLoad(req Request) (sweep, error) {
	return rec.sweep(req, req.Output+".amps", req.Input+".volts", 0.005, "load current")
}

// lineRegulation is 100·(max V − min V)/V_ref over the lines, load held (default full load).
func lineRegulation(rec *Record, req Request) (Result, error) {
	s, err := rec.alongLine(req)
	if err != nil {
		return Result{}, err
	}
	ref, err := rec.reference(req, s, req.Input+".volts", "nominal_line")
	if err != nil {
		return Result{}, err
	}
	return s.regulation(ref), nil
}

// loadRegulation is 100·(max V − min V)/V_ref over the loads, line held (default nominal).
func loadRegulation(rec *Record, req Request) (Result, error) {
	s, err := rec.alongLoad(req)
	if err != nil {
		return Result{}, err
	}
	ref, err := rec.reference(req, s, req.Output+".amps", "rated_current")
	if err != nil {
		return Result{}, err
	}
	return s.regulation(ref), nil
}

// shift is the signed difference between the two ends of a sweep, in mV.
func (s sweep) shift() Result {
	last := len(s.volts) - 1
	f := func(x []float64) float64 { return 1000 * (x[last] - x[0]) }
	r := Result{Request: Request{At: s.place}, Value: f(s.volts), N: len(s.points)}
	r.withUncertainty(f, s.readings, s.stated)
	return r
}

// lineShift is V(highest line) − V(lowest line).
func lineShift(rec *Record, req Request) (Result, error) {
	s, err := rec.alongLine(req)
	if err != nil {
		return Result{}, err
	}
	return s.shift(), nil
}

// loadShift is V(full load) − V(least load), negative when the output droops.
func loadShift(rec *Record, req Request) (Result, error) {
	s, err := rec.alongLoad(req)
	if err != nil {
		return Result{}, err
	}
	return s.shift(), nil
}

// outputAccuracy is 100·(V − V_rated)/V_rated, signed. Where the request leaves line or load open by naming the other, it is the
// point of largest magnitude.
func outputAccuracy(rec *Record, req Request) (Result, error) {
	rated, ok := rec.Ratings["rated_volts"]
	if !ok {
		return Result{}, undetermined(NoRating, "the nameplate does not state rated_volts")
	}
	place := req.At
	if len(place) == 0 {
		var err error
		if place, err = rec.place(req); err != nil {
			return Result{}, err
		}
	}
	points := rec.pointsAt(place, "")
	if len(points) == 0 {
		return Result{}, undetermined(NoPoint, "no point was measured at %s", Request{At: place}.Where())
	}
	deviation := func(x []float64) float64 { return 100 * (x[0] - rated.Value) / rated.Value }
	volts := req.Output + ".volts"
	var worst Point
	r := Result{Request: Request{At: place}}
	for i, p := range points {
		v, err := p.mean(volts)
		if err != nil {
			return Result{}, err
		}
		if err := rec.settled(p, volts); err != nil {
			return Result{}, err
		}
		if d := deviation([]float64{v}); i == 0 || math.Abs(d) > math.Abs(r.Value) {
			worst, r.Value = p, d
		}
	}
	if len(points) > 1 {
		r.Remarks = append(r.Remarks, "largest of "+quantity.Quantity{Value: float64(len(points))}.String()+" points, at "+worst.words())
	}
	r.N = worst.Averages[volts].N
	reading, ok := rec.reading(worst, volts)
	r.withUncertainty(deviation, []uncertainty.Reading{reading}, ok)
	return r, nil
}

// shortestNoLoad is the least window of no-load-power, s.
const shortestNoLoad = 10

// noLoadPower is ΔE/Δt of the input with every output unloaded, over a hold of at least 10 s. The energy counter runs at the full
// rate of the frames; the uncertainty is that of volts and amps read all the time with the same gain and offset.
func noLoadPower(rec *Record, req Request) (Result, error) {
	span, err := rec.unloadedSpan(req)
	if err != nil {
		return Result{}, err
	}
	length := span.T1 - span.T0
	var w [3]trace.Series
	for i, column := range []string{req.Input + ".energy", req.Input + ".volts", req.Input + ".amps"} {
		s, err := rec.Trace(column, span.T0, span.T1)
		if err != nil {
			return Result{}, err
		}
		if w[i], err = s.Window(span.T0, span.T1); err != nil {
			return Result{}, codeOf(err, column)
		}
	}
	energy := w[0]
	n := energy.Len()
	elapsed := energy.T[n-1] - energy.T[0]
	r := Result{Value: (energy.X[n-1] - energy.X[0]) / elapsed, N: n}
	if length < shortestNoLoad {
		return r, undetermined(TooFew, "the stage %q lasts %.3g s; the window must be at least %d s", span.Name, length, shortestNoLoad)
	}
	half := energy.T[0] + elapsed/2
	first := 2 * (energy.At(half) - energy.X[0]) / elapsed
	if math.Abs(2*(r.Value-first)) > 0.02*math.Abs(r.Value) {
		return r, undetermined(NotSettled, "the two halves of the window differ by more than 2 %%; hold longer")
	}
	volts, _ := w[1].Mean()
	amps, _ := w[2].Mean()
	readings := make([]uncertainty.Reading, 2)
	stated := true
	for i, m := range []float64{volts, amps} {
		column := []string{req.Input + ".volts", req.Input + ".amps"}[i]
		spec, ok := rec.Specs[column].Find(m)
		stated = stated && ok
		a, _ := trace.SettledAverage(w[i+1], spec.Resolution)
		readings[i] = uncertainty.Reading{Value: m, Group: column, Gain: spec.Reading, Offset: spec.Offset, Noise: a.SE}
	}
	r.withUncertainty(func(x []float64) float64 { return x[0] * x[1] }, readings, stated)
	if r.K > 0 && r.U/r.K > 0.1*math.Abs(r.Value) {
		return r, undetermined(BelowFloor, "the supply's current range is too coarse: %.3g W is known to ± %.2g W only", r.Value, r.U)
	}
	return r, nil
}

// unloadedSpan is the stage that the request names, or the longest hold during which no output was loaded.
func (rec *Record) unloadedSpan(req Request) (Span, error) {
	var best Span
	for _, s := range rec.Stages {
		if req.Stage != "" && s.Name != req.Stage || req.Stage == "" && s.Kind != "hold" {
			continue
		}
		if err := rec.unloaded(s, req.Output); err != nil {
			if req.Stage != "" {
				return s, err
			}
			continue
		}
		if s.T1-s.T0 > best.T1-best.T0 {
			best = s
		}
	}
	if best.T1 == 0 {
		if req.Stage != "" {
			return best, undetermined(NoMark, "the stage %q did not happen", req.Stage)
		}
		return best, undetermined(NoMark, "no hold with every output unloaded was found")
	}
	return best, nil
}

// unloaded reports a load that was on: a current above its offset.
func (rec *Record) unloaded(s Span, output string) error {
	amps, err := rec.Trace(output+".amps", s.T0, s.T1)
	if err != nil {
		return err
	}
	w, err := amps.Window(s.T0, s.T1)
	if err != nil {
		return codeOf(err, output+".amps")
	}
	mean, err := w.Mean()
	if err != nil {
		return codeOf(err, output+".amps")
	}
	floor := 1e-3
	if r, ok := rec.Specs[output+".amps"].Find(mean); ok {
		floor = max(floor, 2*r.Offset)
	}
	if math.Abs(mean) > floor {
		return undetermined(WrongConditions, "%s is on: it draws %s", output, quantity.Quantity{Value: mean, Dim: quantity.Current})
	}
	return nil
}

// codeOf gives an error of the trace package the code of an undetermined figure.
func codeOf(err error, column string) error {
	for _, c := range []struct {
		err  error
		code string
	}{{trace.ErrNoData, NoData}, {trace.ErrTooFew, TooFew}, {trace.ErrMissing, IsMissing}, {trace.ErrOrder, TimeOrder}} {
		if errors.Is(err, c.err) {
			return undetermined(c.code, "%s: %s", column, err)
		}
	}
	return err
}
