package api

import (
	"time"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/shape"
	"usherbench/core/stage"
)

// Doing is what somebody does to a live run by hand.
type Doing string

// What can be done to a run.
const (
	DoPause   Doing = "pause"
	DoResume  Doing = "resume"
	DoSkip    Doing = "skip"
	DoExtend  Doing = "extend"  // by Seconds
	DoNote    Doing = "note"    // Text
	DoLabel   Doing = "label"   // the state in which the unit is, as Text; At and Clock
	DoRequest Doing = "request" // what the unit is asked for: the column Parameter is at Value
	DoAnswer  Doing = "answer"  // Text
	DoAdjust  Doing = "adjust"  // Parameter to Value
)

// Doings lists what can be done to a run.
func Doings() []string {
	return []string{string(DoPause), string(DoResume), string(DoSkip), string(DoExtend), string(DoNote),
		string(DoLabel), string(DoRequest), string(DoAnswer), string(DoAdjust)}
}

// Intervention is something done to a live run by hand.
type Intervention struct {
	Do        Doing   `json:"do"`
	Text      string  `json:"text,omitempty"`
	Seconds   float64 `json:"seconds,omitempty"`
	Parameter string  `json:"parameter,omitempty"`
	Value     string  `json:"value,omitempty"`
	// At is since when the unit is in a state, by the clock of who says so, and Clock what that clock shows as it is
	// sent: clocks need not agree. Without them it is now.
	At    *time.Time `json:"at,omitempty"`
	Clock *time.Time `json:"clock,omitempty"`
}

// Adjustable is a parameter that may be changed during the run.
type Adjustable struct {
	Name  string `json:"name"`
	About string `json:"about,omitempty"`
	Value string `json:"value"`
	Min   string `json:"min,omitempty"`
	Max   string `json:"max,omitempty"`
}

// SignalEvent tells the operator something.
type SignalEvent struct {
	Bay string `json:"bay"`
	Run string `json:"run"`
	stage.Signal
}

// Draft is a procedure that is being written: its text, and what else is needed to check and rehearse it.
type Draft struct {
	Text string `json:"text"`
	// Nameplate is the text of one that is not stored; empty: the stored one that the procedure names.
	Nameplate string `json:"nameplate,omitempty"`
	// Parameters are values that are given for a run.
	Parameters map[string]string `json:"parameters,omitempty"`
	// Fault is a fault of the unit to rehearse with; empty: a healthy one.
	Fault  string `json:"fault,omitempty"`
	Serial string `json:"serial,omitempty"`
}

// Outline is a procedure taken apart for people: stages, parameters, shapes, findings.
type Outline struct {
	Name       string             `json:"name"`
	Title      string             `json:"title"`
	For        string             `json:"for"`
	Findings   document.Findings  `json:"findings"`
	Stages     []OutlineStage     `json:"stages"`
	Parameters []OutlineParameter `json:"parameters"`
	Guards     []string           `json:"guards"`
	// Duration is the known part of its time and Most with every wait at its bound, s.
	Duration float64 `json:"duration"`
	Most     float64 `json:"most"`
	// Names are what conditions may name: columns, parameters, ratings.
	Names []string `json:"names"`
}

// OutlineStage is a stage in an outline.
type OutlineStage struct {
	Name string   `json:"name"`
	Kind string   `json:"kind"`
	Path []string `json:"path"`
	// Line is where the stage stands in the text, from 1.
	Line     int     `json:"line"`
	Duration float64 `json:"duration"`
	Words    string  `json:"words"`
	// Tracks are the shapes of a play.
	Tracks []OutlineTrack `json:"tracks,omitempty"`
}

// OutlineTrack is a shape that a stage plays.
type OutlineTrack struct {
	Column string  `json:"column"`
	Unit   string  `json:"unit"`
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
	// Steepest in the unit per second, Shortest part in s.
	Steepest float64      `json:"steepest"`
	Shortest float64      `json:"shortest"`
	Knots    []shape.Knot `json:"knots"`
	// Handles are the segments that can be drawn with: those written as phrases.
	Handles []OutlineHandle `json:"handles"`
}

// OutlineHandle is a segment of a shape that stands in the text as a phrase.
type OutlineHandle struct {
	Item  int     `json:"item"`
	T0    float64 `json:"t0"`
	T1    float64 `json:"t1"`
	Level float64 `json:"level"` // at its end
}

// OutlineParameter is a parameter in an outline.
type OutlineParameter struct {
	Name       string `json:"name"`
	About      string `json:"about,omitempty"`
	Value      string `json:"value"`
	Adjustable bool   `json:"adjustable"`
}

// Difference is a line of two texts: in both, only in the old one, only in the new one.
type Difference struct {
	Kind string `json:"kind"`          // "same", "old", "new"
	Old  int    `json:"old,omitempty"` // line numbers from 1; 0: not in that text
	New  int    `json:"new,omitempty"`
	Text string `json:"text"`
}

// Rehearsal is a run on a model of the unit.
type Rehearsal struct {
	// Key names what was rehearsed: the same texts, values and fault have the same key.
	Key       string    `json:"key"`
	Procedure string    `json:"procedure"`
	Nameplate string    `json:"nameplate"`
	Fault     string    `json:"fault,omitempty"`
	At        time.Time `json:"at"`
	Ending    string    `json:"ending"`
	Reason    string    `json:"reason,omitempty"`
	Outcome   string    `json:"outcome,omitempty"`
	// Duration in s, Energy taken from the sources and Heat left in the unit in Wh.
	Duration float64  `json:"duration"`
	Energy   float64  `json:"energy"`
	Heat     float64  `json:"heat"`
	Hottest  *float64 `json:"hottest,omitempty"` // °C
	// Took is how long the computation took, s.
	Took    float64            `json:"took"`
	Columns []Column           `json:"columns"`
	T       []float64          `json:"t"`
	Values  [][]*float64       `json:"values"` // by column, in the column's unit
	Marks   []record.Mark      `json:"marks"`
	Figures []procedure.Judged `json:"figures"`
	// Spread says within what healthy units lie, by figure in order; nil where it was not computed.
	Spread []*Band `json:"spread,omitempty"`
}

// Band is a range, in a figure's unit.
type Band struct {
	Low  float64 `json:"low"`
	High float64 `json:"high"`
}

// Deviation is where a run left what its rehearsal foretells.
type Deviation struct {
	What string `json:"what"`
	// T0 and T1 bound it, s since the start of the run; both 0 for a figure.
	T0     float64 `json:"t0"`
	T1     float64 `json:"t1"`
	Column string  `json:"column,omitempty"`
	Words  string  `json:"words"`
}

// RunRehearsal is what a run's rehearsal foretold, laid over the run: its times are those of the run.
type RunRehearsal struct {
	Rehearsal
	Deviations []Deviation `json:"deviations"`
}

// JudgeAgain asks to compute figures and outcomes anew, with another text or with the one of the run.
type JudgeAgain struct {
	Run string `json:"run,omitempty"`
	Lot string `json:"lot,omitempty"`
	// Text is the changed procedure; empty: the one that ran.
	Text string `json:"text,omitempty"`
	Why  string `json:"why,omitempty"`
	// Adopt makes the new figures those of the run; the earlier ones stay on record.
	Adopt bool `json:"adopt"`
}

// Judgement is the figures of a run as they were judged at some time.
type Judgement struct {
	ID      uint               `json:"id"`
	Run     string             `json:"run"`
	Serial  string             `json:"serial"`
	By      string             `json:"by"`
	At      time.Time          `json:"at"`
	Why     string             `json:"why,omitempty"`
	Outcome string             `json:"outcome"`
	Figures []procedure.Judged `json:"figures"`
	// Before is the outcome that it replaces, and Changes say what is different.
	Before  string   `json:"before"`
	Changes []string `json:"changes"`
}

// Table is a table file as a procedure can carry it.
type Table struct {
	Text  string   `json:"text"` // CSV
	Names []string `json:"names"`
	Rows  int      `json:"rows"`
}
