package record

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// PlaceTolerance is how far, relatively, a setpoint may be from a place and still be at it.
const PlaceTolerance = 0.005

// Point is the settled average of all quantities at one operating point of a grid.
type Point struct {
	Index int     `json:"index"`
	Stage string  `json:"stage"`
	T0    float64 `json:"t0"` // begin and end of the average, s
	T1    float64 `json:"t1"`
	// Place holds every setpoint in force, SI, by full name.
	Place map[string]float64 `json:"place"`
	// Averages by column, SI.
	Averages map[string]trace.Average `json:"averages"`
	// Row names the row of an acquire or seek that the point belongs to; the points of a grid have none.
	Row string `json:"row,omitempty"`
	// Before are the averages at the last step of a seek at which its condition did not hold; nil if there was none.
	Before map[string]trace.Average `json:"before,omitempty"`
	// Held is what was set at that step, by column.
	Held map[string]float64 `json:"held,omitempty"`
	// Recovery says how the unit recovered after a seek; empty if nobody looked. Comeback says it for programs.
	Recovery string    `json:"recovery,omitempty"`
	Comeback *Comeback `json:"comeback,omitempty"`
	// Vain is true for what a seek leaves that found nothing up to the end of its range: Before is the last step.
	Vain bool `json:"vain,omitempty"`
	// GaveWay is true for the reading with which an insulation gave way in a withstand test: Held is the most that it
	// stood.
	GaveWay bool `json:"gave_way,omitempty"`
}

// Comeback is how a unit came back after it gave up in a seek.
type Comeback struct {
	Class ComebackClass `json:"class"`
	// Delay is the time from relief, or from when its input was on again, to when it was back, s; it lies within the Step
	// before. Both are 0 for what did not come back.
	Delay float64 `json:"delay,omitempty"`
	Step  float64 `json:"step,omitempty"`
	// Within is for how long it was looked at, s.
	Within float64 `json:"within"`
}

// ComebackClass is the way in which a unit comes back.
type ComebackClass string

// The classes: it tries again and again while it is overloaded; it comes back by itself once it is relieved; only after
// its input was cycled; not even then; not by itself, and nothing could cycle its input.
const (
	ByHiccup   ComebackClass = "hiccup"
	ByItself   ComebackClass = "self"
	InputCycle ComebackClass = "input-cycle"
	NoComeback ComebackClass = "none"
	Latched    ComebackClass = "latched"
)

// Words says where the point is: "source.volts 48 V, load.amps 8 A".
func (p Point) Words() string { return strings.Join(PlaceWords(p.Place), ", ") }

// InUnits is the point as people read it: everything in the unit of its column, not in SI.
func (p Point) InUnits() Point {
	scaled := func(averages map[string]trace.Average) map[string]trace.Average {
		if averages == nil {
			return nil
		}
		out := make(map[string]trace.Average, len(averages))
		for column, a := range averages {
			factor := trace.UnitOf(column).Factor
			a.Mean, a.SD, a.SE, a.Drift = a.Mean/factor, a.SD/factor, a.SE/factor, a.Drift/factor
			out[column] = a
		}
		return out
	}
	levels := func(set map[string]float64) map[string]float64 {
		if set == nil {
			return nil
		}
		out := make(map[string]float64, len(set))
		for column, x := range set {
			out[column] = x / trace.UnitOf(column).Factor
		}
		return out
	}
	p.Averages, p.Before, p.Place, p.Held = scaled(p.Averages), scaled(p.Before), levels(p.Place), levels(p.Held)
	return p
}

// PlaceWords words setpoints, one each, the source's before the load's.
func PlaceWords(place map[string]float64) []string {
	var words []string
	for _, column := range slices.Sorted(maps.Keys(place)) {
		if column == ContractColumn {
			words = append(words, fmt.Sprintf("contract %g", place[column]))
			continue
		}
		q := quantity.Quantity{Value: place[column], Dim: trace.UnitOf(column).Dim}
		words = append(words, column+" "+q.String())
	}
	slices.Reverse(words)
	return words
}

// At tells whether a point lies at the given setpoints.
func (p Point) At(place map[string]float64) bool {
	for column, want := range place {
		have, ok := p.Place[column]
		if !ok || math.Abs(have-want) > PlaceTolerance*max(math.Abs(want), math.Abs(have)) {
			return false
		}
	}
	return true
}

// Mean is the settled average of a column at a point, or why there is none.
func (p Point) Mean(column string) (float64, error) {
	a, ok := p.Averages[column]
	switch {
	case !ok || a.N == 0:
		return 0, Because(IsMissing, "%s was not read at %s", column, p.Words())
	case a.N < 3:
		return 0, Because(TooFew, "%s has %d readings at %s; three are needed, so average longer or read faster", column,
			a.N, p.Words())
	}
	return a.Mean, nil
}

// Unlimited reports a point at which the bench, not the unit, set the value.
func Unlimited(p Point, seat string) error {
	if a, ok := p.Averages[seat+".limited"]; ok && a.N > 0 && a.Mean > 0 {
		return Because(Limited, "%s was in its limit at %s, so the bench set the value; raise the limit", seat, p.Words())
	}
	return nil
}

// Rating is what the nameplate states for an output; where it states that for no output, what it states for the unit.
func (rec *Record) Rating(output, name string) (quantity.Quantity, bool) {
	return nameplate.RatingOf(rec.Ratings, output, name)
}

// Sets tells whether some point of a grid has a column among its setpoints.
func (rec *Record) Sets(column string) bool {
	return slices.ContainsFunc(rec.Points, func(p Point) bool {
		_, set := p.Place[column]
		return set && p.Row == ""
	})
}

// PointsAt is the points of grids at a place, ordered by the given column's measured mean.
func (rec *Record) PointsAt(place map[string]float64, along string) []Point {
	var points []Point
	for _, p := range rec.Points {
		if p.Row == "" && p.At(place) {
			points = append(points, p)
		}
	}
	if along != "" {
		sort.SliceStable(points,
			func(i, j int) bool { return points[i].Averages[along].Mean < points[j].Averages[along].Mean })
	}
	return points
}

// Row gives the points of a row.
func (rec *Record) Row(name string) ([]Point, error) { return rec.RowAt(name, nil) }

// RowAt gives the points of a row that were taken at a place; nil: wherever. A search that found nothing leaves none.
func (rec *Record) RowAt(name string, at map[string]float64) ([]Point, error) {
	points, err := rec.sought(name, at)
	if err != nil {
		return nil, err
	}
	if found := slices.DeleteFunc(points, func(p Point) bool { return p.Vain }); len(found) > 0 {
		return found, nil
	}
	return nil, Because(NotReached, "nothing gave way up to the end of the range of %q", name)
}

// Sought is the last point of a row at a place, that of a search which found nothing too.
func (rec *Record) Sought(name string, at map[string]float64) (Point, error) {
	points, err := rec.sought(name, at)
	if err != nil {
		return Point{}, err
	}
	return points[len(points)-1], nil
}

func (rec *Record) sought(name string, at map[string]float64) (points []Point, err error) {
	elsewhere := false
	for _, p := range rec.Points {
		switch {
		case p.Row != name:
		case p.At(at):
			points = append(points, p)
		default:
			elsewhere = true
		}
	}
	switch {
	case len(points) > 0:
		return points, nil
	case elsewhere:
		return nil, Because(NoPoint, "the run has no row %q at %s", name, strings.Join(PlaceWords(at), ", "))
	}
	return nil, Because(NoPoint, "the run has no row %q", name)
}

// driftShare is the drift over the averaging window, relative to the mean, above which a point is not settled.
const driftShare = 0.001

// Settled reports a point that still drifts in its window by more than 0.1 % or the channel's accuracy.
func (rec *Record) Settled(p Point, columns ...string) error {
	for _, column := range columns {
		a := p.Averages[column]
		tolerance := driftShare * math.Abs(a.Mean)
		if r, ok := rec.Specs[column].Find(a.Mean); ok {
			tolerance = max(tolerance, r.Bound(a.Mean))
		}
		if math.Abs(a.Drift) > tolerance {
			return Because(NotSettled, "%s still drifts at %s; settle longer", column, p.Words())
		}
	}
	return nil
}

// groupOf names one range of one column: what is read in it shares its gain and its offset error.
func groupOf(column string, r uncertainty.Range) string { return fmt.Sprintf("%s to %g", column, r.To) }

// Reading makes the input of an uncertainty from a column's average at a point; stated is false where the column
// has no accuracy.
func (rec *Record) Reading(p Point, column string) (reading uncertainty.Reading, stated bool) {
	a := p.Averages[column]
	reading, stated = rec.Input(column, a.Mean, p.Averages[seatOf(column)+".amps"].Mean)
	reading.Noise, reading.N = a.SE, a.N
	return reading, stated
}

// Input makes the input of an uncertainty, without its noise, from a value of a column while a current flowed through
// the seat; stated is false where the column has no accuracy. Whoever needs a reading with its instrument asks here.
func (rec *Record) Input(column string, value, amps float64) (reading uncertainty.Reading, stated bool) {
	r, stated := rec.Specs[column].Find(value)
	perOhm := amps
	if strings.HasSuffix(column, ".watts") {
		perOhm *= amps
	}
	return r.Input(groupOf(column, r), value, perOhm), stated
}

// seatOf is the seat of a column.
func seatOf(column string) string {
	seat, _, _ := strings.Cut(column, ".")
	return seat
}

// Corrected tells whether a column is corrected for the leads of its instrument.
func (rec *Record) Corrected(column string) bool {
	spec := rec.Specs[column]
	return len(spec) > 0 && spec[0].Leads.Ohms > 0
}
