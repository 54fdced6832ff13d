package figure

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Result is a figure, in the unit of its definition or in the one that is asked for.
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
	// Spots are where the figure lies in pictures of the run.
	Spots []Spot `json:"spots,omitempty"`
	// Drawing shows what the figure was computed from; nil: there is nothing more to it than its points.
	Drawing *Drawing `json:"drawing,omitempty"`
	// Undetermined says why there is no value; nil if there is one.
	Undetermined *record.Undetermined `json:"undetermined,omitempty"`
	// Permitted is how large U may be for a limit to be judged; 0: as large as it is.
	Permitted float64 `json:"-"`
}

// number is a number in JSON that may not be known: then it is null, and never 0.
func number(x float64, known bool) *float64 {
	if !known {
		return nil
	}
	return &x
}

// MarshalJSON implements json.Marshaler: what is undetermined has no value, and what has no stated accuracy no U.
func (r Result) MarshalJSON() ([]byte, error) {
	type plain Result
	stated := r.Undetermined == nil && !slices.Contains(r.Remarks, NotStated)
	return json.Marshal(struct {
		plain
		Value *float64 `json:"value"`
		U     *float64 `json:"u"`
		K     *float64 `json:"k"`
	}{plain(r), number(r.Value, r.Undetermined == nil), number(r.U, stated), number(r.K, stated)})
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

// Spot is a place in the picture of one column over another, in the units of these, with the words to write beside it.
type Spot struct {
	By    string  `json:"by"`
	Of    string  `json:"of"`
	X     float64 `json:"x"`
	Y     float64 `json:"y"`
	Label string  `json:"label,omitempty"`
}

// Drawing is a picture of lines of one column over another, in the units of these.
type Drawing struct {
	Title string `json:"title"`
	By    string `json:"by"`
	Of    string `json:"of"`
	Lines []Line `json:"lines"`
}

// Line is one line of a drawing; with dots each place was measured for itself.
type Line struct {
	Label string    `json:"label"`
	Dots  bool      `json:"dots,omitempty"`
	X     []float64 `json:"x"`
	Y     []float64 `json:"y"`
}

// The remarks that every figure may carry: that it has no uncertainty, since an accuracy is not stated, and that
// its 0 is one that was measured, and that readings were corrected for the leads of an instrument.
const (
	NotStated = "accuracy not stated"
	Corrected = "corrected for leads"
	TrueZero  = "a true 0"
)

// Of is a result from what was measured.
func Of(m record.Measured, value float64) Result {
	r := Result{Value: value, N: m.Len()}
	if m.Bridged {
		r.Remarks = append(r.Remarks, "bridged")
	}
	return r
}

// KnownFrom adds U from readings that are means.
func (r *Result) KnownFrom(f func(x []float64) float64, means ...record.Measured) {
	stated := true
	var inputs []uncertainty.Reading
	for _, m := range means {
		inputs, stated = append(inputs, m.Mean), stated && m.Stated
	}
	r.WithUncertainty(f, inputs, stated)
}

// Found is the level that a seek found: the midpoint of the last step at which its condition did not hold and the first
// at which it did, with half a step as a rectangle beside the accuracy of the reading.
func Found(rec *record.Record, b record.Bracket, column string) Result {
	factor := trace.UnitOf(column).Factor
	r := Result{Value: b.Middle() / factor, N: 2}
	if b.GaveWay {
		r.Remarks = append(r.Remarks, "the unit gave way: the set level counts, corrected by what was measured before")
	}
	if b.Point.Recovery != "" {
		r.Remarks = append(r.Remarks, b.Point.Recovery)
	}
	readings, stated := b.Readings(rec, column)
	r.WithUncertainty(func(xs []float64) float64 { return (xs[0] + xs[1]) / factor }, readings, stated)
	return r
}

// WithUncertainty adds U by propagation, or the remark that an accuracy is not stated.
func (r *Result) WithUncertainty(f func([]float64) float64, readings []uncertainty.Reading, stated bool) {
	if !stated {
		r.Remarks = append(r.Remarks, NotStated)
		return
	}
	e := uncertainty.Propagate(f, readings)
	r.U, r.K = e.U, e.K
	if slices.ContainsFunc(readings, func(x uncertainty.Reading) bool { return x.Leads.Ohms > 0 }) {
		r.Remarks = record.AddRemark(r.Remarks, Corrected)
	}
}

// KnownBy adds U from the windows that an account has, or the remark that an accuracy is not stated.
func (r *Result) KnownBy(l *record.Ledger, f func(charge, energy []float64) float64) {
	e, stated := l.Expand(f)
	if !stated {
		r.Remarks = record.AddRemark(r.Remarks, NotStated)
		return
	}
	r.U, r.K = e.U, e.K
	if l.Corrected() {
		r.Remarks = record.AddRemark(r.Remarks, Corrected)
	}
	if share := l.GapShare(f, e.U); share > 0 {
		r.Remarks = record.AddRemark(r.Remarks, fmt.Sprintf("%s %% of U² is from gaps", quantity.Digits(100*share, 2)))
	}
}

// in tells the result in the unit that is asked for.
func (r Result) in(scale float64) Result {
	if r.In == "" {
		return r
	}
	r.Unit, r.Value, r.U = r.In, r.Value*scale, r.U*scale
	if r.Undetermined != nil {
		why := *r.Undetermined
		for _, bound := range []**float64{&why.AtLeast, &why.AtMost} {
			if *bound != nil {
				x := **bound * scale
				*bound = &x
			}
		}
		r.Undetermined = &why
	}
	return r
}

func finite(x float64) bool { return !math.IsNaN(x) && !math.IsInf(x, 0) }

// tidy takes out of table and remarks what is no number: a cell that is not known is empty.
func (r *Result) tidy() {
	r.Remarks = slices.DeleteFunc(slices.Clone(r.Remarks), notANumber.MatchString)
	if r.Drawing != nil && slices.ContainsFunc(r.Drawing.Lines, func(l Line) bool {
		return slices.ContainsFunc(append(slices.Clone(l.X), l.Y...), func(x float64) bool { return !finite(x) })
	}) {
		r.Drawing = nil
	}
	r.Spots = slices.DeleteFunc(r.Spots, func(s Spot) bool { return !finite(s.X) || !finite(s.Y) })
	if r.Table == nil {
		return
	}
	for _, row := range r.Table.Rows {
		for i, cell := range row {
			if x, ok := cell.(float64); ok && !finite(x) {
				row[i] = nil
			}
		}
	}
}

// notANumber finds what a number that is none looks like in words.
var notANumber = regexp.MustCompile(`\b(NaN|Inf)\b`)

func (r Result) because(why *record.Undetermined) Result {
	for _, bound := range []**float64{&why.AtLeast, &why.AtMost} {
		if *bound != nil && !finite(**bound) {
			*bound = nil
		}
	}
	if notANumber.MatchString(why.Known) {
		why.Known = ""
	}
	r.Undetermined = why
	r.Value, r.U, r.K = 0, 0, 0
	return r
}
