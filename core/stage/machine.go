// Package stage executes a program. The [Machine] is pure: it is advanced by events and answers with effects; it never waits
// and never asks for the time. The same machine runs a real bench and a rehearsal.
//
// The order of events is: the effects of [Machine.Start]; then, whenever effects contained commands, [Applied] once they were
// carried out; and a [Frame] for every sample of the bay. After a [Finish] effect the machine takes no more events.
package stage

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// Event is what can happen to a run.
type Event interface{ event() }

// Frame is a sample of all quantities of the bay.
type Frame struct{ trace.Frame }

// Glimpse is a frame of which some readings are still to come. Only guards see it, and only what they know from it.
type Glimpse struct{ trace.Frame }

// Applied says that all commands of the last effects were carried out and acknowledged at time T, in seconds since the start.
type Applied struct{ T float64 }

// Failed says that the bench can no longer be trusted: a lost instrument, a refused command.
type Failed struct {
	T      float64
	Reason string
}

// StopAsked says that somebody wants the run to end.
type StopAsked struct {
	T  float64
	By string
}

func (Frame) event()     {}
func (Glimpse) event()   {}
func (Applied) event()   {}
func (Failed) event()    {}
func (StopAsked) event() {}

// Effect is what must be done now.
type Effect interface{ effect() }

// Command sets things, in the order given.
type Command struct{ Settings []procedure.Setting }

// Mark is a labelled instant of the run.
type Mark struct {
	T     float64  `json:"t"`
	Kind  MarkKind `json:"kind"`
	Label string   `json:"label"`
}

// MarkKind says what a mark is about.
type MarkKind string

// The kinds of marks.
const (
	MarkStage     MarkKind = "stage"      // a stage began
	MarkStageEnd  MarkKind = "stage-end"  // a stage ended
	MarkCommand   MarkKind = "command"    // something was set
	MarkCondition MarkKind = "condition"  // a condition that was waited for holds
	MarkGuard     MarkKind = "guard"      // a guard tripped
	MarkBench     MarkKind = "bench"      // something about the instruments
	MarkEnd       MarkKind = "end"        // the run ended
	MarkTimeout   MarkKind = "timed-out"  // a wait was in vain
	MarkPointDone MarkKind = "point-done" // a point was measured
)

// Point is the settled average at one place of a grid.
type Point struct{ figure.Point }

// Finish ends the run: the bay must be made safe.
type Finish struct {
	T      float64
	Ending Ending
	// Reason is a sentence for people; empty when the program came to its end.
	Reason string
}

// Ending is how a run ended.
type Ending string

// The endings.
const (
	Done    Ending = "done"    // the program came to its end, or a stage ended it early without failing
	Failure Ending = "failed"  // a stage did not reach what it waited for: the unit failed
	Aborted Ending = "aborted" // a guard, a person or a lost instrument ended it
)

func (Command) effect() {}
func (Mark) effect()    {}
func (Point) effect()   {}
func (Finish) effect()  {}

// Machine executes one program. It is not safe for use by several goroutines.
type Machine struct {
	program *procedure.Program
	guards  []*condition.Condition
	stages  []runner
	state   state
}

// state is everything of a run that a snapshot must hold, except what the conditions and the current stage keep.
type state struct {
	Stage     int                `json:"stage"`
	StageT    float64            `json:"stageT"` // when the current stage began
	Now       float64            `json:"now"`
	Pending   bool               `json:"pending"` // commands are out that were not acknowledged
	Finished  bool               `json:"finished"`
	Setpoints map[string]float64 `json:"setpoints"`
	// Unknown holds since when each guard has been unknown; NaN cannot be written as JSON, so −1 is "not".
	Unknown []float64 `json:"unknown"`
	Points  int       `json:"points"`
}

// runner is one stage in execution. Its methods return what to do, and whether the stage is over.
type runner interface {
	// enter begins the stage.
	enter(m *Machine) []Effect
	// applied tells that the commands of the last effects are in force since t.
	applied(m *Machine, t float64) ([]Effect, verdict)
	// frame takes a frame while no command is outstanding.
	frame(m *Machine, f trace.Frame) ([]Effect, verdict)
	// progress tells how far the stage is: a share 0 … 1, the seconds that are left as far as they are known, and a detail.
	progress(m *Machine) (share, left float64, detail string)
	save() any
	load(data []byte) error
}

type verdict int

const (
	goesOn verdict = iota
	over
	timedOut
	lost // the readings that would tell did not come
)

// New prepares a machine. The program's conditions must be sound, as procedure.Parse has checked.
func New(program *procedure.Program) (*Machine, error) {
	m := &Machine{program: program, state: state{Stage: -1, Setpoints: map[string]float64{}}}
	for _, g := range program.Guards {
		c, err := condition.Compile(g.When, program.Scope)
		if err != nil {
			return nil, fmt.Errorf("guard %q: %w", g.When, err)
		}
		m.guards = append(m.guards, c)
		m.state.Unknown = append(m.state.Unknown, -1)
	}
	for i, s := range program.Stages {
		r, err := newRunner(program, s)
		if err != nil {
			return nil, fmt.Errorf("stage %d, %s: %w", i+1, s.Name, err)
		}
		m.stages = append(m.stages, r)
	}
	return m, nil
}

func newRunner(p *procedure.Program, s procedure.Stage) (runner, error) {
	until, err := compileUntil(p, s.Until)
	if err != nil {
		return nil, err
	}
	switch {
	case s.Set != nil:
		return &setRunner{spec: *s.Set, until: until, within: s.Within}, nil
	case s.Hold != nil:
		return &holdRunner{spec: *s.Hold, until: until, within: s.Within, column: stableColumn(p, s.Hold)}, nil
	}
	settleUntil, err := compileUntil(p, s.Grid.SettleUntil)
	if err != nil {
		return nil, err
	}
	return &gridRunner{name: s.Name, spec: s.Grid, columns: p.Columns, settleUntil: settleUntil}, nil
}

func compileUntil(p *procedure.Program, text string) (*condition.Condition, error) {
	if text == "" {
		return nil, nil
	}
	return condition.Compile(text, p.Scope)
}

// Start gives the first effects. It is called once, at time 0.
func (m *Machine) Start() []Effect { return m.next(nil) }

// Finished tells whether the run is over.
func (m *Machine) Finished() bool { return m.state.Finished }

// Advance takes one event and returns what must be done now, in order.
func (m *Machine) Advance(e Event) []Effect {
	if m.state.Finished {
		return nil
	}
	switch e := e.(type) {
	case StopAsked:
		return m.finish(e.T, Aborted, "stopped by "+e.By)
	case Failed:
		return m.finish(e.T, Aborted, e.Reason)
	case Applied:
		return m.onApplied(e.T)
	case Frame:
		return m.onFrame(e.Frame)
	case Glimpse:
		return m.peek(e.Frame)
	}
	return nil
}

func (m *Machine) onApplied(t float64) []Effect {
	if !m.state.Pending {
		return nil
	}
	m.state.Pending, m.state.Now = false, t
	effects, v := m.stages[m.state.Stage].applied(m, t)
	return m.follow(effects, v)
}

func (m *Machine) onFrame(f trace.Frame) []Effect {
	m.state.Now = f.T
	if effects := m.watch(f); effects != nil {
		return effects
	}
	if m.state.Pending {
		return nil
	}
	effects, v := m.stages[m.state.Stage].frame(m, f)
	return m.follow(effects, v)
}

// watch evaluates every guard, before any stage sees the frame.
func (m *Machine) watch(f trace.Frame) []Effect {
	s := m.sample(f)
	for i, g := range m.guards {
		words := m.program.Guards[i].Words()
		switch g.Evaluate(s) {
		case condition.True:
			return append([]Effect{Mark{f.T, MarkGuard, words}}, m.finish(f.T, Aborted, "guard tripped: "+words)...)
		case condition.Unknown:
			if m.state.Unknown[i] < 0 {
				m.state.Unknown[i] = f.T
			}
			if f.T-m.state.Unknown[i] >= m.program.LostAfter {
				reason := fmt.Sprintf("guard cannot be watched, its readings are missing for %.3g s: %s", m.program.LostAfter, words)
				return append([]Effect{Mark{f.T, MarkGuard, reason}}, m.finish(f.T, Aborted, reason)...)
			}
		default:
			m.state.Unknown[i] = -1
		}
	}
	return nil
}

// peek has guards that can be told already act at once. What they do not know yet comes with the frame.
func (m *Machine) peek(f trace.Frame) []Effect {
	s := m.sample(f)
	for i, g := range m.guards {
		if slices.ContainsFunc(g.Columns(), func(c int) bool { return c < len(f.Values) && math.IsNaN(f.Values[c]) }) {
			continue
		}
		if g.Evaluate(s) == condition.True {
			words := m.program.Guards[i].Words()
			return append([]Effect{Mark{f.T, MarkGuard, words}}, m.finish(f.T, Aborted, "guard tripped: "+words)...)
		}
	}
	return nil
}

func (m *Machine) sample(f trace.Frame) condition.Sample {
	return condition.Sample{T: f.T, StageT: f.T - m.state.StageT, Columns: f.Values}
}

// follow goes on after a runner's answer: to the next stage, to the end, or not at all.
func (m *Machine) follow(effects []Effect, v verdict) []Effect {
	m.note(effects)
	switch v {
	case over:
		return m.next(effects)
	case timedOut:
		return m.giveUp(effects)
	case lost:
		s := m.program.Stages[m.state.Stage]
		return append(effects, m.finish(m.state.Now, Aborted, fmt.Sprintf("stage %q: %s cannot be told, its readings are missing", s.Name, s.Until))...)
	}
	return effects
}

// next enters the following stage. Stages without commands may be over at once only on a later event, so this does not recurse
// deeper than one stage.
func (m *Machine) next(effects []Effect) []Effect {
	t := m.state.Now
	if m.state.Stage >= 0 {
		effects = append(effects, Mark{t, MarkStageEnd, m.program.Stages[m.state.Stage].Name})
	}
	m.state.Stage++
	if m.state.Stage >= len(m.stages) {
		return append(effects, m.finish(t, Done, "")...)
	}
	m.state.StageT = t
	effects = append(effects, Mark{t, MarkStage, m.program.Stages[m.state.Stage].Name})
	entered := m.stages[m.state.Stage].enter(m)
	m.note(entered)
	return append(effects, entered...)
}

// giveUp does what the stage's else says.
func (m *Machine) giveUp(effects []Effect) []Effect {
	s, t := m.program.Stages[m.state.Stage], m.state.Now
	reason := fmt.Sprintf("stage %q: not within %s", s.Name, seconds(s.Within))
	if s.Until != "" {
		reason = fmt.Sprintf("stage %q: %s did not hold within %s", s.Name, s.Until, seconds(s.Within))
	}
	effects = append(effects, Mark{t, MarkTimeout, reason})
	switch s.Else {
	case procedure.ElseNext:
		return m.next(effects)
	case procedure.ElseStop:
		return append(effects, m.finish(t, Done, reason)...)
	}
	return append(effects, m.finish(t, Failure, reason)...)
}

func (m *Machine) finish(t float64, ending Ending, reason string) []Effect {
	m.state.Finished, m.state.Now = true, t
	label := string(ending)
	if reason != "" {
		label += ": " + reason
	}
	return []Effect{Mark{t, MarkEnd, label}, Finish{t, ending, reason}}
}

// note keeps what commands put in force.
func (m *Machine) note(effects []Effect) {
	for _, e := range effects {
		c, ok := e.(Command)
		if !ok {
			continue
		}
		m.state.Pending = true
		for _, s := range c.Settings {
			if s.Word == "" {
				m.state.Setpoints[s.Column()] = s.Value
			}
		}
	}
}

// GuardState is a guard and how far it is from tripping.
type GuardState struct {
	Words string `json:"words"`
	// Distance is empty while it is not known.
	Distance string `json:"distance,omitempty"`
}

// Guards tells the distance of each guard to tripping on a frame.
func (m *Machine) Guards(f trace.Frame) []GuardState {
	s := m.sample(f)
	states := make([]GuardState, len(m.guards))
	for i, g := range m.guards {
		states[i].Words = m.program.Guards[i].Words()
		if d, ok := g.Margin(s); ok {
			states[i].Distance = d.Format(3)
		}
	}
	return states
}

// Progress is how far the run is.
type Progress struct {
	Stage  int     `json:"stage"` // index of the current stage
	Name   string  `json:"name"`
	Detail string  `json:"detail,omitempty"` // "37 of 48 points"
	Share  float64 `json:"share"`            // of the current stage, 0 … 1
	// Left is the seconds to go as far as they are known, stages to come included.
	Left float64 `json:"left"`
}

// Progress tells how far the run is.
func (m *Machine) Progress() Progress {
	i := min(max(m.state.Stage, 0), len(m.stages)-1)
	p := Progress{Stage: i, Name: m.program.Stages[i].Name, Share: 1}
	if m.state.Finished {
		return p
	}
	p.Share, p.Left, p.Detail = m.stages[i].progress(m)
	if math.IsNaN(p.Share) {
		p.Share = 0
	}
	for _, s := range m.program.Stages[i+1:] {
		p.Left += s.Duration()
	}
	return p
}

func seconds(s float64) string { return fmt.Sprintf("%g s", s) }

func stableColumn(p *procedure.Program, h *procedure.Hold) int {
	if h.Stable == nil {
		return -1
	}
	return slices.Index(p.Columns, h.Stable.Column)
}
