// Package stage executes a program. The [Machine] is pure: it is advanced by events and answers with effects;
// it never waits and never asks for the time. The same machine runs a real bench and a rehearsal.
//
// The order of events is: the effects of [Machine.Start]; then, whenever effects contained commands, [Applied]
// once they were carried out; a [Frame] for every sample of the bay; a [Due] whenever [Machine.DueAt] has come;
// and what people do, at any time. After a [Finish] effect the machine takes no more events.
package stage

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// Machine executes one program. It is not safe for use by several goroutines.
type Machine struct {
	program *procedure.Program
	guards  []*condition.Condition
	rare    []*condition.Condition // of the capture triggers; nil: the scope has its own
	stages  []Runner
	derived []derived
	state   state
	to      int   // where a verdict elsewhere leads
	ranged  []int // the columns that tell in which range an instrument measures
	// sidelong says that the commands of the present event are not the stage's own.
	sidelong bool
	why      string // why a verdict timedOut came, in place of the usual words
}

// state is everything of a run that a snapshot must hold, except what the conditions and the current stage keep.
type state struct {
	Stage  int     `json:"stage"`
	StageT float64 `json:"stageT"` // when the current stage began
	Entry  int     `json:"entry"`  // how many stages were entered
	Try    int     `json:"try"`    // of the current stage, from 1
	Now    float64 `json:"now"`
	// Outstanding are the commands that were not acknowledged yet, in order: true for those that are not the stage's
	// own, but somebody's at hand.
	Outstanding []bool             `json:"outstanding,omitempty"`
	Finished    bool               `json:"finished"`
	Setpoints   map[string]float64 `json:"setpoints"`
	// SetBy names the stage that set each setpoint.
	SetBy map[string]int `json:"setBy"`
	// InForce is what was set last on each quantity of each seat, words included.
	InForce map[string]procedure.Setting `json:"inForce"`
	// Away is true from an interruption until the run goes on; Owed that the stage then waits for its command to
	// be carried out, Held that somebody had paused it before.
	Away bool `json:"away,omitempty"`
	// AwayFor is how long nobody has looked after the run in all, s.
	AwayFor float64 `json:"awayFor,omitempty"`
	Owed    bool    `json:"owed,omitempty"`
	Held    bool    `json:"held,omitempty"`
	// Unknown holds since when each guard has been unknown; NaN cannot be written as JSON, so −1 is "not".
	Unknown []float64 `json:"unknown"`
	Warned  []bool    `json:"warned"` // guards that only warn and hold now
	// Events counts for each guard what it has had recorded.
	Events map[int]int `json:"events,omitempty"`
	Points int         `json:"points"`
	// Captures counts those that were kept, and Rare is what each capture trigger has had.
	Captures int    `json:"captures,omitempty"`
	Rare     []rare `json:"rare,omitempty"`
	// Seen says that a frame was taken since the last pass of a loop began.
	Seen bool `json:"seen,omitempty"`
	// Unwatched are the times in which no frame came.
	Unwatched unwatched `json:"unwatched"`
	// Ranges are those in which instruments measured last, by column.
	Ranges map[int]float64 `json:"ranges,omitempty"`
	// Read are the columns that have been read since the run began.
	Read []int `json:"read,omitempty"`
	// Asked is what the unit is asked for, by column.
	Asked map[string]asked `json:"asked,omitempty"`
	// Passes counts the passes of each loop by its first stage, Jumps how often each stage led elsewhere.
	Passes map[int]int `json:"passes,omitempty"`
	Jumps  map[int]int `json:"jumps,omitempty"`
	// Answers are numbers, SI, and Replies the texts that the operator gave, by name.
	Answers map[string]float64 `json:"answers,omitempty"`
	Replies map[string]string  `json:"replies,omitempty"`
	Paused  bool               `json:"paused,omitempty"`
	PausedT float64            `json:"pausedT,omitempty"`
}

// New prepares a machine. The program's conditions must be sound, as procedure.Parse has checked.
func New(program *procedure.Program) (*Machine, error) {
	m := &Machine{program: program, state: state{Stage: -1, Setpoints: map[string]float64{}, SetBy: map[string]int{},
		InForce: map[string]procedure.Setting{}, Passes: map[int]int{}, Jumps: map[int]int{},
		Answers: map[string]float64{}, Replies: map[string]string{}, Events: map[int]int{},
		Unwatched: watchedEvery(program.Fastest())}}
	for _, g := range program.Guards {
		c, err := condition.Compile(g.When, program.ScopeOf(g.Locals))
		if err != nil {
			return nil, fmt.Errorf("guard %q: %w", g.When, err)
		}
		m.guards = append(m.guards, c)
		m.state.Unknown, m.state.Warned = append(m.state.Unknown, -1), append(m.state.Warned, false)
	}
	for _, g := range program.Triggers {
		c, err := program.TriggerCondition(g)
		if err != nil {
			return nil, fmt.Errorf("trigger %q: %w", g.When, err)
		}
		m.rare, m.state.Rare = append(m.rare, c), append(m.state.Rare, rare{})
	}
	for i, s := range program.Stages {
		r, err := newRunner(program, s)
		if err != nil {
			return nil, fmt.Errorf("stage %d, %s: %w", i+1, s.Name, err)
		}
		m.stages = append(m.stages, r)
	}
	for i, column := range program.Columns {
		if strings.HasSuffix(column, ".range") {
			m.ranged = append(m.ranged, i)
		}
	}
	for _, d := range program.Derived {
		e, err := condition.CompileExpression(d.Is, program.Scope)
		if err != nil {
			return nil, fmt.Errorf("derived column %s: %w", d.Column, err)
		}
		m.derived = append(m.derived, derived{e, program.Columns.Index(d.Column)})
	}
	return m, nil
}

// derived is a column that is computed from others.
type derived struct {
	of     *condition.Expression
	column int
}

// Derive fills the columns of a frame that nothing reads: those of what the unit is asked for, and those that are
// derived from others. Its values must have room for all columns of the program.
func (m *Machine) Derive(f trace.Frame) {
	m.fillAsked(f)
	s := m.Sample(f)
	for _, d := range m.derived {
		if d.column < len(f.Values) {
			f.Values[d.column] = d.of.Value(s)
		}
	}
}

// Program is what the machine executes.
func (m *Machine) Program() *procedure.Program { return m.program }

// Start gives the first effects. It is called once, at time 0.
func (m *Machine) Start() []Effect { return m.out(m.enter(nil, 0)) }

// Finished tells whether the run is over.
func (m *Machine) Finished() bool { return m.state.Finished }

// Stage is the index of the current stage in the program.
func (m *Machine) Stage() int { return min(max(m.state.Stage, 0), len(m.stages)-1) }

// Record is the rule by which frames are kept now.
func (m *Machine) Record() procedure.Record { return m.program.Stages[m.Stage()].Record }

// DueAt is the time at which the machine wants a [Due]; infinite if it waits for none.
func (m *Machine) DueAt() float64 {
	if m.state.Finished || m.pending() || m.state.Paused || m.state.Stage < 0 {
		return math.Inf(1)
	}
	if t, ok := m.stages[m.state.Stage].(Timed); ok {
		return t.DueAt()
	}
	return math.Inf(1)
}

// Pace is how soon the machine wants the next frame, s; infinite if the usual interval is soon enough.
func (m *Machine) Pace() float64 {
	if m.state.Finished || m.state.Stage < 0 {
		return math.Inf(1)
	}
	if p, ok := m.stages[m.state.Stage].(Pacing); ok {
		return p.Pace()
	}
	return math.Inf(1)
}

// Advance takes one event and returns what must be done now, in order.
func (m *Machine) Advance(e Event) []Effect {
	if m.state.Finished {
		return nil
	}
	return m.out(m.take(e))
}

func (m *Machine) take(e Event) []Effect {
	switch e := e.(type) {
	case StopAsked:
		return m.finish(e.T, Aborted, "stopped by "+e.By)
	case Failed:
		return m.finish(e.T, Aborted, e.Reason)
	case Tripped:
		return m.onTripped(e)
	case Applied:
		return m.onApplied(e.T)
	case Frame:
		return m.onFrame(e.Frame)
	case Glimpse:
		return m.peek(e.Frame)
	case Due:
		return m.onDue(e.T)
	case Armed:
		return m.onCapture(e, e.T)
	case Captured:
		return m.onCapture(e, e.T)
	case Afforded:
		r, waits := m.runner().(Affording)
		if !waits || m.state.Paused {
			return nil
		}
		m.state.Now = max(m.state.Now, e.T)
		return m.follow(r.Afforded(m, e))
	case Scanned:
		return m.onScan(e)
	case Opened:
		return m.onOpened(e)
	}
	return m.byHand(e)
}

// onTripped ends the run, or goes on with a mark where the procedure expects it of the seat.
func (m *Machine) onTripped(e Tripped) []Effect {
	m.state.Now = e.T
	effects := []Effect{NewMark(e.T, record.MarkTrip, e.Words)}
	if slices.Contains(m.program.MayTrip, e.Seat) {
		return effects
	}
	return append(effects, m.finish(e.T, Aborted, e.Words)...)
}

func (m *Machine) runner() Runner { return m.stages[m.state.Stage] }

func (m *Machine) onApplied(t float64) []Effect {
	if !m.pending() {
		return nil
	}
	aside := m.state.Outstanding[0] // they are carried out one after another
	m.state.Outstanding, m.state.Now = m.state.Outstanding[1:], t
	if aside {
		return nil
	}
	return m.follow(m.runner().Applied(m, t))
}

// pending tells whether commands are out that were not acknowledged.
func (m *Machine) pending() bool { return len(m.state.Outstanding) > 0 }

func (m *Machine) onFrame(f trace.Frame) []Effect {
	m.state.Now, m.state.Seen = f.T, true
	m.state.Unwatched.frame(f.T)
	m.noteRead(f)
	ranges := m.changedRanges(f)
	effects, tripped := m.watch(f)
	effects = append(ranges, effects...)
	if !tripped {
		effects = append(effects, m.lookForRare(f)...)
	}
	if tripped || m.pending() || m.state.Paused {
		return effects
	}
	return append(effects, m.follow(m.runner().Frame(m, f))...)
}

func (m *Machine) onDue(t float64) []Effect {
	r, ok := m.runner().(Timed)
	if !ok || t < m.DueAt() {
		return nil
	}
	m.state.Now = t
	return m.follow(r.Due(m, t))
}

func (m *Machine) Sample(f trace.Frame) condition.Sample {
	began := m.state.StageT
	if m.state.Paused {
		began += f.T - m.state.PausedT
	}
	return condition.Sample{T: f.T, StageT: f.T - began, Away: m.state.AwayFor, Entry: m.state.Entry,
		Columns: f.Values, Answers: m.state.Answers}
}

// note keeps what commands put in force.
func (m *Machine) note(effects []Effect) {
	for _, e := range effects {
		c, ok := e.(Command)
		if !ok {
			continue
		}
		for _, s := range c.Settings {
			m.state.InForce[s.Column()] = s
			if s.Quantity == "volts" { // a floor that was set before is not meant any more
				delete(m.state.InForce, s.Seat+".floor")
			}
			if s.Word == "" {
				m.state.Setpoints[s.Column()] = s.Value
				m.state.SetBy[s.Column()] = m.state.Stage
			}
		}
	}
}

// out counts the commands of one event as outstanding; they are acknowledged together, in the order of the events.
func (m *Machine) out(effects []Effect) []Effect {
	commands := slices.ContainsFunc(effects, func(e Effect) bool {
		_, command := e.(Command)
		_, perform := e.(Perform)
		return command || perform
	})
	if commands {
		m.state.Outstanding = append(m.state.Outstanding, m.sidelong)
	}
	m.sidelong = false
	return effects
}

func (m *Machine) finish(t float64, ending Ending, reason string) []Effect {
	m.state.Finished, m.state.Now = true, t
	label := string(ending)
	if reason != "" {
		label += ": " + reason
	}
	return []Effect{Dismiss{}, NewMark(t, record.MarkEnd, label), Finish{t, ending, reason}}
}
