// Package procedure reads the documents that say how a type of unit is tested, checks them, and resolves them with nameplate
// and parameters to a [Program] that the stage machine can execute.
//
// The document is YAML; docs/procedures.md describes it for its writers. Every mistake is a [document.Finding] with line and
// column.
package procedure

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/figure"
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
	// Every is the interval of recorded frames, s.
	Every float64
	// LostAfter is how long a guard's condition may stay unknown before it trips, s.
	LostAfter float64
	Guards    []Guard
	Stages    []Stage
	// Protect is what hardware protections are set to before anything is energised, in SI: seat → "volts above" → value.
	Protect map[string]map[string]float64
	// Figures are what is computed from the record, with limits.
	Figures []FigureRequest
	Curves  []Curve
	// Constants are parameters and ratings ("nameplate.rated_current") by name, for conditions.
	Constants map[string]quantity.Quantity
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
	// Sense is "remote" or "local" if the procedure asks for it.
	Sense string
}

// Guard is a condition that is watched on every frame and makes the bay safe when it holds.
type Guard struct {
	When string
	Note string
}

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
)

// Stage is one step of a program. Exactly one of Set, Hold and Grid is not nil.
type Stage struct {
	Name string
	Set  *Set
	Hold *Hold
	Grid *Grid
	// Until ends a set or hold; empty: none. Within bounds the wait, s; 0: none.
	Until  string
	Within float64
	Else   Otherwise
}

// Kind is the word for what the stage does.
func (s Stage) Kind() string {
	switch {
	case s.Set != nil:
		return "set"
	case s.Hold != nil:
		return "hold"
	}
	return "grid"
}

// Set changes settings, in a safe order.
type Set struct{ Settings []Setting }

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

// Hold keeps things as they are: for a time, until a condition, or until a quantity is stable.
type Hold struct {
	For    float64 // s; 0: not by time
	Stable *Stable
}

// Stable is the wait for a slope inside a band over a window.
type Stable struct {
	Column string
	Window float64 // s
	Band   float64 // SI per second
}

// Grid is a nested sweep; the first axis is the outermost.
type Grid struct {
	Axes []Axis
	// Settle is the time to wait at each place, s; with SettleUntil the longest such time.
	Settle      float64
	SettleUntil string
	Average     float64 // s
}

// Axis is one swept setting with its values in the order of the sweep.
type Axis struct {
	Seat, Quantity string
	Values         []float64
	BothWays       bool // up, then down again
}

// Column is the full name of what is swept.
func (a Axis) Column() string { return a.Seat + "." + a.Quantity }

// Sequence is the values as they are visited.
func (a Axis) Sequence() []float64 {
	if !a.BothWays {
		return a.Values
	}
	down := slices.Clone(a.Values[:len(a.Values)-1])
	slices.Reverse(down)
	return append(slices.Clone(a.Values), down...)
}

// Places is the number of operating points of the grid.
func (g *Grid) Places() int {
	n := 1
	for _, a := range g.Axes {
		n *= len(a.Sequence())
	}
	return n
}

// Place is the i-th operating point as settings, outermost axis first.
func (g *Grid) Place(i int) []Setting {
	place := make([]Setting, len(g.Axes))
	for k := len(g.Axes) - 1; k >= 0; k-- {
		seq := g.Axes[k].Sequence()
		place[k] = Setting{Seat: g.Axes[k].Seat, Quantity: g.Axes[k].Quantity, Value: seq[i%len(seq)]}
		i /= len(seq)
	}
	return place
}

// FigureRequest asks for a figure, with or without a limit.
type FigureRequest struct {
	figure.Request
	Limit *outcome.Limit
}

// Curve is a picture for the report: a figure or quantity over a column, a curve for each value of another.
type Curve struct {
	Of  string `json:"of"`
	By  string `json:"by"`
	Per string `json:"per,omitempty"`
}

// Scope resolves names in conditions: columns of the run, parameters and ratings.
func (p *Program) Scope(name string) (condition.Ref, error) {
	if i := p.Columns.Index(name); i >= 0 {
		return condition.Ref{Column: i, Dim: trace.UnitOf(name).Dim}, nil
	}
	return p.constant(name)
}

func (p *Program) constant(name string) (condition.Ref, error) {
	if q, ok := p.Constants[name]; ok {
		return condition.Ref{Constant: &q, Dim: q.Dim}, nil
	}
	words := slices.Collect(maps.Keys(p.Constants))
	words = append(words, p.Columns...)
	return condition.Ref{}, unknownName(name, words)
}

// Duration estimates how long the program takes when every wait for a condition ends at once, s.
func (p *Program) Duration() float64 {
	var sum float64
	for _, s := range p.Stages {
		sum += s.Duration()
	}
	return sum
}

// Duration is the known part of a stage's time, s.
func (s Stage) Duration() float64 {
	switch {
	case s.Hold != nil:
		return s.Hold.For
	case s.Grid != nil:
		return float64(s.Grid.Places()) * (s.Grid.Settle + s.Grid.Average)
	}
	return 0
}
