// Package record holds what a run left behind, as figures see it: points and rows, stages with their half-cycles,
// marks, traces and their gaps. A figure asks here for what it needs and never looks into the columns by itself,
// so that a rule about gaps, ends or signs stands in one place.
//
// All values are in SI; times count in seconds from the start of the run.
package record

import (
	"slices"
	"sort"

	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/core/waveform"
)

// AmpHour and WattHour are 1 Ah in A·s and 1 Wh in W·s.
const AmpHour, WattHour = 3600.0, 3600.0

// Record is what a run left behind, as far as figures need it. It does not change any more: what was read or taken of
// it is remembered.
type Record struct {
	Points []Point
	Stages []Span
	// Marks of the run, in order.
	Marks []Mark
	// Breaks are the times in which nobody recorded, and what is known of them.
	Breaks []Break
	// Ratings of the nameplate, by name.
	Ratings map[string]quantity.Quantity
	// Series is the number of cells in series of a battery; 0: not stated.
	Series int
	// Specs are the accuracies of what was measured, by column; a column without one has no stated accuracy.
	Specs map[string]uncertainty.Spec
	// Exact is true where the readings are the truth, as of a model.
	Exact bool
	// Bridge is the longest gap inside a stage that is taken as a straight line, s; 0: the usual 10 s. On a bench
	// whose clock runs faster the same hiccup of the computer is a longer gap.
	Bridge float64
	// AtLeast is the longest interval between frames that is allowed in every stage, s; 0: that of each stage counts.
	AtLeast float64
	// Columns are those that Trace can give; nil: it is asked and may refuse.
	Columns []string
	// Trace gives one column between two times, at full resolution.
	Trace func(column string, t0, t1 float64) (trace.Series, error)
	// Captures were taken in this order; Samples reads a channel of one.
	Captures []Capture
	Samples  func(c Capture, channel string) (*waveform.Waveform, error)

	terminals []remembered
	taken     []taken
	away      []away
}

// Span is the time that a stage took. Two spans are the same when they began at the same time: several stages may
// have one name, and one stage may happen many times.
type Span struct {
	Name, Kind string
	T0, T1     float64
	// AtLeast is the longest interval between frames that the record rule of the stage allows, s; 0: not known.
	AtLeast float64
}

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

// Ends are the first and the last instant of the stages.
func (rec *Record) Ends() (t0, t1 float64) {
	for k, s := range rec.Stages {
		if k == 0 {
			t0 = s.T0
		}
		t0, t1 = min(t0, s.T0), max(t1, s.T1)
	}
	return t0, t1
}

// Has tells whether the run has a column.
func (rec *Record) Has(column string) bool {
	return rec.Columns == nil || slices.Contains(rec.Columns, column)
}

// MarksIn gives the marks within a stage, its ends included.
func (rec *Record) MarksIn(s Span) []Mark {
	i := sort.Search(len(rec.Marks), func(k int) bool { return rec.Marks[k].T >= s.T0 })
	j := sort.Search(len(rec.Marks), func(k int) bool { return rec.Marks[k].T > s.T1 })
	return rec.Marks[i:max(i, j)]
}

// SpansOf are the stages that happened, from the marks of their beginnings and ends. What has no end lasts to the
// end of the run.
func SpansOf(marks []Mark, end float64) []Span {
	var all []Span
	for _, m := range marks {
		switch m.Kind {
		case MarkStage:
			began, _ := m.About.(Began)
			all = append(all, Span{Name: m.Label, Kind: began.Stage, T0: m.T, T1: max(end, m.T)})
		case MarkStageEnd:
			if len(all) > 0 {
				all[len(all)-1].T1 = m.T
			}
		}
	}
	return all
}
