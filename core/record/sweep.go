package record

import (
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// Sweep is what a grid measured while one seat led a unit through its volts or its amps: its points in the order of
// the volts that were measured, never of those that were set.
type Sweep struct {
	Seat   string
	Points []Swept
	rec    *Record
}

// Swept is one place of a sweep. Points with the same volts are one place, with their mean amps.
type Swept struct {
	Volts, Amps float64
	// Limited is true where the instrument said that it was in its limit.
	Limited bool
	// Set is what was set there, by column.
	Set map[string]float64

	volts, amps uncertainty.Reading
	stated      bool
	count       float64
}

// Watts are what passes at the place.
func (s Swept) Watts() float64 { return s.Volts * s.Amps }

// Readings are the volts and the amps of the place as inputs of an uncertainty; stated is false where one of them has
// no accuracy.
func (s Swept) Readings() (volts, amps uncertainty.Reading, stated bool) {
	return s.volts, s.amps, s.stated
}

// Noise is the standard deviation of the place's watts from what is new in each of its readings, W.
func (s Swept) Noise() float64 {
	one := func(r uncertainty.Reading) float64 { return max(r.Noise, uncertainty.Resolution(r.Resolution)) }
	return math.Hypot(s.Amps*one(s.volts), s.Volts*one(s.amps))
}

// Way says which part of a sweep is meant, of one that went there and back.
type Way string

// There is the way to the last setpoint, or the whole of a sweep that goes one way; Back is the way back.
const (
	There Way = "there"
	Back  Way = "back"
)

// SweepOf reads the sweep of a seat in a stage, in one of its passes (from 1; 0: the last). Without a stage there must
// be one grid only that swept the seat. at are setpoints that all of its points have.
func (rec *Record) SweepOf(seat, stage string, pass int, way Way, at map[string]float64) (Sweep, error) {
	s := Sweep{Seat: seat, rec: rec}
	points, err := rec.pointsOf(seat, stage, pass, at)
	if err != nil {
		return s, err
	}
	there, back := AtTurn(points, seat)
	if way == Back {
		there = back
	}
	if len(there) == 0 {
		return s, Because(NoPoint, "the sweep of %s has no way back; sweep it with order: both", seat)
	}
	for _, p := range there {
		place, err := rec.swept(p, seat)
		if err != nil {
			return s, err
		}
		s.Points = append(s.Points, place)
	}
	sort.SliceStable(s.Points, func(i, j int) bool { return s.Points[i].Volts < s.Points[j].Volts })
	s.Points = merged(s.Points)
	return s, nil
}

// pointsOf are the points of grids at which a seat was swept, in the order of time.
func (rec *Record) pointsOf(seat, stage string, pass int, at map[string]float64) ([]Point, error) {
	within := Span{T0: math.Inf(-1), T1: math.Inf(1)}
	if stage != "" {
		var err error
		if within, err = rec.Span(stage, pass); err != nil {
			return nil, err
		}
	}
	var points []Point
	var stages []string
	for _, p := range rec.Points {
		if p.Row != "" || stage != "" && p.Stage != stage || p.T0 < within.T0 || p.T1 > within.T1 || !p.At(at) ||
			p.Averages[seat+".volts"].N == 0 {
			continue
		}
		points = append(points, p)
		if !slices.Contains(stages, p.Stage) {
			stages = append(stages, p.Stage)
		}
	}
	switch {
	case len(points) == 0:
		return nil, Because(NoPoint, "no point of a grid has the volts of %s", seat)
	case len(stages) > 1:
		return nil, Because(Ambiguous, "%s was swept in several stages; name one with stage: %s", seat,
			strings.Join(stages, " or "))
	}
	return points, nil
}

// AtTurn parts the points of a sweep where what is set on a seat turns round; the point there belongs to both ways.
// back is nil where it does not, and where it does so several times: then the sweep is no way there and back.
func AtTurn(points []Point, seat string) (there, back []Point) {
	for _, column := range []string{seat + ".volts", seat + ".amps", seat + ".watts", seat + ".ohms"} {
		if there, back = AtTurnOf(points, column); back != nil {
			return there, back
		}
	}
	return points, nil
}

// AtTurnOf is [AtTurn] of one column that is set.
func AtTurnOf(points []Point, column string) (there, back []Point) {
	way := 0.0
	var turns []int
	for k := 1; k < len(points); k++ {
		was, before := points[k-1].Place[column]
		is, now := points[k].Place[column]
		step := is - was
		if !before || !now || step == 0 {
			continue
		}
		if way*step < 0 {
			turns = append(turns, k)
		}
		way = step
	}
	if len(turns) == 1 {
		return points[:turns[0]], points[turns[0]-1:]
	}
	return points, nil
}

// swept is one point as a place of a sweep. A seat that drains the unit counts what flows out of it, as the unit gives
// it; one that feeds it counts what it gives. So a panel's amps at a load are above zero, and a device's at what feeds
// it.
func (rec *Record) swept(p Point, seat string) (Swept, error) {
	volts, err := p.Mean(seat + ".volts")
	if err != nil {
		return Swept{}, err
	}
	amps, err := p.Mean(seat + ".amps")
	if err != nil {
		return Swept{}, err
	}
	s := Swept{Volts: volts, Amps: amps, Set: p.Place, Limited: Unlimited(p, seat) != nil, count: 1}
	var ofVolts, ofAmps bool
	s.volts, ofVolts = rec.Reading(p, seat+".volts")
	s.amps, ofAmps = rec.Reading(p, seat+".amps")
	s.stated = ofVolts && ofAmps
	return s, nil
}

// merged makes one place of those with the same volts.
func merged(places []Swept) []Swept {
	out := places[:0]
	for _, s := range places {
		if n := len(out); n > 0 && out[n-1].Volts == s.Volts {
			last := &out[n-1]
			last.Amps = (last.Amps*last.count + s.Amps) / (last.count + 1)
			last.amps.Value = last.Amps
			last.Limited = last.Limited || s.Limited
			last.count++
			continue
		}
		out = append(out, s)
	}
	return out
}

// Generated is the sweep with the amps counted as they flow out of the unit: those of a seat that feeds it turn round.
func (s Sweep) Generated() Sweep {
	if kind, ok := seats.KindOf(s.Seat); !ok || kind.Is(seats.Drains) && !kind.Is(seats.Feeds) {
		return s
	}
	turned := slices.Clone(s.Points)
	for i := range turned {
		turned[i].Amps, turned[i].amps.Value = -turned[i].Amps, -turned[i].amps.Value
	}
	s.Points = turned
	return s
}

// Blocked is the sweep of a device as if it was fed with volts above zero: of one that was fed the other way round
// both signs are turned.
func (s Sweep) Blocked() Sweep {
	sum := 0.0
	for _, p := range s.Points {
		sum += p.Volts
	}
	if sum >= 0 {
		return s
	}
	turned := slices.Clone(s.Points)
	slices.Reverse(turned)
	for i := range turned {
		p := &turned[i]
		p.Volts, p.Amps, p.volts.Value, p.amps.Value = -p.Volts, -p.Amps, -p.volts.Value, -p.amps.Value
	}
	s.Points = turned
	return s
}

// Between finds the places around a voltage; ok is false beyond the sweep.
func (s Sweep) Between(volts float64) (below, above int, ok bool) {
	n := len(s.Points)
	k := sort.Search(n, func(i int) bool { return s.Points[i].Volts >= volts })
	switch {
	case k < n && s.Points[k].Volts == volts:
		return k, k, true
	case k == 0 || k == n:
		return 0, 0, false
	}
	return k - 1, k, true
}

// At is the amps at a voltage, straight between neighbours; NaN beyond the sweep.
func (s Sweep) At(volts float64) float64 {
	a, b, ok := s.Between(volts)
	switch {
	case !ok:
		return math.NaN()
	case a == b:
		return s.Points[a].Amps
	}
	p, q := s.Points[a], s.Points[b]
	return p.Amps + (q.Amps-p.Amps)*(volts-p.Volts)/(q.Volts-p.Volts)
}

// Mean is the mean of another column over the points of the sweep's stage; ok is false where it was not read.
func (rec *Record) MeanOver(seat, stage string, pass int, column string) (mean float64, ok bool) {
	points, err := rec.pointsOf(seat, stage, pass, nil)
	if err != nil {
		return 0, false
	}
	n := 0.0
	for _, p := range points {
		if a := p.Averages[column]; a.N > 0 {
			mean, n = mean+a.Mean, n+1
		}
	}
	return mean / n, n > 0
}
