// Package api holds the documents that the service and its clients exchange as JSON: the public interface as Go
// types. The same documents are described for every other language by the OpenAPI document beside this file.
package api

import (
	_ "embed"
	"encoding/json"
	"errors"
	"time"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
)

// OpenAPI is the OpenAPI 3.1 document of the service, as YAML.
//
//go:embed openapi.yaml
var OpenAPI []byte

// ErrBadRequest means that what was asked for is wrong in itself.
var ErrBadRequest = errors.New("the request is wrong")

// Problem is an error as RFC 9457 describes it. Detail says what happened and why, Remedy what to do.
type Problem struct {
	Type     string            `json:"type,omitempty"`
	Title    string            `json:"title"`
	Status   int               `json:"status"`
	Detail   string            `json:"detail,omitempty"`
	Remedy   string            `json:"remedy,omitempty"`
	Findings document.Findings `json:"findings,omitempty"`
	// Preflight says why a run was not started.
	Preflight []PreflightFinding `json:"preflight,omitempty"`
}

func (p *Problem) Error() string {
	text := p.Title
	if p.Detail != "" {
		text += ": " + p.Detail
	}
	if p.Remedy != "" {
		text += " (" + p.Remedy + ")"
	}
	return text
}

// Role is what an account may do; each role may do what the one before it may.
type Role string

// The roles.
const (
	Viewer   Role = "viewer"   // see everything
	Operator Role = "operator" // start and stop runs
	Engineer Role = "engineer" // push procedures and nameplates
	Admin    Role = "admin"    // accounts
)

// Setup creates the first account with the one-time code that the service printed.
type Setup struct {
	Code     string `json:"code"`
	Name     string `json:"name"`
	Password string `json:"password"`
}

// SignIn asks for a session or, with Client, for a token.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	// Client asks for a token in the answer instead of a cookie.
	Client bool `json:"client,omitempty"`
}

// Account is who is signed in, or one of the accounts.
type Account struct {
	Name string `json:"name"`
	Role Role   `json:"role"`
	// Token is given once, in the answer to a sign-in of a client.
	Token string `json:"token,omitempty"`
	// Disabled accounts can no longer sign in.
	Disabled bool `json:"disabled,omitempty"`
}

// AccountChange changes an account; what is absent stays as it is. A new password, another role, and that it is
// disabled withdraw its tokens.
type AccountChange struct {
	Password string `json:"password,omitempty"`
	Role     Role   `json:"role,omitempty"`
	Disabled *bool  `json:"disabled,omitempty"`
}

// PasswordChange changes one's own password, and withdraws all of one's other tokens.
type PasswordChange struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Token is what is known of a token that was given out.
type Token struct {
	ID      string `json:"id"`
	Account string `json:"account"`
	// Kind is "session" of a browser, "client" of the command line and programs, or "local" of this machine.
	Kind      string    `json:"kind"`
	Label     string    `json:"label,omitempty"` // from where it was asked for
	IssuedAt  time.Time `json:"issuedAt"`
	ExpiresAt time.Time `json:"expiresAt"`
	// Own says that the request was made with it.
	Own bool `json:"own,omitempty"`
}

// JournalCheck is what came of holding every entry of the journal against its seal.
type JournalCheck struct {
	Entries  int `json:"entries"`
	Unsealed int `json:"unsealed"` // from before entries were sealed
	// Last is the newest seal; whoever keeps it elsewhere can tell whether the end of the journal was cut off.
	Last string `json:"last,omitempty"`
	// Broken is the first entry that is not as it was written, Why says what is wrong; absent where all is well.
	Broken uint   `json:"broken,omitempty"`
	Why    string `json:"why,omitempty"`
}

// RecordsCheck is what came of reading the whole database.
type RecordsCheck struct {
	Whole   bool         `json:"whole"`
	Why     string       `json:"why,omitempty"` // it is not
	Journal JournalCheck `json:"journal"`
}

// RecordsCopy is a copy of all records in a file.
type RecordsCopy struct {
	File  string    `json:"file"`
	At    time.Time `json:"at"`
	Bytes int64     `json:"bytes"`
	// Runs, Entries of the journal and the schema are known of a copy that was read.
	Runs    int `json:"runs,omitempty"`
	Entries int `json:"entries,omitempty"`
	Schema  int `json:"schema,omitempty"`
}

// RecordsCopies are the copies that the service makes by itself, the newest first; an empty folder: it makes none.
type RecordsCopies struct {
	Folder string        `json:"folder,omitempty"`
	Every  Span          `json:"every,omitempty"`
	Keep   int           `json:"keep,omitempty"`
	Why    string        `json:"why,omitempty"` // the last one could not be made
	Copies []RecordsCopy `json:"copies"`
}

// NewAccount adds an account.
type NewAccount struct {
	Name     string `json:"name"`
	Role     Role   `json:"role"`
	Password string `json:"password"`
}

// Health tells whether the service works.
type Health struct {
	Status  string `json:"status"` // "ok" or "degraded"
	Version string `json:"version"`
	// SetUp is false until the first account was made.
	SetUp    bool      `json:"setUp"`
	Now      time.Time `json:"now"`
	Problems []string  `json:"problems,omitempty"`
}

// BayState is what a bay is doing.
type BayState string

// The states of a bay.
const (
	BayIdle     BayState = "idle"
	BayStarting BayState = "starting"
	BayLive     BayState = "live"
	BayEnding   BayState = "ending" // outputs are being made safe
	// BayAlarm means that an output could not be confirmed off, or an instrument does not answer.
	BayAlarm BayState = "alarm"
)

// Bay is a place where one unit at a time is tested.
type Bay struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	State BayState `json:"state"`
	// Alarm says what is wrong and what to do.
	Alarm string `json:"alarm,omitempty"`
	Seats []Seat `json:"seats"`
	// Run is the live run, or the last one.
	Run *RunSummary `json:"run,omitempty"`
	// Progress, Guards and Stages are of the live run.
	Progress *stage.Progress    `json:"progress,omitempty"`
	Guards   []stage.GuardState `json:"guards,omitempty"`
	Stages   []StageSummary     `json:"stages,omitempty"`
	// Prompt is what the operator is asked, and Adjustable what may be changed during the run.
	Prompt     *stage.Ask   `json:"prompt,omitempty"`
	Adjustable []Adjustable `json:"adjustable,omitempty"`
	// Readings by column, in the column's unit; a missing reading is null.
	Readings map[string]*float64 `json:"readings"`
	// Rated is what columns read when the unit works as it is rated, in their units, as far as its nameplate says.
	Rated map[string]float64 `json:"rated,omitempty"`
	// ReadAt is when the readings were taken.
	ReadAt time.Time `json:"readAt"`
	// FrameRate is frames a second of bench time over the last second.
	FrameRate float64 `json:"frameRate"`
	// SafeSince is when the outputs were last confirmed off; absent while they may be on.
	SafeSince *time.Time `json:"safeSince,omitempty"`
	// Moving is true while an output may be on of a bay at which something moves.
	Moving bool `json:"moving,omitempty"`
	// Cover tells whether what stands behind an interlock may be opened; absent where nothing does.
	Cover *Cover `json:"cover,omitempty"`
	// StillThere asks whether somebody is there whose outputs are on by hand; absent while nobody is asked.
	StillThere *StillThere `json:"stillThere,omitempty"`
	// Held says why nothing begins in the bay by itself, and with House set why nothing may be energised at all.
	Held *Held `json:"held,omitempty"`
}

// Cover is what stands between a person and high volts. It may be opened only where every output behind it is off and
// the volts that were read just now are harmless; Why says what is in the way.
type Cover struct {
	SafeToOpen bool   `json:"safeToOpen"`
	Why        string `json:"why,omitempty"`
	// Volts are the highest that are read behind it; absent: they are not known.
	Volts *float64 `json:"volts,omitempty"`
}

// StillThere is the question whether somebody is there; without an answer the outputs go off.
type StillThere struct {
	OffAt time.Time `json:"offAt"`
}

// Held is a latch: after a stop nothing goes on by itself, until a person says so.
type Held struct {
	Why string    `json:"why"`
	By  string    `json:"by"`
	At  time.Time `json:"at"`
	// House says that it holds every bay, and that nobody may begin anything before somebody says go on.
	House bool `json:"house,omitempty"`
}

// StageSummary is a stage of the procedure that a bay executes.
type StageSummary struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	// Path are the names of the stages around it, outermost first.
	Path []string `json:"path,omitempty"`
	// Began is the bench time at which it began, s; absent for stages to come.
	Began *float64 `json:"began,omitempty"`
	// Estimate is how long it should take, s; 0 if that depends on a condition.
	Estimate float64 `json:"estimate"`
}

// Seat is a function of a bay and the channel that fills it.
type Seat struct {
	Name       string `json:"name"`
	Instrument string `json:"instrument"`
	Channel    int    `json:"channel"`
	// Gang is how several channels work as one; the first is named.
	Gang string `json:"gang,omitempty"`
	// Energised is true from before the output is switched on until it is read back as off.
	Energised bool `json:"energised"`
	// Measures is what volts and amps are, "ac", "dc" or "both", where that is known.
	Measures string    `json:"measures,omitempty"`
	Controls []Control `json:"controls"`
}

// Instrument is a device on the bench.
type Instrument struct {
	Name       string `json:"name"`
	Address    string `json:"address"`
	Dialect    string `json:"dialect"`
	Identity   string `json:"identity,omitempty"`
	Healthy    bool   `json:"healthy"`
	Problem    string `json:"problem,omitempty"`
	Calibrated string `json:"calibrated,omitempty"`
	Due        string `json:"due,omitempty"`
	Messages   uint64 `json:"messages"`
	Errors     uint64 `json:"errors"`
	Connects   uint64 `json:"connects"`
	// Latency of the last answers, s.
	Median float64 `json:"median"`
	P99    float64 `json:"p99"`
	// Origin is "file" or "console": where it is configured.
	Origin string `json:"origin"`
	// Fills lists the seats, such as "bay1.source".
	Fills []string `json:"fills"`
}

// StartRun asks for a run.
type StartRun struct {
	Bay       string `json:"bay"`
	Procedure string `json:"procedure"`
	// Revision of the procedure; 0 is the newest.
	Revision   int               `json:"revision,omitempty"`
	Serial     string            `json:"serial"`
	Lot        string            `json:"lot,omitempty"`
	Parameters map[string]string `json:"parameters,omitempty"`
	// Parts are the serial numbers or makers of what is in the unit; none: as they are known of it.
	Parts map[string]string `json:"parts,omitempty"`
	// Vouched names checks of the preflight that block, for which the operator vouches after a look at the unit.
	Vouched []string `json:"vouched,omitempty"`
}

// RunSummary is a run in a list.
type RunSummary struct {
	ID        string     `json:"id"`
	Bay       string     `json:"bay"`
	Serial    string     `json:"serial"`
	Lot       string     `json:"lot,omitempty"`
	Procedure string     `json:"procedure"`
	Revision  int        `json:"revision"`
	Title     string     `json:"title"`
	Nameplate string     `json:"nameplate"`
	Operator  string     `json:"operator"`
	StartedAt time.Time  `json:"startedAt"`
	EndedAt   *time.Time `json:"endedAt,omitempty"`
	// State is "live", "done", "failed", "aborted" or "open-contact".
	State  string `json:"state"`
	Reason string `json:"reason,omitempty"`
	// Outcome is empty while the run is live and for a run without limits.
	Outcome string `json:"outcome,omitempty"`
	// Duration in bench time, s.
	Duration float64 `json:"duration"`
}

// Run is everything on record about a run except its traces.
type Run struct {
	RunSummary
	Frames      int64              `json:"frames"`
	TimeFactor  float64            `json:"timeFactor"`
	Parameters  map[string]string  `json:"parameters,omitempty"`
	Columns     []Column           `json:"columns"`
	Instruments []InstrumentUse    `json:"instruments"`
	Preflight   []PreflightFinding `json:"preflight"`
	Figures     []procedure.Judged `json:"figures"`
	Points      []record.Point     `json:"points"`
	Marks       []record.Mark      `json:"marks"`
	Curves      []procedure.Curve  `json:"curves"`
	// Played are the curves that are drawn from the points of grids and from the frames of what was played.
	Played []PlayedCurve `json:"played,omitempty"`
	// Rated is what columns read when the unit works as it is rated, in their units, as far as its nameplate says.
	Rated map[string]float64 `json:"rated,omitempty"`
	// Accuracies are those by which the figures have their uncertainty.
	Accuracies []Accuracy `json:"accuracies,omitempty"`
	// Breaks are the times in which the service was away.
	Breaks        []record.Break `json:"breaks,omitempty"`
	ProcedureText string         `json:"procedureText"`
	NameplateText string         `json:"nameplateText,omitempty"`
	// Sections are the parts of its report, in their order; none: all.
	Sections []string `json:"sections,omitempty"`
	// Parts were in the unit, by name.
	Parts map[string]string `json:"parts,omitempty"`
	// Asked is what the operator answered, in the order of time.
	Asked []Asked `json:"asked,omitempty"`
	// Attachments are the pictures and files that were joined to it, in the order of their instants.
	Attachments []Attachment `json:"attachments,omitempty"`
	// Pictures travel with the procedure, by name. They are fetched one by one.
	Pictures map[string][]byte `json:"-"`
}

// Asked is a prompt that was answered.
type Asked struct {
	T      float64 `json:"t"`
	Prompt string  `json:"prompt"`
	// Picture is the name of one that was shown beside it.
	Picture string `json:"picture,omitempty"`
	// Answer says who answered what.
	Answer string `json:"answer"`
}

// PlayedCurve is a curve of a run: through the points of a grid in the order in which they were taken, or over one way
// of what was played, with X rising. It is told in the units of its columns.
type PlayedCurve struct {
	procedure.Curve
	Label string `json:"label"`
	// Dots is true where each place was settled and measured for itself: a point of a grid.
	Dots bool      `json:"dots,omitempty"`
	X    []float64 `json:"x"`
	Y    []float64 `json:"y"`
}

// Accuracy is how well a column was read, in words: "to 80 V: ± (0.02 % + 3 mV)".
type Accuracy struct {
	Column string `json:"column"`
	Words  string `json:"words"`
}

// Column is a quantity of a run with the unit in which windows and exports give it.
type Column struct {
	Name string `json:"name"`
	Unit string `json:"unit"`
}

// InstrumentUse says which instrument filled a seat of a run.
type InstrumentUse struct {
	Seat       string `json:"seat"`
	Instrument string `json:"instrument"`
	Channel    int    `json:"channel"`
	Identity   string `json:"identity"`
	Dialect    string `json:"dialect"`
	Calibrated string `json:"calibrated,omitempty"`
	Due        string `json:"due,omitempty"`
}

// Window is a part of a run reduced to what a screen shows.
type Window struct {
	Run string `json:"run"`
	// From and To bound the whole record, s.
	From float64 `json:"from"`
	To   float64 `json:"to"`
	// Exact is true when every entry is a single frame, and Max is then left out.
	Exact  bool      `json:"exact"`
	T      []float64 `json:"t"`
	Traces []Trace   `json:"traces"`
}

// Trace is one quantity of a window; a missing value is null.
type Trace struct {
	Column
	Min []*float64 `json:"min"`
	Max []*float64 `json:"max,omitempty"`
}

// Procedure is the newest state of a procedure, or a revision of it.
type Procedure struct {
	Name     string `json:"name"`
	Revision int    `json:"revision"`
	Title    string `json:"title"`
	For      string `json:"for"`
	// Seats are those that a bay must have.
	Seats []string  `json:"seats"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Why   string    `json:"why,omitempty"`
	// Hash is the SHA-256 of the text: the same text has it under every name.
	// Released says who made it one that operators may run, and why; absent: it is a draft.
	Released *Released `json:"released,omitempty"`
	Hash     string    `json:"hash,omitempty"`
	// Text is left out in lists.
	Text string `json:"text,omitempty"`
	// Parameters of the procedure with their values, left out in lists.
	Parameters map[string]string `json:"parameters,omitempty"`
	// Duration is the known part of its time, s, left out in lists.
	Duration float64 `json:"duration,omitempty"`
}

// PushText stores a procedure or a nameplate.
type PushText struct {
	Text string `json:"text"`
	Why  string `json:"why,omitempty"`
}

// Nameplate is what a type of unit is rated for.
type Nameplate struct {
	Name  string    `json:"name"`
	Title string    `json:"title"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Text  string    `json:"text,omitempty"`
}

// JournalEntry says what was done, by whom, to what.
type JournalEntry struct {
	ID     uint      `json:"id"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Bay    string    `json:"bay,omitempty"`
	Run    string    `json:"run,omitempty"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
}

// ManualSet sets something on a seat by hand: a quantity with its unit, or a word for output and mode.
type ManualSet struct {
	Seat     string `json:"seat"`
	Quantity string `json:"quantity"`
	Value    string `json:"value"`
}

// StopRequest ends a run; the words go to the journal.
type StopRequest struct {
	Why string `json:"why,omitempty"`
}

// The kinds of live events.
const (
	EventBay    = "bay"    // data: Bay
	EventFrames = "frames" // data: Frames
	EventMark   = "mark"   // data: MarkEvent
	EventPoint  = "point"  // data: PointEvent
	EventRun    = "run"    // data: RunSummary; it began or ended
	EventSignal = "signal" // data: SignalEvent
	EventPlace  = "place"  // data: Place
	// EventReset means that the events since the given id are no longer known: fetch the state anew.
	EventReset = "reset" // data: {}
)

// Frames is a stretch of new frames of a bay, thinned to what a screen shows.
type Frames struct {
	Bay     string       `json:"bay"`
	Run     string       `json:"run"`
	Columns []string     `json:"columns"`
	T       []float64    `json:"t"`
	Values  [][]*float64 `json:"values"` // by column, in the column's unit
}

// MarkEvent is a mark of a live run.
type MarkEvent struct {
	Bay string `json:"bay"`
	Run string `json:"run"`
	record.Mark
}

// markEventJSON is a MarkEvent as JSON: all in one object.
type markEventJSON struct {
	Bay   string          `json:"bay"`
	Run   string          `json:"run"`
	T     float64         `json:"t"`
	Kind  record.MarkKind `json:"kind"`
	Label string          `json:"label"`
	About json.RawMessage `json:"about,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (e MarkEvent) MarshalJSON() ([]byte, error) {
	about, err := record.MarshalAbout(e.About)
	if err != nil {
		return nil, err
	}
	return json.Marshal(markEventJSON{e.Bay, e.Run, e.T, e.Kind, e.Label, about})
}

// UnmarshalJSON implements json.Unmarshaler.
func (e *MarkEvent) UnmarshalJSON(data []byte) error {
	var j markEventJSON
	if err := json.Unmarshal(data, &j); err != nil {
		return err
	}
	about, err := record.UnmarshalAbout(j.About)
	if err != nil {
		return err
	}
	*e = MarkEvent{Bay: j.Bay, Run: j.Run, Mark: record.Mark{T: j.T, Kind: j.Kind, Label: j.Label, About: about}}
	return nil
}

// PointEvent is a point of a live run.
type PointEvent struct {
	Bay   string       `json:"bay"`
	Run   string       `json:"run"`
	Point record.Point `json:"point"`
}
