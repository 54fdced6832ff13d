// Package procedure reads the documents that say how a type of unit is tested, checks them, and resolves them
// with nameplate and parameters to a [Program] that the stage machine can execute.
//
// The document is YAML; docs/procedures.md describes it for its writers. Every mistake is a [document.Finding]
// with line and column.
package procedure

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// Program is a procedure with every name resolved and every value in SI.
type Program struct {
	Name, Title, For string
	Seats            []Seat
	Columns          trace.Columns
	Record           Record
	// Windows are those of safe setpoints that the nameplate states, by column.
	Windows map[string]nameplate.Window
	// Derived are columns that are computed from others by an expression, by name.
	Derived []Derived
	// Asked are columns of what the unit is asked for, by name.
	Asked []string
	// Resume says whether a run may go on after the service was away.
	Resume Resume
	// LostAfter is how long a guard's condition may stay unknown before it trips, s.
	LostAfter float64
	Guards    []Guard
	Triggers  []Trigger
	Stages    []Stage
	// Protect is what hardware protections are set to before anything is energised, in SI: seat → "volts above"
	// → value.
	Protect map[string]map[string]float64
	// MayTrip are the seats whose output may go off by itself without ending the run.
	MayTrip []string
	// Figures are what is computed from the record, with limits.
	Figures []FigureRequest
	Curves  []Curve
	// Pictures travel with the document, for the operator, by name.
	Pictures map[string][]byte
	// Sections are the parts of the report, in its order; none: all.
	Sections []string
	// Constants are parameters and ratings ("nameplate.rated_current") by name, for conditions.
	Constants map[string]quantity.Quantity
	// Parameters are what can be given for a run, in the order of the document.
	Parameters []Parameter
	// Answers are the numbers that the operator is asked for, with their dimension.
	Answers map[string]quantity.Dimension
	// Used are the texts of the procedures that this one uses, by name.
	Used map[string]string
}

// Resume says whether and how a run goes on after the service was killed or the computer restarted.
type Resume struct {
	// Allowed is true if it may go on. By default a battery may, since nothing is lost while it rests; another
	// unit would begin cold.
	Allowed bool
	// Rest is how long the unit is left alone and looked at first, s; Within how long the service may have been away, s.
	Rest, Within float64
}

// Parameter is a value that can be given for a run.
type Parameter struct {
	Name  string
	About string
	Value quantity.Quantity
	// Adjustable may be changed while the run is under way.
	Adjustable bool
	// Min and Max bound what may be given; infinite: open.
	Min, Max float64
}

// IsParameter tells whether a constant is a parameter that can be given for a run, not a rating.
func (p *Program) IsParameter(name string) bool { return !strings.Contains(name, ".") }

// Seat is a function in a bay that the procedure needs.
type Seat struct {
	Name string
	Kind seats.Kind
	// Ratings are what the seat must be able to do: at least these volts, amps … in SI.
	Ratings map[string]float64
	Modes   []string
	// Choices are the words that the procedure asks for: Choices[seats.Sensed] is "remote".
	Choices map[string]string
}

// ReportSections are the parts that a report may have, in their usual order.
var ReportSections = []string{"figures", "standard", "curves", "pictures", "tables", "points", "instruments",
	"preflight", "marks"}

// Guard is a condition that is watched on every frame and makes the bay safe when it holds.
type Guard struct {
	When string
	Note string
	// Warn only leaves a mark.
	Warn bool
	// Reseat tells an open contact: the run ends, and the unit is to be put in anew.
	Reseat bool
	// Record has every frame about it kept beside the mark; nil: it does not.
	Record *Stretch
	// From and To bound the stages in which it is watched, To excluded.
	From, To int
	Locals   map[string]quantity.Quantity
}

// Stretch is what is kept about an event: every frame from so long before it to so long after it, s, of so many events
// at most.
type Stretch struct {
	Past, For float64
	Most      int
}

// Past is how long before an event every frame may still be wanted, s; 0: never.
func (p *Program) Past() (past float64) {
	for _, g := range p.Guards {
		if g.Record != nil {
			past = math.Max(past, g.Record.Past)
		}
	}
	return past
}

// Derived is a column that is computed from others.
type Derived struct{ Column, Is string }

// Words is what the guard says when it trips.
func (g Guard) Words() string {
	if g.Note == "" {
		return g.When
	}
	return fmt.Sprintf("%s (%s)", g.Note, g.When)
}

// Otherwise says what happens when a stage does not reach what it waits for.
type Otherwise string

// What can happen when a stage fails.
const (
	ElseFail Otherwise = "fail" // the run ends and fails
	ElseNext Otherwise = "next" // go on with the next stage
	ElseStop Otherwise = "stop" // end the run without failing it
	ElseGoto Otherwise = "goto" // go on with another stage
)

// Stage is one step of a program. Composite stages are written out: a program is a list, in which repeat and
// when are stages that say where to go on.
type Stage struct {
	Name string
	// Path are the names of the stages around it, outermost first.
	Path []string
	// Line is where it stands in the document.
	Line   int
	Action Action
	// Until ends a stage that waits; empty: none. Within bounds the wait, s; 0: none.
	Until  string
	Within float64
	Else   Otherwise
	// Goto is the index of the stage to go on with when Else is ElseGoto.
	Goto int
	// Tries is how often the stage is tried before it counts as not reached; 1 or more.
	Tries int
	// Record is the rule in force in the stage.
	Record Record
	// Locals are parameters that have a value of their own here.
	Locals map[string]quantity.Quantity
	Note   string
	// State is that in which the unit is from the stage on; empty: as it was.
	State string
	// Asks are what the unit is asked for from the beginning of the stage on.
	Asks   []Asking
	goesTo string // name of the stage of Goto
	at     document.Node
}

// Kind is the word for what the stage does.
func (s Stage) Kind() string { return s.Action.Kind() }

// Record says which frames are kept.
type Record struct {
	// Every is the interval, s; 0 with Changes: only what changes is kept.
	Every float64
	// Changes keeps a frame as soon as a column has moved by so much, SI, since the last that was kept.
	Changes map[string]float64
	// AtLeast is the longest interval, s, when only changes are kept.
	AtLeast float64
	// Columns are those that are kept; nil: all.
	Columns []string
}

// Setting is one thing to set on a seat: a number in SI, or a word for output ("on", "off") and mode.
type Setting struct {
	Seat     string  `json:"seat"`
	Quantity string  `json:"quantity"`
	Value    float64 `json:"value,omitempty"`
	Word     string  `json:"word,omitempty"`
}

// Column is the full name of what is set: "source.volts".
func (s Setting) Column() string { return s.Seat + "." + s.Quantity }

// String shows the setting as a person writes it: "source.volts = 48 V".
func (s Setting) String() string {
	if s.Word != "" {
		return s.Column() + " = " + s.Word
	}
	kind, _ := quantity.KindOf(s.Quantity)
	return s.Column() + " = " + quantity.Quantity{Value: s.Value, Dim: kind.Unit.Dim}.String()
}

// FigureRequest asks for a figure, with or without a limit.
type FigureRequest struct {
	figure.Asked
	Limit *outcome.Limit
	// EachContract has it computed for every contract in which it was measured.
	EachContract bool
}

// Curve is a picture for the report: a figure or quantity over a column, a curve for each value of another. With Less
// it is drawn as its deviation: from what the unit is rated for, from the mean of each curve, or from another column.
type Curve struct {
	// Title says what is drawn where that is not said by the columns.
	Title string `json:"title,omitempty"`
	Of    string `json:"of"`
	Less  string `json:"less,omitempty"`
	By    string `json:"by"`
	Per   string `json:"per,omitempty"`
	// Log names the axes that are logarithmic: "x", "y", "xy"; empty: none.
	Log string `json:"log,omitempty"`
}

// What a curve may be drawn less of, beside another column.
const (
	LessRated = "rated"
	LessMean  = "mean"
)

// LessColumn is the column that the curve is drawn less of; empty: none.
func (c Curve) LessColumn() string {
	if c.Less == LessRated || c.Less == LessMean {
		return ""
	}
	return c.Less
}

// Scope resolves names in conditions: columns of the run, parameters and ratings.
func (p *Program) Scope(name string) (condition.Ref, error) { return p.scope(nil, name) }

// ScopeOf resolves names for a stage or guard that has values of its own for some parameters.
func (p *Program) ScopeOf(locals map[string]quantity.Quantity) condition.Scope {
	return func(name string) (condition.Ref, error) { return p.scope(locals, name) }
}

func (p *Program) scope(locals map[string]quantity.Quantity, name string) (condition.Ref, error) {
	if i := p.Columns.Index(name); i >= 0 {
		return condition.Ref{Column: i, Dim: trace.UnitOf(name).Dim}, nil
	}
	if q, ok := locals[name]; ok {
		return condition.Ref{Constant: &q, Dim: q.Dim}, nil
	}
	if into, ok := strings.CutPrefix(name, "answer."); ok {
		if dim, ok := p.Answers[into]; ok {
			return condition.Ref{Answer: into, Dim: dim}, nil
		}
		return condition.Ref{}, fmt.Errorf("no stage before asks for a number into %s", into)
	}
	switch name {
	case "charge", "energy", "stage.charge", "stage.energy":
		return p.counter(name)
	}
	return p.constant(name)
}

// counter is the charge or energy of a battery: that of a seat which does both, else what was fed less what was
// drained.
func (p *Program) counter(name string) (condition.Ref, error) {
	q := strings.TrimPrefix(name, "stage.")
	ref := condition.Ref{SinceStage: q != name, Dim: trace.UnitOf("x." + q).Dim}
	for _, s := range p.Seats {
		i := p.Columns.Index(s.Name + "." + q)
		switch gives := s.Kind.Gives(); {
		case i < 0:
		case s.Kind.Is(seats.Feeds | seats.Drains):
			return condition.Ref{Sum: []int{i}, SinceStage: ref.SinceStage, Dim: ref.Dim}, nil
		case gives > 0:
			ref.Sum = append(ref.Sum, i)
		case gives < 0:
			ref.Less = append(ref.Less, i)
		}
	}
	if ref.Sum == nil && ref.Less == nil {
		return ref, fmt.Errorf("%s needs a seat that counts it: cycler, source or load", name)
	}
	return ref, nil
}

func (p *Program) constant(name string) (condition.Ref, error) {
	if q, ok := p.Constants[name]; ok {
		return condition.Ref{Constant: &q, Dim: q.Dim}, nil
	}
	words := slices.Collect(maps.Keys(p.Constants))
	words = append(words, p.Columns...)
	return condition.Ref{}, UnknownName(name, words)
}

// Duration estimates how long the program takes when every wait for a condition ends at once, s.
func (p *Program) Duration() float64 { return p.From(0) }

// From is the known time of the stages from an index on, loops and all, s. Of stages to choose from, the first
// alternative counts.
func (p *Program) From(index int) float64 {
	var sum float64
	for i := index; i < len(p.Stages); i++ {
		switch a := p.Stages[i].Action.(type) {
		case *Repeat:
			sum += float64(max(a.Times, 1)) * p.Between(i+1, a.End-1)
			i = a.End - 1
		case *Skip:
			i = a.To - 1
		default:
			sum += p.Stages[i].Duration()
		}
	}
	return sum
}

// Between is the known time of the stages from one index to another, the latter excluded, s.
func (p *Program) Between(from, to int) float64 {
	part := Program{Stages: p.Stages[:to]}
	return part.From(from)
}

// TakesTime tells whether a frame at least is taken while the stage lasts.
func (s Stage) TakesTime() bool {
	switch s.Action.(type) {
	case *Again, *Skip:
		return false
	case Instant:
		return s.Until != ""
	}
	return true
}

// Duration is the known part of a stage's time, s.
func (s Stage) Duration() float64 {
	if a, ok := s.Action.(Lasting); ok {
		return a.Duration()
	}
	return 0
}
