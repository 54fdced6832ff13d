package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// Foretold is a rehearsal together with rehearsals of other healthy units, which say within what such units lie.
type Foretold struct {
	*Result
	Others  []*Result
	anchors map[*Result][]record.Span
}

// thin keeps at most so many frames, evenly chosen.
func (r *Result) thin(most int) {
	stride := (len(r.T) + most - 1) / most
	if stride < 2 {
		return
	}
	every := func(xs []float64) []float64 {
		kept := make([]float64, 0, most)
		for k := 0; k < len(xs); k += stride {
			kept = append(kept, xs[k])
		}
		return kept
	}
	r.T = every(r.T)
	for i := range r.Values {
		r.Values[i] = every(r.Values[i])
	}
}

// ErrTooLong is returned for a procedure that takes too long to be rehearsed on many units.
var ErrTooLong = errors.New("the procedure takes too long to be rehearsed on many units")

// foretoldFrames bounds each rehearsal of a comparison, and comparedFrames what is kept of it: more than a
// picture shows.
const (
	foretoldFrames = 400_000
	comparedFrames = 4000
)

// others are the made-up units that show the spread.
var others = []string{"spread-1", "spread-2", "spread-3", "spread-4", "spread-5"}

// Foretell rehearses a program on the nominal unit and on others. Of a fault nothing is foretold: the units are
// healthy.
func Foretell(ctx context.Context, program *procedure.Program, plate *nameplate.Nameplate,
	o Options) (*Foretold, error) {
	o.Fault, o.MostFrames = "", foretoldFrames
	f := &Foretold{anchors: map[*Result][]record.Span{}}
	for _, serial := range append([]string{""}, others...) {
		o.Serial = serial
		r, err := Run(ctx, program, plate, o)
		switch {
		case err != nil:
			return nil, err
		case r.Reason == tooLong:
			return nil, ErrTooLong
		}
		r.thin(comparedFrames)
		f.anchors[r] = Anchors(r.Marks, r.Duration)
		if f.Result == nil {
			f.Result = r
		} else {
			f.Others = append(f.Others, r)
		}
	}
	return f, nil
}

// units are all rehearsed units.
func (f *Foretold) units() []*Result { return append([]*Result{f.Result}, f.Others...) }

// Band is a range.
type Band struct{ Low, High float64 }

func (b *Band) add(x float64) {
	b.Low, b.High = math.Min(b.Low, x), math.Max(b.High, x)
}

// Spread is the range of a figure over the rehearsed units; ok is false if it is undetermined in one of them.
func (f *Foretold) Spread(i int) (band Band, ok bool) {
	band = Band{math.Inf(1), math.Inf(-1)}
	for _, r := range f.units() {
		if i >= len(r.Figures) || r.Figures[i].Undetermined != nil {
			return band, false
		}
		band.add(r.Figures[i].Value)
	}
	return band, true
}

// Trace is what a run recorded of a column, in buckets: the lowest and highest value of each, and its time.
type Trace struct {
	Column string
	T      []float64
	Low    []float64
	High   []float64
}

// Actual is what really happened in a run.
type Actual struct {
	Spans    []record.Span
	Marks    []record.Mark
	Duration float64
	Ending   stage.Ending // empty while it goes on
	// TimeFactor is how many times as fast the clock of its bench ran; 0: as fast as any. What instruments take of the
	// time takes so much more of the bench's.
	TimeFactor float64
	Traces     []Trace
	Figures    []procedure.Judged
	// Accuracy is how far a reading may be off by its instrument's specification, SI.
	Accuracy func(column string, x float64) float64
}

// Deviation is where a run left what was foretold.
type Deviation struct {
	// What is "trace", "stage", "figure" or "end".
	What   string
	Column string
	T0, T1 float64 // s since the start of the run; 0 for figures
	Words  string
}

// Anchors are the stretches by which a run and its rehearsal are laid over one another: they begin where stages
// begin, and where points and passes of loops end.
func Anchors(marks []record.Mark, end float64) []record.Span {
	var all []record.Span
	for _, m := range marks {
		switch m.Kind {
		case record.MarkStage, record.MarkPointDone, record.MarkLoop:
			if n := len(all); n > 0 {
				all[n-1].T1 = m.T
			}
			all = append(all, record.Span{Name: m.Label, T0: m.T, T1: math.Max(end, m.T)})
		}
	}
	return all
}

// Aligned maps a time of the run to the time of a rehearsal at which the same was due: by stages, and within a
// stage that both have finished in proportion. ok is false where the two went different ways.
func Aligned(run, rehearsed []record.Span, t float64) (at float64, ok bool) {
	i := sort.Search(len(run), func(k int) bool { return run[k].T0 > t }) - 1
	if i < 0 || i >= len(rehearsed) || run[i].Name != rehearsed[i].Name {
		return 0, false
	}
	a, b := run[i], rehearsed[i]
	past := t - a.T0
	if length := a.T1 - a.T0; i+1 < len(run) && length > 0 {
		past *= (b.T1 - b.T0) / length
	}
	return b.T0 + past, past <= b.T1-b.T0+1e-9
}

// Onto maps a time of a rehearsal to the time of the run, past and future. What has not begun follows the stage
// that is under way, which lasts as long as foretold, and at least until now.
func Onto(run, rehearsed []record.Span, t, now float64) float64 {
	i := sort.Search(len(rehearsed), func(k int) bool { return rehearsed[k].T0 > t }) - 1
	if i < 0 || len(run) == 0 {
		return t
	}
	k := min(i, len(run)-1)
	if run[k].Name != rehearsed[k].Name {
		return t
	}
	a, b := run[k], rehearsed[k]
	switch past := t - b.T0; {
	case i > k:
		return math.Max(a.T0+b.T1-b.T0, now) + t - b.T1
	case k+1 < len(run) && b.T1 > b.T0:
		return a.T0 + past*(a.T1-a.T0)/(b.T1-b.T0)
	default:
		return a.T0 + past
	}
}

// tolerances of a trace beyond the spread of units and the accuracy of the bench: shares of the value and of
// the largest that occurs, and how far an edge may be away in time, at least and as a share of the run.
const (
	valueShare  = 0.002
	heightShare = 0.001 // of the largest value that occurs
	timeSlack   = 0.12
	timeShare   = 0.002
)

// Deviations compares a run with what was foretold.
func (f *Foretold) Deviations(run Actual) []Deviation {
	var all []Deviation
	anchors := Anchors(run.Marks, run.Duration)
	for _, t := range run.Traces {
		kind, _ := quantity.KindOfColumn(t.Column)
		if kind.Compared && f.Columns.Index(t.Column) >= 0 {
			all = append(all, f.traceDeviations(run, anchors, t)...)
		}
	}
	all = append(all, f.stageDeviations(run)...)
	all = append(all, f.figureDeviations(run)...)
	if run.Ending != "" && run.Ending != f.Ending {
		all = append(all, Deviation{What: "end", T0: run.Duration, T1: run.Duration,
			Words: fmt.Sprintf("the run ended as %s, the rehearsal as %s", run.Ending, f.Ending)})
	}
	slices.SortStableFunc(all, func(a, b Deviation) int {
		switch {
		case a.T0 < b.T0:
			return -1
		case a.T0 > b.T0:
			return 1
		}
		return 0
	})
	return all
}

// traceDeviations are stretches of at least two buckets that lie wholly outside what healthy units do.
func (f *Foretold) traceDeviations(run Actual, anchors []record.Span, t Trace) (all []Deviation) {
	slack := math.Max(math.Max(timeSlack, timeShare*run.Duration), 2.5*median(t.T))
	unit := trace.UnitOf(t.Column)
	var largest float64
	for _, x := range f.Column(t.Column).X {
		largest = math.Max(largest, math.Abs(x))
	}
	var began, count, worst int // of the present stretch: its first bucket, how many, and the farthest
	var far float64
	end := func(next int) {
		if count >= 2 && t.T[next-1]-t.T[began] >= slack/2 {
			want, _ := f.expected(anchors, t.Column, t.T[worst], 0)
			all = append(all, Deviation{What: "trace", Column: t.Column, T0: t.T[began], T1: t.T[next-1],
				Words: fmt.Sprintf("%s is %s, foretold were %s", t.Column,
					show((t.Low[worst]+t.High[worst])/2, unit.Dim), words(want, unit.Dim))})
		}
		count, far = 0, 0
	}
	for k := range t.T {
		band, ok := f.expected(anchors, t.Column, t.T[k], slack)
		if !ok || math.IsNaN(t.Low[k]) {
			continue
		}
		middle := (t.Low[k] + t.High[k]) / 2
		tolerance := math.Max(valueShare*math.Max(math.Abs(band.Low), math.Abs(band.High)), heightShare*largest) +
			run.accuracy(t.Column, middle)
		distance := math.Max(t.Low[k]-band.High, band.Low-t.High[k])
		if distance <= tolerance {
			end(k)
			continue
		}
		if count == 0 {
			began = k
		}
		count++
		if distance > far {
			far, worst = distance, k
		}
	}
	end(len(t.T))
	return all
}

// median is the median interval between times.
func median(t []float64) float64 {
	if len(t) < 2 {
		return 0
	}
	steps := make([]float64, len(t)-1)
	for i := range steps {
		steps[i] = t[i+1] - t[i]
	}
	slices.Sort(steps)
	return steps[len(steps)/2]
}

func (a Actual) accuracy(column string, x float64) float64 {
	if a.Accuracy == nil {
		return 0
	}
	return a.Accuracy(column, x)
}

// expected is the range of a column over the units and over the slack around a time of the run, with half of
// the spread of the units on both sides: so few units do not show the whole of it.
func (f *Foretold) expected(anchors []record.Span, column string, t, slack float64) (Band, bool) {
	band, middles := Band{math.Inf(1), math.Inf(-1)}, Band{math.Inf(1), math.Inf(-1)}
	for _, r := range f.units() {
		at, ok := Aligned(anchors, f.anchors[r], t)
		if !ok {
			return band, false
		}
		own := around(r.Column(column), at, slack)
		if own.Low > own.High {
			return band, false
		}
		band.add(own.Low)
		band.add(own.High)
		middles.add((own.Low + own.High) / 2)
	}
	margin := (middles.High - middles.Low) / 2
	return Band{band.Low - margin, band.High + margin}, true
}

// around is the range of a series within the slack around a time. Between two frames it may have gone on for
// half of a step.
func around(s trace.Series, at, slack float64) Band {
	band := Band{math.Inf(1), math.Inf(-1)}
	i, j := sort.SearchFloat64s(s.T, at-slack), sort.SearchFloat64s(s.T, at+slack)
	for k := max(i-1, 0); k <= min(j, len(s.T)-1); k++ {
		band.add(s.X[k])
		if k > 0 && slack > 0 {
			step := math.Abs(s.X[k]-s.X[k-1]) / 2
			band.add(s.X[k] - step)
			band.add(s.X[k] + step)
		}
	}
	return band
}

// What a stage may take longer or shorter than foretold, s of the bench's time, and s of everybody's for what
// instruments take to be set, armed and read, of which a rehearsal knows nothing.
const (
	stageSlack   = 0.75
	answersSlack = 0.25
)

// stageDeviations are stages that took much longer or shorter than foretold. What waits for people is left out.
func (f *Foretold) stageDeviations(run Actual) (all []Deviation) {
	for i, s := range run.Spans {
		if i >= len(f.Spans) || s.Name != f.Spans[i].Name {
			return append(all, Deviation{What: "stage", T0: s.T0, T1: s.T1,
				Words: fmt.Sprintf("the run went on with %q, the rehearsal did not", s.Name)})
		}
		if s.Kind == "ask" || s.Kind == "watch" || i+1 >= len(run.Spans) && run.Ending == "" {
			continue
		}
		band := Band{math.Inf(1), math.Inf(-1)}
		for _, r := range f.units() {
			if i < len(r.Spans) {
				band.add(r.Spans[i].T1 - r.Spans[i].T0)
			}
		}
		took := s.T1 - s.T0
		slack := stageSlack + answersSlack*math.Max(run.TimeFactor, 1) + 0.1*band.High
		if took < band.Low-slack || took > band.High+slack {
			all = append(all, Deviation{What: "stage", T0: s.T0, T1: s.T1, Words: fmt.Sprintf("%q took %s, foretold were %s",
				s.Name, show(took, quantity.Time),
				words(band, quantity.Time))})
		}
	}
	return all
}

// figureDeviations are figures outside what healthy units give, with the uncertainty of the measurement and
// half the spread as margin. Figures of what stands around the unit are not foretold.
func (f *Foretold) figureDeviations(run Actual) (all []Deviation) {
	known := catalogue.Figures()
	for i, j := range run.Figures {
		if known[j.ID].OfGear {
			continue
		}
		band, ok := f.Spread(i)
		if !ok || j.Undetermined != nil || i >= len(f.Figures) || f.Figures[i].ID != j.ID {
			continue
		}
		margin := j.U + 0.5*(band.High-band.Low) + 1e-6*math.Abs(band.High)
		if j.Value < band.Low-margin || j.Value > band.High+margin {
			all = append(all,
				Deviation{What: "figure",
					Words: strings.TrimSpace(quantity.Sprintf("%s %s is %.4g %s, healthy units give %.4g to %.4g %s", j.ID, j.Where,
						j.Value, j.Unit,
						band.Low, band.High, j.Unit))})
		}
	}
	return all
}

func show(x float64, dim quantity.Dimension) string {
	return quantity.Quantity{Value: x, Dim: dim}.Format(4)
}

func words(b Band, dim quantity.Dimension) string {
	low, high := show(b.Low, dim), show(b.High, dim)
	if low == high {
		return low
	}
	return low + " to " + high
}
