// Package rehearsal runs a program on the nameplate's model of the unit, in as little time as the computation
// takes, and touches no instrument. The same stage machine runs that runs the real bench; frames come as often
// as what goes on asks for.
package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/simbench/plant"
	"usherbench/simbench/units"
)

// Options of a rehearsal.
type Options struct {
	// Serial draws the tolerances of the unit; empty: nominal values.
	Serial string
	// Unit stands in place of the nameplate's model; nil: the model.
	Unit plant.Unit
	// Fault of the unit; empty: healthy.
	Fault string
	// State of charge at which a battery begins, 0 … 1; 0: plant.HalfFull.
	State float64
	// MostFrames bounds the computation; 0: mostFrames. What goes on for longer is ended as aborted.
	MostFrames int
	// Specs are the accuracies of the bay, by column, for the uncertainties of figures; nil: none are stated.
	Specs map[string]uncertainty.Spec
}

// Result is what a rehearsal foretells.
type Result struct {
	Columns  trace.Columns
	T        []float64
	Values   [][]float64 // by column, SI
	Marks    []record.Mark
	Points   []record.Point
	Captures []record.Capture
	Ending   stage.Ending
	Reason   string
	Duration float64 // s
	// Energy that the sources gave and Heat that stayed in the unit, W·s; Hottest in °C.
	Energy, Heat, Hottest float64
	Figures               []procedure.Judged
	Spans                 []record.Span
}

// Model is the plant that stands for the units of a nameplate.
func Model(plate *nameplate.Nameplate) (units.Model, error) {
	if plate == nil {
		return units.Model{},
			errors.New("the procedure is for any unit; a rehearsal needs a nameplate, whose unit it can model")
	}
	return units.Model{Name: plate.Plant, Kind: plate.Kind, Chemistry: plate.Chemistry.Name, Series: plate.Series,
		Rating: func(name string) (float64, bool) {
			q, ok := plate.Ratings[name]
			return q.Value, ok
		}}, nil
}

// mostFrames and longest bound a rehearsal: what goes on for longer is ended, and says so.
const (
	mostFrames = 2_000_000
	longest    = 400 * 86400.0 // s
	// mostKept is how many frames are kept for curves and figures; of a longer rehearsal every second one is
	// dropped, again and again.
	mostKept = 200_000
	// mostMarks is how many marks, and with them stages, a rehearsal has at most: loops within loops make thousands of
	// millions of them.
	mostMarks = 50_000
	// looksEvery is after how many steps it is seen whether somebody still wants to know.
	looksEvery = 256
)

// tooLong is why a rehearsal is ended.
const tooLong = "the rehearsal was ended, since the procedure goes on and on"

// Run rehearses a program, unless the context ends before. The program is not changed.
func Run(ctx context.Context, program *procedure.Program, plate *nameplate.Nameplate, o Options) (*Result, error) {
	if o.State == 0 {
		o.State = plant.HalfFull
	}
	if o.MostFrames == 0 {
		o.MostFrames = mostFrames
	}
	unit := o.Unit
	if unit == nil {
		model, err := Model(plate)
		if err != nil {
			return nil, err
		}
		if unit, err = model.New(o.Serial, plant.Fault(o.Fault), o.State); err != nil {
			return nil, err
		}
	}
	program = paced(program)
	machine, err := stage.New(program)
	if err != nil {
		return nil, err
	}
	r := &rehearsal{stride: 1, program: program, plate: plate, options: o, machine: machine,
		bench:  newBench(program, unit),
		result: &Result{Columns: program.Columns, Values: make([][]float64, len(program.Columns))}}
	var names []string
	for _, s := range program.Seats {
		names = append(names, s.Name)
	}
	r.counters = trace.NewCounters(program.Columns, names)
	for _, s := range program.Seats {
		if s.Kind.Is(seats.Measures) { // of alternating current volts times amps are no watts
			r.counters.Measured(s.Name)
		}
		if r.bench.counts(r.bench.seats[s.Name]) {
			r.counters.Totalled(s.Name + ".charge")
		}
	}
	if err := r.run(ctx); err != nil {
		return nil, err
	}
	return r.conclude(), nil
}

// paced is the program with every shape paced by the service, as fast as the edges need and no faster than a drawing
// shows: the model has no instruments with programs of their own.
func paced(program *procedure.Program) *procedure.Program {
	p := *program
	p.Stages = slices.Clone(program.Stages)
	for i, s := range p.Stages {
		if play, ok := s.Action.(*kinds.Play); ok {
			p.Stages[i].Action = play.PacedFor(coarsest)
		}
	}
	return &p
}

type rehearsal struct {
	program  *procedure.Program
	plate    *nameplate.Nameplate
	options  Options
	machine  *stage.Machine
	bench    *bench
	counters *trace.Counters
	result   *Result
	now      float64
	stirred  float64 // when something was last set
	asked    *stage.Ask
	need     *stage.Need
	scan     *stage.Scan
	watch    *stage.WatchOpenings
	watched  float64 // since when
	enough   bool    // the rest is to be told
	heeds    bool    // it was told that the watch began
	scope    scope
	finished bool
	frames   int // so far
	stride   int // of those that are kept
}

func (r *rehearsal) run(ctx context.Context) error {
	r.act(r.machine.Start())
	last := 0.0 // when the last frame was
	for step := 0; !r.finished; step++ {
		if step >= r.options.MostFrames || r.now > longest || len(r.result.Marks) > mostMarks {
			r.act(r.machine.Advance(stage.Failed{T: r.now, Reason: tooLong}))
			return nil
		}
		if step%looksEvery == 0 && ctx.Err() != nil {
			return fmt.Errorf("the rehearsal was given up: %w", context.Cause(ctx))
		}
		next := math.Max(last+r.interval(last), r.now)
		if due := r.machine.DueAt(); due <= next {
			r.now = math.Max(due, r.now)
			r.bench.move(r.now)
			r.act(r.machine.Advance(stage.Due{T: r.now}))
			continue
		}
		r.now, last = next, next
		f := r.bench.frame(r.now)
		r.counters.Fill(f)
		r.machine.Derive(f)
		r.keep(f)
		r.act(r.machine.Advance(stage.Frame{Frame: f}))
		r.shoot()
		r.people()
	}
	return nil
}

// keep takes a frame into the result, every stride-th of a long rehearsal.
func (r *rehearsal) keep(f trace.Frame) {
	if r.frames++; r.frames%r.stride != 0 {
		return
	}
	if len(r.result.T) >= mostKept {
		r.result.thin(mostKept / 2)
		r.stride *= 2
	}
	r.result.T = append(r.result.T, f.T)
	for i, x := range f.Values {
		r.result.Values[i] = append(r.result.Values[i], x)
	}
}

// Frames come at least this often after something was set, and at most this seldom, s.
const (
	finest   = 20e-3
	coarsest = 1.0
)

// interval is the time to the next frame: short after something was set and where a stage measures, longer
// while nothing happens.
func (r *rehearsal) interval(last float64) float64 {
	dt := math.Min(math.Max((last-r.stirred)/10, finest), coarsest)
	most := coarsest
	if a, ok := r.program.Stages[r.machine.Stage()].Action.(procedure.Sampled); ok {
		most = math.Min(most, a.FramesEvery())
	}
	if pace := math.Max(r.machine.Pace(), finest); pace < dt {
		dt = pace
	}
	return math.Max(math.Min(dt, most), 1e-3)
}

// act carries out effects.
func (r *rehearsal) act(effects []stage.Effect) {
	for len(effects) > 0 {
		commanded := false
		for _, e := range effects {
			switch e := e.(type) {
			case stage.Command:
				commanded = true
				r.bench.move(r.now)
				r.bench.apply(e.Settings)
				if len(e.Settings) > 0 && !e.Paced {
					r.stirred = r.now
					r.counters.Split(r.now)
				}
			case stage.Scan:
				r.scan = &e
			case stage.WatchOpenings:
				r.watch, r.watched, r.enough, r.heeds = &e, r.now, false, false
			case stage.EndWatch:
				r.enough = true
			case stage.Afford: // the model's load bears everything
				r.act(r.machine.Advance(stage.Afforded{T: r.now}))
			case stage.Arm:
				r.scope.arm, r.scope.armed = &e, false
			case stage.Disarm:
				r.scope.arm = nil
			case stage.Taken:
				r.result.Captures = append(r.result.Captures, e.Capture)
				r.scope.kept = append(r.scope.kept, r.scope.caught)
			case stage.Dropped:
				r.result.Captures = slices.DeleteFunc(r.result.Captures,
					func(c record.Capture) bool { return c.Index == e.Index })
				r.scope.kept[e.Index] = nil
			case stage.Mark:
				r.mark(e.Mark)
			case stage.Point:
				r.result.Points = append(r.result.Points, e.Point)
			case stage.Ask:
				r.asked = &e
			case stage.Need:
				r.need = &e
			case stage.Replan:
				r.act(r.machine.Advance(stage.Failed{T: r.now, Reason: "the unit offers " + stage.OfferWords(e.Offer) +
					", which its nameplate does not state; a rehearsal is of what is stated"}))
				return
			case stage.Finish:
				r.result.Ending, r.result.Reason, r.finished = e.Ending, e.Reason, true
				r.result.Duration = r.now
				return
			}
		}
		if !commanded {
			return
		}
		effects = r.machine.Advance(stage.Applied{T: r.now})
	}
}

func (r *rehearsal) mark(m record.Mark) {
	r.result.Marks = append(r.result.Marks, m)
	spans := &r.result.Spans
	switch m.Kind {
	case record.MarkStage:
		began, _ := m.About.(record.Began)
		*spans = append(*spans, record.Span{Name: m.Label, Kind: began.Stage, T0: m.T, T1: m.T})
	case record.MarkStageEnd:
		if n := len(*spans); n > 0 {
			(*spans)[n-1].T1 = m.T
		}
	}
}

// watched is how long a stage that only a person ends is watched.
const watched = 60.0

// people do what a rehearsal has nobody for: prompts are answered at once, and what only a person ends is ended.
func (r *rehearsal) people() {
	if r.finished {
		return
	}
	if ask := r.asked; ask != nil {
		r.asked = nil
		r.act(r.machine.Advance(stage.Answered{T: r.now, By: "the rehearsal", Text: answer(ask.Prompt, r.options.Serial)}))
	}
	if w := r.watch; w != nil && !r.heeds {
		r.heeds = true
		r.act(r.machine.Advance(stage.Opened{T: r.now, Shot: w.Shot, Since: r.watched}))
	}
	if w := r.watch; w != nil && r.enough {
		r.watch = nil
		r.act(r.machine.Advance(r.bench.opened(r.now, r.watched, *w)))
	}
	if scan := r.scan; scan != nil {
		r.scan = nil
		r.act(r.machine.Advance(r.bench.scanned(r.now, *scan)))
	}
	if need := r.need; need != nil {
		r.need = nil
		r.act(r.machine.Advance(stage.Figured{T: r.now, Result: need.Compute(r.record())}))
	}
	s := r.program.Stages[r.machine.Stage()]
	if e, ok := s.Action.(procedure.Ending); ok && e.Ends().Open && s.Duration() == 0 && s.Until == "" {
		if n := len(r.result.Spans); n > 0 && r.now-r.result.Spans[n-1].T0 > watched {
			r.act(r.machine.Advance(stage.Skipped{T: r.now, By: "the rehearsal"}))
		}
	}
}

func answer(a stage.Prompt, serial string) string {
	switch a.Form {
	case stage.AskChoice:
		return a.Choice[0]
	case stage.AskNumber:
		switch {
		case a.Min != nil && a.Max != nil:
			return fmt.Sprint((*a.Min + *a.Max) / 2)
		case a.Min != nil:
			return fmt.Sprint(*a.Min)
		case a.Max != nil:
			return fmt.Sprint(*a.Max)
		}
		if unit, err := a.AnswerUnit(); err == nil && unit.Dim == quantity.Temperature {
			return fmt.Sprint(plant.Ambient)
		}
		return "1"
	case stage.AskSerial:
		if serial != "" {
			return serial
		}
	case stage.AskConfirm:
		return "yes"
	case stage.AskPicture:
		return "1"
	case stage.AskTake:
		if a.Take.Taken < a.Take.Least {
			return stage.TakeOne
		}
		return stage.TakeDone
	}
	return "rehearsed"
}

// record is what figures are computed from.
func (r *rehearsal) record() *record.Record {
	result := r.result
	rec := &record.Record{Exact: true, Points: result.Points, Marks: result.Marks, Stages: result.Spans,
		Specs:    r.options.Specs,
		Columns:  result.Columns,
		Captures: result.Captures, Samples: r.scope.samples,
		AtLeast: coarsest * float64(r.stride), Bridge: coarsest * 10 * float64(r.stride),
		Trace: func(column string, t0, t1 float64) (trace.Series, error) {
			i := result.Columns.Index(column)
			if i < 0 {
				return trace.Series{}, trace.ErrNoData
			}
			return trace.Series{T: result.T, X: result.Values[i]}.Between(t0, t1), nil
		}}
	if r.plate != nil {
		rec.Ratings, rec.Series = r.plate.Ratings, r.plate.Series
	}
	return rec
}

func (r *rehearsal) conclude() *Result {
	r.result.Energy, r.result.Heat, r.result.Hottest = r.bench.fromSources, r.bench.heat, r.bench.hottest
	if n := len(r.result.Spans); n > 0 && r.result.Spans[n-1].T1 <= r.result.Spans[n-1].T0 {
		r.result.Spans[n-1].T1 = r.result.Duration
	}
	r.result.Figures = r.program.Judge(r.record())
	return r.result
}

// Column is one trace of the result; empty if there is none of that name.
func (r *Result) Column(name string) trace.Series {
	i := r.Columns.Index(name)
	if i < 0 {
		return trace.Series{}
	}
	return trace.Series{T: r.T, X: r.Values[i]}
}

// Outcome is what the run would come to.
func (r *Result) Outcome() outcome.Outcome {
	if r.Ending == stage.Failure {
		return outcome.Fail
	}
	return outcome.OfRun(r.Ending == stage.Aborted || r.Ending == stage.OpenContact, procedure.Outcomes(r.Figures))
}
