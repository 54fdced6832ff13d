package procedure

import (
	"usherbench/core/figure"
)

// Action is what a stage does. A kind of stage says more about its actions by the interfaces below: whoever wants to
// know asks for one.
type Action interface {
	// Kind is the word of the procedure for it.
	Kind() string
}

type (
	// Lasting actions take a time that is known beforehand, s: the known part of it.
	Lasting interface{ Duration() float64 }
	// Moving actions set quantities to values; all that can occur lie between what they add, by column.
	Moving interface {
		Extremes(add func(column string, low, high float64))
	}
	// Visiting actions come to a setpoint at which something is measured.
	Visiting interface {
		Visits(column string, at func(value float64) bool) bool
	}
	// Commanding actions set each quantity to one value, which may be adjusted while they are under way.
	Commanding interface{ Commands() []Setting }
	// Reading actions read columns, by name.
	Reading interface{ Reads() []string }
	// Waiting actions wait for conditions of their own, beside the stage's until. Empty ones are left out.
	Waiting interface{ Conditions() []string }
	// Ending actions say how they come to an end.
	Ending interface{ Ends() Ends }
	// Feeding actions leave behind what a figure may need.
	Feeding interface{ Feeds() []figure.Need }
	// Capturing actions capture channels, by name.
	Capturing interface{ CapturedChannels() []string }
	// Charted actions move quantities so that curves over them are drawn from their frames.
	Charted interface{ Charted() }
	// Worded actions say in a few words what they do.
	Worded interface{ Words() string }
	// Sampled actions want frames at most so far apart when they are rehearsed, s.
	Sampled interface{ FramesEvery() float64 }
	// Instant actions are over as soon as what they set is in force, unless their stage waits for something.
	Instant interface{ Instant() }
	// Battered actions move charge into or out of a battery, and are watched for what it bears.
	Battered interface{ OfBattery() BatteryUse }
)

// Ends says how an action comes to an end.
type Ends struct {
	// Needed is true for one that goes on for ever unless it is given an end; Open for one that may.
	Needed, Open bool
	// Waits is true for one that waits for something, beside until; Bounded for one that may be bounded by within though
	// it does not.
	Waits, Bounded bool
}

// BatteryUse is what an action does to a battery.
type BatteryUse struct {
	Discharge bool
	// Seat is the one that does it.
	Seat string
	// Cutoff is the condition that ends a discharge; empty: none does, or it goes on with less current.
	Cutoff string
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
	Figure   figure.Asked
	Min, Max float64
}

// Again ends a pass of a loop.
type Again struct{ Head int }

// When chooses: its stages follow, Otherwise is where the others begin.
type When struct {
	If        string
	Figure    *figure.Asked
	Min, Max  float64 // the band of the figure in which the stages are done
	Otherwise int
}

// Skip leads over the stages that were not chosen.
type Skip struct{ To int }

// Kind implements Action; so do the methods below.
func (*Repeat) Kind() string { return "repeat" }
func (*Again) Kind() string  { return "again" }
func (*When) Kind() string   { return "when" }
func (*Skip) Kind() string   { return "skip" }

// Conditions implements Waiting.
func (a *Repeat) Conditions() []string { return []string{a.Until} }

// Conditions implements Waiting.
func (a *When) Conditions() []string { return []string{a.If} }

// Control tells whether an action only decides which stage is next.
func Control(a Action) bool {
	switch a.(type) {
	case *Repeat, *Again, *When, *Skip:
		return true
	}
	return false
}
