// Package figure computes results from the record of a run. Every figure is a pure function of points, traces,
// stages and the ratings of the nameplate: the same record gives the same figure, today and after a limit was
// changed.
//
// One file holds one family. A figure is a [Result] with its expanded uncertainty, or undetermined with a code
// and a sentence; it is never a silent zero.
package figure

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Version names the code that computed a figure; it is raised when a definition changes.
const Version = 1

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
	// Recovery says how the unit recovered after a seek; empty if nobody looked.
	Recovery string `json:"recovery,omitempty"`
}

// Span is the time that a stage took.
type Span struct {
	Name, Kind string
	T0, T1     float64
}

// Event is a mark of the run: what happened, and when.
type Event struct {
	T           float64
	Kind, Label string
}

// Kinds of events that figures look for.
const (
	EventCommand   = "command"
	EventCondition = "condition"
)

// Break is a time in which the service was not there. Outputs were on for a part of it at most.
type Break struct {
	// T0 is the last frame before, T1 the first after it, Off when the outputs went off; negative: that is not known.
	T0  float64 `json:"t0"`
	Off float64 `json:"off"`
	T1  float64 `json:"t1"`
	// Charge and Energy were counted for the time until Off at the last reading, SI, into the battery.
	Charge float64 `json:"charge"`
	Energy float64 `json:"energy"`
	// Within is how far Charge may be off, A·s: the half-width of a rectangle.
	Within float64 `json:"within"`
}

// Record is what a run left behind, as far as figures need it.
type Record struct {
	Points []Point
	Stages []Span
	// Ratings of the nameplate, by name.
	Ratings map[string]quantity.Quantity
	// Specs are the accuracies of what was measured, by column; a column without one has no stated accuracy.
	Specs map[string]uncertainty.Spec
	// Events are the marks of the run, in order.
	Events []Event
	// Breaks are the times in which nobody recorded, and what is known of them.
	Breaks []Break
	// Bridge is the longest gap inside a stage that is taken as a straight line, s; 0: the usual 10 s. On a bench
	// whose clock runs faster the same hiccup of the computer is a longer gap.
	Bridge float64
	// AtLeast is the longest interval that the record rule asks for, s; 0: frames are recorded at a fixed interval.
	AtLeast float64
	// Columns are those that Trace can give; nil: it is asked and may refuse.
	Columns []string
	// Series is the number of cells in series of a battery; 0: not stated.
	Series int
	// Trace gives one column between two times, at full resolution.
	Trace func(column string, t0, t1 float64) (trace.Series, error)
}

// Request asks for one figure.
type Request struct {
	ID string `json:"id"`
	// At holds the setpoints, SI, that say where: {"source.volts": 48}.
	At map[string]float64 `json:"at,omitempty"`
	// Output and Input name the seats on the unit's two sides.
	Output string `json:"output,omitempty"`
	Input  string `json:"input,omitempty"`
	// Reference is what a regulation refers to: "nominal" (default), or "rated".
	Reference string `json:"reference,omitempty"`
	// Stage names the stage in whose window the figure is taken, where it needs one.
	Stage string `json:"stage,omitempty"`
	// Row and Against name rows of acquire and seek, and Quantity a column of them.
	Row      string `json:"row,omitempty"`
	Against  string `json:"against,omitempty"`
	Quantity string `json:"quantity,omitempty"`
	// Pass chooses one of several times that a stage ran, from 1; 0: the last.
	Pass int `json:"pass,omitempty"`
	// Args are the numbers that the definition names, SI, and Choices its words; what is not given has the
	// definition's default.
	Args    map[string]float64 `json:"args,omitempty"`
	Choices map[string]string  `json:"choices,omitempty"`
	// Of lists columns, for figures of several.
	Of []string `json:"of,omitempty"`
}

// Result is a figure, in the unit of its definition.
type Result struct {
	Request
	Unit  string  `json:"unit"`
	Value float64 `json:"value"`
	// U is the expanded uncertainty for 95 % and K its coverage factor. Both are 0 when an accuracy is not stated.
	U       float64  `json:"u"`
	K       float64  `json:"k"`
	N       int      `json:"n"` // samples or points used
	Remarks []string `json:"remarks,omitempty"`
	// Text is the answer of a figure that is a word; Value is then the time of what it tells.
	Text string `json:"text,omitempty"`
	// Table holds what the figure is made of, or its curve.
	Table *Table `json:"table,omitempty"`
	// Undetermined says why there is no value; nil if there is one.
	Undetermined *Undetermined `json:"undetermined,omitempty"`
}

// Table is rows of numbers and words. A cell is a float64, a string, or nil for what is missing.
type Table struct {
	Columns []TableColumn `json:"columns"`
	Rows    [][]any       `json:"rows"`
}

// TableColumn is a column of a table with its unit.
type TableColumn struct {
	Name string `json:"name"`
	Unit string `json:"unit,omitempty"`
}

// Undetermined is the reason why a figure has no value.
type Undetermined struct {
	Code     string `json:"code"`
	Sentence string `json:"sentence"`
	// Known is what can be said all the same; often empty.
	Known string `json:"known,omitempty"`
}

func (u *Undetermined) Error() string { return u.Code + ": " + u.Sentence }

// The codes that this package uses.
const (
	NoData          = "no-data"
	TooFew          = "too-few"
	IsMissing       = "missing"
	Gap             = "gap"
	TimeOrder       = "time-order"
	NoPoint         = "no-point"
	NoMark          = "no-mark"
	NoRating        = "no-rating"
	NotSettled      = "not-settled"
	ZeroDivisor     = "zero-divisor"
	BelowFloor      = "below-floor"
	Limited         = "limited"
	WrongConditions = "wrong-conditions"
	Implausible     = "implausible"
	Ambiguous       = "ambiguous"
	NotReached      = "not-reached"
	AlreadyBeyond   = "already-beyond" // past the level at the start
	WrongSign       = "wrong-sign"
	NotFound        = "not-found"
)

func undetermined(code, format string, args ...any) *Undetermined {
	return &Undetermined{Code: code, Sentence: fmt.Sprintf(format, args...)}
}

// Definition is what a figure is.
type Definition struct {
	// Unit is empty for a figure in the unit of the quantity that is asked for.
	ID, Title, Unit string
	// Least and Most bound what the figure can be, for the check of limits.
	Least, Most float64
	// Points is true for figures computed from the points of a grid.
	Points bool
	// Row is true for figures computed from a row of an acquire or seek.
	Row bool
	// Half names what it needs a stage of: "charge", "discharge", "rest"; empty: none.
	Half string
	// Args are the numbers that can be given.
	Args []Arg
	// Choices are the words that can be given; the first of each is the default.
	Choices map[string][]string
	// Many is true for a figure of several columns, which of names.
	Many    bool
	compute func(*Record, Request) (Result, error)
}

// Arg is a number that a figure can be asked with, SI.
type Arg struct {
	Name    string
	Dim     quantity.Dimension
	Default float64
}

var definitions = byID(converterFigures, rowFigures, batteryFigures, resistanceFigures, curveFigures, chargerFigures,
	shareFigures)

func byID(families ...[]Definition) map[string]Definition {
	m := map[string]Definition{}
	for _, d := range slices.Concat(families...) {
		m[d.ID] = d
	}
	return m
}

// Lookup finds the definition of a figure.
func Lookup(id string) (Definition, bool) {
	d, ok := definitions[id]
	return d, ok
}

// IDs lists all figures.
func IDs() []string { return slices.Sorted(maps.Keys(definitions)) }

// Compute computes one figure.
func Compute(rec *Record, req Request) Result {
	d, ok := Lookup(req.ID)
	if !ok {
		return Result{Request: req, Undetermined: undetermined(NoData, "there is no figure %q", req.ID)}
	}
	for _, a := range d.Args {
		if _, given := req.Args[a.Name]; !given && !math.IsNaN(a.Default) {
			req.Args = with(req.Args, a.Name, a.Default)
		}
	}
	for name, words := range d.Choices {
		if req.Choices[name] == "" {
			req.Choices = with(req.Choices, name, words[0])
		}
	}
	req.Output, req.Input = orElse(req.Output, "load"), orElse(req.Input, "source")
	result, err := d.compute(rec, req)
	if req.At == nil {
		req.At = result.At // the place that the nameplate gave
	}
	result.Request, result.Unit = req, d.Unit
	if d.Unit == "" {
		result.Unit = trace.UnitOf(req.Quantity).Symbol
	}
	if err != nil {
		u, ok := err.(*Undetermined)
		if !ok {
			u = undetermined(NoData, "%s", err)
		}
		result.Undetermined = u
		result.Value, result.U, result.K = 0, 0, 0
		return result
	}
	if math.IsNaN(result.Value) || math.IsInf(result.Value, 0) {
		result.Undetermined = undetermined(IsMissing, "a reading that is needed is missing")
		result.Value, result.U, result.K = 0, 0, 0
	}
	return result
}

// with sets an entry of a copy of a map.
func with[V any](m map[string]V, key string, value V) map[string]V {
	next := maps.Clone(m)
	if next == nil {
		next = map[string]V{}
	}
	next[key] = value
	return next
}

func orElse(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// Where words the place of a request: "source.volts 48 V, load.amps 8 A", or its row.
func (r Request) Where() string {
	var parts []string
	if r.Row != "" {
		parts = append(parts, r.Row)
	}
	if r.Quantity != "" {
		parts = append(parts, r.Quantity)
	}
	for _, column := range slices.Sorted(maps.Keys(r.At)) {
		parts = append(parts, column+" "+quantity.Quantity{Value: r.At[column], Dim: trace.UnitOf(column).Dim}.String())
	}
	slices.Reverse(parts)
	return strings.Join(parts, ", ")
}

// at tells whether a point lies at the given setpoints.
func (p Point) at(place map[string]float64) bool {
	for column, want := range place {
		have, ok := p.Place[column]
		if !ok || math.Abs(have-want) > PlaceTolerance*max(math.Abs(want), math.Abs(have)) {
			return false
		}
	}
	return true
}

// pointsAt is the points at a place, ordered by the given column's measured mean.
func (rec *Record) pointsAt(place map[string]float64, along string) []Point {
	var points []Point
	for _, p := range rec.Points {
		if p.Row == "" && p.at(place) {
			points = append(points, p)
		}
	}
	if along != "" {
		sort.SliceStable(points,
			func(i, j int) bool { return points[i].Averages[along].Mean < points[j].Averages[along].Mean })
	}
	return points
}

// mean is the settled average of a column at a point, or why there is none.
func (p Point) mean(column string) (float64, error) {
	a, ok := p.Averages[column]
	switch {
	case !ok || a.N == 0:
		return 0, undetermined(IsMissing, "%s was not read at %s", column, p.words())
	case a.N < 3:
		return 0, undetermined(TooFew, "%s has %d readings at %s; three are needed, so average longer or read faster", column,
			a.N, p.words())
	}
	return a.Mean, nil
}

func (p Point) words() string { return Request{At: p.Place}.Where() }

// driftShare is the drift over the averaging window, relative to the mean, above which a point is not settled.
const driftShare = 0.001

// settled reports a point that still drifts in its window by more than 0.1 % or the channel's accuracy.
func (rec *Record) settled(p Point, columns ...string) error {
	for _, column := range columns {
		a := p.Averages[column]
		tolerance := driftShare * math.Abs(a.Mean)
		if r, ok := rec.Specs[column].Find(a.Mean); ok {
			tolerance = max(tolerance, r.Bound(a.Mean))
		}
		if math.Abs(a.Drift) > tolerance {
			return undetermined(NotSettled, "%s still drifts at %s; settle longer", column, p.words())
		}
	}
	return nil
}

// unlimited reports a point at which the bench, not the unit, set the value.
func unlimited(p Point, seat string) error {
	if a, ok := p.Averages[seat+".limited"]; ok && a.N > 0 && a.Mean > 0 {
		return undetermined(Limited, "%s was in its limit at %s, so the bench set the value; raise the limit", seat,
			p.words())
	}
	return nil
}

// reading makes the input of an uncertainty from a column's average at a point.
func (rec *Record) reading(p Point, column string) (uncertainty.Reading, bool) {
	a := p.Averages[column]
	r, ok := rec.Specs[column].Find(a.Mean)
	return uncertainty.Reading{
		Value: a.Mean, Group: fmt.Sprintf("%s to %g", column, r.To), Gain: r.Reading, Offset: r.Offset,
		Noise: max(a.SE, uncertainty.Resolution(r.Resolution)), N: a.N,
	}, ok
}

// NotStated is the remark of a figure that has no uncertainty, since an accuracy is not stated.
const NotStated = "accuracy not stated"

// withUncertainty adds U by propagation, or the remark that an accuracy is not stated.
func (r *Result) withUncertainty(f func([]float64) float64, readings []uncertainty.Reading, stated bool) {
	if !stated {
		r.Remarks = append(r.Remarks, NotStated)
		return
	}
	e := uncertainty.Propagate(f, readings)
	r.U, r.K = e.U, e.K
}
