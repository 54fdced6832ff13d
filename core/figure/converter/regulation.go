package converter

import (
	"math"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// sweep is the output volts along line or load, the other held.
type sweep struct {
	place    map[string]float64 // what is held
	points   []record.Point
	volts    []float64 // output, at each point
	along    []float64 // measured line or load, increasing
	readings []uncertainty.Reading
	stated   bool
}

// swept finds the points of a sweep. heldTolerance is how far the quantity that is held may vary: 1 % for a
// load, 0.5 % for a line.
func swept(rec *record.Record, req figure.Request, set, along, held string, heldTolerance float64, what string) (sweep,
	error) {
	s := sweep{stated: true}
	place, err := placeOf(rec, req, set)
	if err != nil {
		return s, err
	}
	s.place, s.points = place, rec.PointsAt(place, along)
	if len(s.points) == 0 {
		return s, noPointAt(figure.Request{At: place})
	}
	volts := req.Output + ".volts"
	least, most := math.Inf(1), math.Inf(-1)
	for _, p := range s.points {
		v, err := p.Mean(volts)
		if err != nil {
			return s, err
		}
		a, err := p.Mean(along)
		if err != nil {
			return s, err
		}
		h, err := p.Mean(held)
		if err != nil {
			return s, err
		}
		if err := rec.Settled(p, volts); err != nil {
			return s, err
		}
		if err := record.Unlimited(p, req.Input); err != nil {
			return s, err
		}
		least, most = min(least, h), max(most, h)
		r, ok := rec.Reading(p, volts)
		s.volts, s.along, s.readings, s.stated = append(s.volts, v), append(s.along, a), append(s.readings, r), s.stated && ok
	}
	if s.along[len(s.along)-1]-s.along[0] <= record.PlaceTolerance*math.Abs(s.along[len(s.along)-1]) {
		return s, record.Because(record.TooFew, "only one %s was measured; two are needed", what)
	}
	// What is held at 0 varies by what its instrument is known to.
	middle := (most + least) / 2
	spec, _ := rec.Specs[held].Find(middle)
	if most-least > math.Max(heldTolerance*math.Abs(middle), math.Max(2*spec.Offset, leastHeld)) {
		return s, record.Because(record.WrongConditions, "%s was not held: it varies from %.4g to %.4g", held, least, most)
	}
	return s, nil
}

// leastHeld is a change, A or V, that is none where nobody says how good the instrument is.
const leastHeld = 1e-3

// ends are the points of the sweep with the highest and the lowest volts.
func (s sweep) ends() (top, bottom int) {
	for i, v := range s.volts {
		if v > s.volts[top] {
			top = i
		}
		if v < s.volts[bottom] {
			bottom = i
		}
	}
	return top, bottom
}

// regulation is 100·(max V − min V)/V_ref along the sweep. reference gives V_ref from the volts of all points.
func (s sweep) regulation(reference func(volts []float64) float64) figure.Result {
	top, bottom := s.ends()
	return s.share(func(x []float64) float64 { return x[top] - x[bottom] }, reference)
}

// share is a span of the volts as a share of a reference, %.
func (s sweep) share(span, reference func(volts []float64) float64) figure.Result {
	f := func(x []float64) float64 { return 100 * span(x) / math.Abs(reference(x)) }
	r := figure.Result{Request: figure.Request{At: s.place}, Value: f(s.volts), N: len(s.points)}
	r.WithUncertainty(f, s.readings, s.stated)
	if s.stated && r.Value <= r.U {
		r.Remarks = append(r.Remarks, "not told from 0")
	}
	return r
}

// referenceAt interpolates the output volts at a measured line or load.
func (s sweep) referenceAt(at float64) (func([]float64) float64, error) {
	near := record.PlaceTolerance * math.Abs(at)
	n := len(s.along)
	if at < s.along[0]-near || at > s.along[n-1]+near {
		return nil,
			record.Because(record.NoPoint, "the reference is outside the measured points, and nothing is extrapolated")
	}
	for i := 1; i < n; i++ {
		if at <= s.along[i] || i == n-1 {
			w := min(max((at-s.along[i-1])/(s.along[i]-s.along[i-1]), 0), 1)
			return func(x []float64) float64 { return x[i-1] + w*(x[i]-x[i-1]) }, nil
		}
	}
	return nil, record.Because(record.TooFew, "two points are needed")
}

// reference is V_ref of a regulation: the rated volts, or the output at the nominal place along the sweep. A
// point whose setpoint is the nominal one counts as that place as it stands; interpolation is only for a
// nominal place between the points.
func reference(rec *record.Record, req figure.Request, s sweep, set, rating string) (func([]float64) float64, error) {
	if req.Reference == "rated" {
		q, ok := rec.Rating(req.Output, "rated_volts")
		if !ok {
			return nil, record.Because(record.NoRating, "the nameplate does not state rated_volts")
		}
		return func([]float64) float64 { return q.Value }, nil
	}
	q, ok := rec.Rating(strings.TrimSuffix(set, ".amps"), rating)
	if !ok {
		return nil, record.Because(record.NoRating, "the nameplate does not state %s, to which the regulation refers", rating)
	}
	for i, p := range s.points {
		if p.At(map[string]float64{set: q.Value}) {
			return func(x []float64) float64 { return x[i] }, nil
		}
	}
	return s.referenceAt(q.Value)
}

func alongLine(rec *record.Record, req figure.Request) (sweep, error) {
	return swept(rec, req, lineSet(req), req.Input+".volts", req.Output+".amps", 0.01, "line voltage")
}

func alongLoad(rec *record.Record, req figure.Request) (sweep, error) {
	return swept(rec, req, loadSet(req), req.Output+".amps", req.Input+".volts", 0.005, "load current")
}

// lineRegulation is 100·(max V − min V)/V_ref over the lines, load held (default full load).
func lineRegulation(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := alongLine(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	ref, err := reference(rec, req, s, lineSet(req), "nominal_line")
	if err != nil {
		return figure.Result{}, err
	}
	return s.regulation(ref), nil
}

// loadRegulation is 100·(max V − min V)/V_ref over the loads, line held (default nominal).
func loadRegulation(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := alongLoad(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	ref, err := reference(rec, req, s, loadSet(req), "rated_current")
	if err != nil {
		return figure.Result{}, err
	}
	return s.regulation(ref), nil
}

// shift is the signed difference between the two ends of a sweep, in mV.
func (s sweep) shift() figure.Result {
	last := len(s.volts) - 1
	f := func(x []float64) float64 { return 1000 * (x[last] - x[0]) }
	r := figure.Result{Request: figure.Request{At: s.place}, Value: f(s.volts), N: len(s.points)}
	r.WithUncertainty(f, s.readings, s.stated)
	return r
}

// lineShift is V(highest line) − V(lowest line).
func lineShift(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := alongLine(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	return s.shift(), nil
}

// loadShift is V(full load) − V(least load), negative when the output droops.
func loadShift(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := alongLoad(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	return s.shift(), nil
}
