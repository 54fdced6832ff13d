package stage

import (
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// Event is what can happen to a run.
type Event interface{ event() }

// Frame is a sample of all quantities of the bay.
type Frame struct{ trace.Frame }

// Glimpse is a frame of which some readings are still to come. Only guards see it, and only what they know from it.
type Glimpse struct{ trace.Frame }

// Applied says that all commands of the last effects were carried out and acknowledged at time T, in seconds
// since the start.
type Applied struct{ T float64 }

// Due says that the time has come that [Machine.DueAt] named; T may be a little later.
type Due struct{ T float64 }

// Answered is what the operator replied to a prompt; Text was checked with [Machine.CheckAnswer].
type Answered struct {
	T    float64
	By   string
	Text string
}

// Requested says what the unit is asked for from now on, in a column of the program's Asked, SI.
type Requested struct {
	T      float64
	Column string
	Value  float64
}

// Figured is the figure that a [Need] asked for.
type Figured struct {
	T      float64
	Result figure.Result
}

// Failed says that the bench can no longer be trusted: a lost instrument, a refused command.
type Failed struct {
	T      float64
	Reason string
}

// Tripped says that the output of a seat went off without a command: a protection of its instrument, or somebody at
// its buttons.
type Tripped struct {
	T           float64
	Seat, Words string
}

// StopAsked says that somebody wants the run to end.
type StopAsked struct {
	T  float64
	By string
}

// Paused, Resumed and Skipped are what somebody does to a run by hand. While it is paused, setpoints stay and
// guards go on; a charge or discharge has its output switched off meanwhile, since a battery does not stand
// still. Skipped ends the present stage as if it had reached what it waits for.
type (
	Paused struct {
		T  float64
		By string
	}
	Resumed struct {
		T  float64
		By string
	}
	Skipped struct {
		T  float64
		By string
	}
)

// Interrupted says that nobody looked after the run since T, and that all its outputs were switched off. Guards
// go on watching; the run goes on with Returned, which sets again what was in force and moves every time that
// the present stage remembers.
type (
	Interrupted struct {
		T   float64
		Why string
	}
	Returned struct{ T float64 }
)

// Extended makes the present hold, rest or watch longer by Seconds, which may be negative.
type Extended struct {
	T       float64
	By      string
	Seconds float64
}

// Noted is a remark of somebody at an instant.
type Noted struct {
	T    float64
	By   string
	Text string
}

// Stated says in which state the unit is since At, which may be before T.
type Stated struct {
	T     float64
	By    string
	State string
	At    float64
}

func (Frame) event()       {}
func (Glimpse) event()     {}
func (Applied) event()     {}
func (Due) event()         {}
func (Answered) event()    {}
func (Requested) event()   {}
func (Figured) event()     {}
func (Failed) event()      {}
func (Tripped) event()     {}
func (StopAsked) event()   {}
func (Paused) event()      {}
func (Resumed) event()     {}
func (Skipped) event()     {}
func (Extended) event()    {}
func (Interrupted) event() {}
func (Returned) event()    {}
func (Noted) event()       {}
func (Stated) event()      {}

// Effect is what must be done now.
type Effect interface{ effect() }

// Command sets things, in the order given.
type Command struct {
	Settings []procedure.Setting
	// Paced is true for one of the many levels of a shape.
	Paced bool
}

// Perform has instruments carry out an action by programs of their own, all begun together.
type Perform struct{ Action procedure.Action }

// Halt stops what Perform began.
type Halt struct{}

// Ask shows a prompt to the operator until [Answered], or until a Dismiss.
type Ask struct {
	Prompt
	T float64 `json:"t"`
	// Until is the time at which it is given up, s since the start; 0: it waits for ever.
	Until float64 `json:"until,omitempty"`
	Stage string  `json:"stage"`
}

// Dismiss takes the prompt away.
type Dismiss struct{}

// Signal tells the operator something.
type Signal struct {
	Message string  `json:"message"`
	Sound   bool    `json:"sound"`
	T       float64 `json:"t"`
}

// RecordAll has every frame of a time kept, what has passed of it as far as it is still at hand.
type RecordAll struct{ From, Until float64 }

// Need asks for a figure of the run so far; [Figured] brings it.
type Need struct{ figure.Asked }

// Mark is a labelled instant of the run.
type Mark struct{ record.Mark }

// NewMark is a mark of which its kind says all there is for programs; MarkAbout says more.
func NewMark(t float64, kind record.MarkKind, label string) Mark {
	return MarkAbout(t, kind, label, nil)
}

// MarkAbout is a mark that says for programs what it is about.
func MarkAbout(t float64, kind record.MarkKind, label string, about record.About) Mark {
	return Mark{record.Mark{T: t, Kind: kind, Label: label, About: about}}
}

// Commanded is the mark of what was set.
func Commanded(t float64, settings []procedure.Setting) Mark {
	about := record.Commanded{Levels: map[string]float64{}, Words: map[string]string{}}
	for _, s := range settings {
		if s.Word != "" {
			about.Words[s.Column()] = s.Word
		} else {
			about.Levels[s.Column()] = s.Value
		}
	}
	return MarkAbout(t, record.MarkCommand, settingsLabel(settings), about)
}

func settingsLabel(settings []procedure.Setting) string {
	label := ""
	for i, s := range settings {
		if i > 0 {
			label += ", "
		}
		label += s.String()
	}
	return label
}

// Point is the settled average at one place of a grid, or a row of an acquire or seek.
type Point struct{ record.Point }

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
	// OpenContact is a guard that saw that the unit has no contact: it is to be put in anew, and nothing is known of it.
	OpenContact Ending = "open-contact"
)

func (Command) effect() {}
func (Perform) effect() {}
func (Halt) effect()    {}
func (Ask) effect()     {}
func (Dismiss) effect() {}
func (Signal) effect()  {}
func (Need) effect()    {}

func (RecordAll) effect() {}

func (Mark) effect()   {}
func (Point) effect()  {}
func (Finish) effect() {}
