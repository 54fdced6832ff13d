package stage

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// Runnable is what a stage does, as the machine executes it. Every kind of stage is one.
type Runnable interface {
	procedure.Action
	// Run makes the runner of a stage that does it. What is wrong is noted in the parts.
	Run(*Parts) Runner
}

// Runner is one stage in execution. Its methods return what to do, and whether the stage is over.
type Runner interface {
	// Enter begins the stage. A stage that sets nothing may be over at once.
	Enter(m *Machine) ([]Effect, Verdict)
	// Applied tells that the commands of the last effects are in force since t.
	Applied(m *Machine, t float64) ([]Effect, Verdict)
	// Frame takes a frame while no command is outstanding.
	Frame(m *Machine, f trace.Frame) ([]Effect, Verdict)
	// Progress tells how far the stage is: a share 0 … 1, the seconds that are left as far as they are known, and a
	// detail.
	Progress(m *Machine) (share, left float64, detail string)
	// Shift moves every time that the stage remembers, after a pause.
	Shift(seconds float64)
	// Save gives what the stage remembers, for JSON; Load takes it back.
	Save() any
	Load(data []byte) error
}

// Some stages also take other events; a runner has these methods where they say something to it.
type (
	// Timed stages want to be told when a time has come.
	Timed interface {
		DueAt() float64
		Due(m *Machine, t float64) ([]Effect, Verdict)
	}
	// Answering stages take what the operator replied.
	Answering interface {
		Answered(m *Machine, e Answered) ([]Effect, Verdict)
	}
	// Figuring stages take a figure that they asked for.
	Figuring interface {
		Figured(m *Machine, e Figured) ([]Effect, Verdict)
	}
	// Asking stages wait for what somebody must be asked again after an interruption: a figure, an operator.
	Asking interface{ Asked() []Effect }
	// Extending stages can be made longer by hand.
	Extending interface{ Extend(seconds float64) }
	// Pausing stages give commands where their setpoints must not stay in force during a pause.
	Pausing interface {
		Paused() []procedure.Setting
		Resumed() []procedure.Setting
	}
	// Pacing stages want frames sooner when something is about to happen.
	Pacing interface{ Pace() float64 }
	// Leaving stages have something to undo when they are skipped, or end in vain.
	Leaving interface{ Leave() []Effect }
	// Delegating stages may have instruments act by programs of their own.
	Delegating interface{ ByInstrument() bool }
)

// Verdict says whether a stage is over.
type Verdict int

// The verdicts.
const (
	GoesOn Verdict = iota
	Over
	TimedOut
	Lost      // the readings that would tell did not come
	Elsewhere // the run goes on at Machine.to
)

// Parts makes what a runner needs of its stage.
type Parts struct {
	Program *procedure.Program
	Stage   procedure.Stage
	err     error // the first mistake
}

// Condition compiles a condition of the stage; nil for an empty text.
func (p *Parts) Condition(text string) *condition.Condition {
	if text == "" {
		return nil
	}
	c, err := condition.Compile(text, p.Program.ScopeOf(p.Stage.Locals))
	if err != nil && p.err == nil {
		p.err = fmt.Errorf("%q: %w", text, err)
	}
	return c
}

// Idle has the methods of a runner that does nothing with an event, Stateless those of one that has nothing to
// remember either.
type (
	Idle      struct{}
	Stateless struct{ Idle }
)

// Applied implements Runner; so do the methods below.
func (Idle) Applied(*Machine, float64) ([]Effect, Verdict)          { return nil, GoesOn }
func (Idle) Frame(*Machine, trace.Frame) ([]Effect, Verdict)        { return nil, GoesOn }
func (Idle) Progress(*Machine) (share, left float64, detail string) { return 0, 0, "" }
func (Stateless) Shift(float64)                                     {}
func (Stateless) Save() any                                         { return nil }
func (Stateless) Load([]byte) error                                 { return nil }

// Waiting is the condition that a stage waits for, with its state: what is common to all stages that keep nothing
// else.
type Waiting struct {
	Until *condition.Condition // nil: none
	Wait  Wait
}

// Begin waits anew from a time on.
func (w *Waiting) Begin(t float64) {
	w.Wait = Wait{Since: t}
	if w.Until != nil {
		w.Until.Reset()
	}
}

// Shift implements Runner; so do the methods below.
func (w *Waiting) Shift(s float64)        { w.Wait.Since += s; Shift(s, w.Until) }
func (w *Waiting) Save() any              { return w.Wait.Saved(w.Until) }
func (w *Waiting) Load(data []byte) error { return w.Wait.Load(data, w.Until) }

// Wait is the state of waiting for a condition.
type Wait struct {
	Since float64          `json:"since"`
	Past  *condition.State `json:"past,omitempty"` // only in a snapshot
}

// Saved is the state with what the condition remembers.
func (w Wait) Saved(until *condition.Condition) Wait {
	if until != nil {
		state := until.State()
		w.Past = &state
	}
	return w
}

// Load takes back what Saved gave as JSON.
func (w *Wait) Load(data []byte, until *condition.Condition) error {
	if err := json.Unmarshal(data, w); err != nil {
		return err
	}
	w.Restore(until)
	return nil
}

// Restore gives the condition what it remembered.
func (w *Wait) Restore(until *condition.Condition) {
	if until != nil && w.Past != nil {
		until.Restore(*w.Past)
	}
	w.Past = nil
}

// Shift moves what conditions remember; nil ones are left out.
func Shift(s float64, conditions ...*condition.Condition) {
	for _, c := range conditions {
		if c != nil {
			c.Shift(s)
		}
	}
}

// Now is the time of the newest event, s.
func (m *Machine) Now() float64 { return m.state.Now }

// LostAfter is how long readings may be missing before what depends on them counts as lost, s.
func (m *Machine) LostAfter() float64 { return m.program.LostAfter }

// Setpoint is what was set last on a column; ok is false if nothing was.
func (m *Machine) Setpoint(column string) (value float64, ok bool) {
	value, ok = m.state.Setpoints[column]
	return value, ok
}

// InForce is what was set last on a column, words included; ok is false if nothing was.
func (m *Machine) InForce(column string) (setting procedure.Setting, ok bool) {
	setting, ok = m.state.InForce[column]
	return setting, ok
}

// Stands notes a setpoint that an instrument's own program will have come to.
func (m *Machine) Stands(column string, value float64) {
	m.state.Setpoints[column] = value
	m.state.SetBy[column] = m.state.Stage
}

// CountFrom has the time of the stage count from t, where it begins later than its first command.
func (m *Machine) CountFrom(t float64) { m.state.StageT = t }

// InVain is the verdict of a stage that did not reach what it waits for, with the reason in place of the usual words.
func (m *Machine) InVain(why string) Verdict {
	m.why = why
	return TimedOut
}

// Reply keeps what the operator answered, by name.
func (m *Machine) Reply(name, text string) { m.state.Replies[name] = text }

// Answer keeps a number that the operator answered, SI, for conditions.
func (m *Machine) Answer(name string, x float64) { m.state.Answers[name] = x }

// Await evaluates a condition that is waited for since a time, for a time in which it is watched. A unit is not blamed
// for readings that do not come: when no frames do, that time does not count, and when the condition cannot be told,
// the wait goes on for as long as an instrument may be silent, and then counts as lost.
func (m *Machine) Await(f trace.Frame, until *condition.Condition, since, within float64) ([]Effect, Verdict) {
	truth := condition.False
	if until != nil {
		truth = until.Evaluate(m.Sample(f))
	}
	past := m.Watched(since, f.T)
	switch {
	case truth == condition.True:
		return []Effect{NewMark(f.T, record.MarkCondition, until.Text)}, Over
	case within == 0 || past <= within:
		return nil, GoesOn
	case truth == condition.False || until != nil && until.Filling():
		return nil, TimedOut
	case past > within+m.LostAfter():
		return nil, Lost
	}
	return nil, GoesOn
}

// NewPoint averages frames to the next point of the run, of all columns or of some.
func (m *Machine) NewPoint(stage string, frames []trace.Frame, only []string) record.Point {
	p := record.Point{
		Index: m.state.Points, Stage: stage, T0: frames[0].T, T1: frames[len(frames)-1].T,
		Place: m.place(), Averages: m.Averages(frames, only),
	}
	m.state.Points++
	return p
}

// place is every setpoint in force of what can be read; a floor says nothing about where the unit is.
func (m *Machine) place() map[string]float64 {
	place := maps.Clone(m.state.Setpoints)
	maps.DeleteFunc(place, func(column string, _ float64) bool {
		kind, known := quantity.KindOfColumn(column)
		return known && !kind.Read
	})
	return place
}

// TakePlaceOf gives the newest point the place of an earlier one that is not kept.
func (m *Machine) TakePlaceOf(earlier record.Point, p *record.Point) {
	p.Index = earlier.Index
	m.state.Points--
}

// Averages are the settled averages of frames by column, of all or of some. An average of too few readings keeps its
// count.
func (m *Machine) Averages(frames []trace.Frame, only []string) map[string]trace.Average {
	all := map[string]trace.Average{}
	for i, column := range m.program.Columns {
		if only != nil && !slices.Contains(only, column) {
			continue
		}
		s := trace.Series{T: make([]float64, len(frames)), X: make([]float64, len(frames))}
		for k, f := range frames {
			s.T[k], s.X[k] = f.T, f.Values[i]
		}
		a, err := trace.SettledAverage(s, 0) // the resolution enters with the accuracy, when a figure is computed
		if err != nil {
			a.Mean = 0
		}
		all[column] = a
	}
	return all
}
