package procedure

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/shape"
)

// Action is what a stage does.
type Action interface {
	// Kind is the word of the procedure for it.
	Kind() string
}

// Set changes settings, in a safe order unless it was told otherwise.
type Set struct{ Settings []Setting }

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

// Rest is a hold with every output off.
type Rest struct {
	Hold
	Settings []Setting // that switch the outputs off
}

// Watch records what others do; the bay's outputs are left alone.
type Watch struct{ For float64 }

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

// Play moves one or more quantities along shapes, at once.
type Play struct {
	Tracks []Track
	Times  int
	// By says who keeps the time: the instrument, the service, or whoever can.
	By PlayedBy
	// Pace is how often the service sets what moves, s.
	Pace float64
}

// PlayedBy is who keeps the time of a shape.
type PlayedBy string

// Who can play.
const (
	ByEither     PlayedBy = "either"
	ByService    PlayedBy = "service"
	ByInstrument PlayedBy = "instrument"
)

// Track is a quantity of a seat and its shape.
type Track struct {
	Seat     string
	Quantity string
	Shape    *shape.Shape
}

// Column is the full name of what is played.
func (t Track) Column() string { return t.Seat + "." + t.Quantity }

// Once is how long the shapes last, s.
func (p *Play) Once() (longest float64) {
	for _, t := range p.Tracks {
		longest = math.Max(longest, t.Shape.Duration())
	}
	return longest
}

// Seek steps a quantity until a condition holds: coarse first, then fine from the last step that held.
type Seek struct {
	Seat, Quantity string
	From, To       float64
	Coarse, Fine   float64 // steps, SI, more than 0; Fine may be 0
	Dwell          float64 // s at each step
	Until          string
	// Row names what is found.
	Row string
	// Relief is what is set afterwards to see whether the unit recovers, and Recovered the condition that says so,
	// within the time.
	Relief         []Setting
	Recovered      string
	RecoversWithin float64
}

// Column is the full name of what is stepped.
func (s *Seek) Column() string { return s.Seat + "." + s.Quantity }

// Acquire takes readings into a named row.
type Acquire struct {
	Row     string
	Columns []string
	Average float64 // s
	Times   int
	Every   float64 // s between the beginnings of repeated readings
}

// Ask is a prompt to the operator.
type Ask struct {
	Form   AskForm  `json:"form"`
	Prompt string   `json:"prompt"`
	Into   string   `json:"into,omitempty"` // name of the answer
	Unit   string   `json:"unit,omitempty"`
	Choice []string `json:"choice,omitempty"`
	// Min and Max bound a number, in Unit; nil: open.
	Min *float64 `json:"min,omitempty"`
	Max *float64 `json:"max,omitempty"`
}

// AskForm is what kind of answer is wanted.
type AskForm string

// The forms of prompts.
const (
	AskConfirm AskForm = "confirm"
	AskNumber  AskForm = "number"
	AskText    AskForm = "text"
	AskChoice  AskForm = "choice"
	AskSerial  AskForm = "serial"
)

// Signal tells the operator something at once.
type Signal struct {
	Message string `json:"message"`
	Sound   bool   `json:"sound"`
}

// Drive is a charge or a discharge: it sets a seat going, and the first of its terminations ends it and
// switches the seat off.
type Drive struct {
	Discharge bool
	Seat      string
	Settings  []Setting
	Ends      []Termination
	// Down lowers the current at each crossing of the cutoff instead of ending; nil: it does not.
	Down *StepDown
	// Before is a gentle beginning of a charge; nil: none.
	Before *Precharge
	// Taper is the current that ends a charge at constant voltage, A; 0: it does not end so.
	Taper float64
	// Cutoff is the voltage at which a discharge ends, V; 0: there is none.
	Cutoff float64
	// Expect is about how long it takes, s, from the rated capacity; 0: not known.
	Expect float64
}

// Termination is a rule that ends a charge or discharge.
type Termination struct {
	// Word is what the procedure calls it: taper, time, cutoff …
	Word string
	When string
}

// Precharge keeps the current of a charge low for as long as the battery is below some volts.
type Precharge struct {
	Below float64 // V
	Amps  float64
	Most  float64 // s, after which the battery counts as not to be charged
}

// StepDown divides the current by Factor at the cutoff, for as long as it stays at or above Least.
type StepDown struct {
	Factor float64
	Least  float64 // A
	Blank  float64 // s after a command in which the cutoff is not watched
}

// Steps is the number of currents of a step-down that begins at amps.
func (d StepDown) Steps(amps float64) int {
	return 1 + int(math.Floor(math.Log(math.Abs(amps)/d.Least)/math.Log(d.Factor)+1e-9))
}

// Repeat begins a loop; its Again leads back to it.
type Repeat struct {
	Times int    // 0: only by Until
	Until string // judged before every pass but the first
	// Enough ends the loop before a pass when one of these figures of the run so far lies in its band.
	Enough []Band
	End    int // index of the stage after the loop
}

// Band is a figure of the run so far with the band that it is to lie in, in its own unit.
type Band struct {
	Figure   figure.Request
	Min, Max float64
}

// Again ends a pass of a loop.
type Again struct{ Head int }

// When chooses: its stages follow, Otherwise is where the others begin.
type When struct {
	If        string
	Figure    *figure.Request
	Min, Max  float64 // the band of the figure in which the stages are done
	Otherwise int
}

// Skip leads over the stages that were not chosen.
type Skip struct{ To int }

// Kind implements Action; so do the methods below.
func (*Set) Kind() string     { return "set" }
func (*Hold) Kind() string    { return "hold" }
func (*Rest) Kind() string    { return "rest" }
func (*Watch) Kind() string   { return "watch" }
func (*Grid) Kind() string    { return "grid" }
func (*Play) Kind() string    { return "play" }
func (*Seek) Kind() string    { return "seek" }
func (*Acquire) Kind() string { return "acquire" }
func (*Ask) Kind() string     { return "ask" }
func (*Signal) Kind() string  { return "signal" }
func (*Repeat) Kind() string  { return "repeat" }
func (*Again) Kind() string   { return "again" }
func (*When) Kind() string    { return "when" }
func (*Skip) Kind() string    { return "skip" }

// Kind is charge or discharge.
func (d *Drive) Kind() string {
	if d.Discharge {
		return "discharge"
	}
	return "charge"
}

// Control tells whether an action only decides which stage is next.
func Control(a Action) bool {
	switch a.(type) {
	case *Repeat, *Again, *When, *Skip:
		return true
	}
	return false
}

// AnswerName is how conditions call an answer: "answer.ambient".
func AnswerName(into string) string { return "answer." + into }

// AnswerUnit is the unit of a number that is asked for.
func (a *Ask) AnswerUnit() (quantity.Unit, error) {
	if a.Unit == "" {
		return quantity.Unit{Factor: 1}, nil
	}
	return quantity.ParseUnit(a.Unit)
}
