package record

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Mark is a labelled instant of a run. The label is for people; About is what programs read.
type Mark struct {
	T     float64
	Kind  MarkKind
	Label string
	About About // nil: there is no more to it than its kind
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
	MarkWarning   MarkKind = "warning"    // a guard that only warns holds
	MarkBench     MarkKind = "bench"      // something about the instruments
	MarkEnd       MarkKind = "end"        // the run ended
	MarkTimeout   MarkKind = "timed-out"  // a wait was in vain
	MarkPointDone MarkKind = "point-done" // a point or row was measured
	MarkLoop      MarkKind = "loop"       // a pass of a loop began
	MarkTry       MarkKind = "try"        // a stage is tried again
	MarkHand      MarkKind = "hand"       // somebody paused, resumed, skipped, extended or changed something
	MarkNote      MarkKind = "note"       // somebody wrote a note
	MarkState     MarkKind = "state"      // the unit is in another state
	MarkCapture   MarkKind = "capture"    // a capture was triggered
	MarkOpening   MarkKind = "opening"    // a contact was open that shall be closed
	MarkEvent     MarkKind = "event"      // something happened about which every frame is kept
	MarkAnswer    MarkKind = "answer"     // the operator answered a prompt
	MarkSignal    MarkKind = "signal"     // the operator was told something
	MarkTrip      MarkKind = "trip"       // an output went off without a command
	MarkGap       MarkKind = "gap"        // readings stayed away
	MarkBreak     MarkKind = "break"      // the run was interrupted, or goes on
)

// About is what exactly a mark says, for programs.
type About interface {
	// is names the type in a stored mark.
	is() string
}

type (
	// Began is a stage that began: which kind of stage, by its word, and which of the program, from 0; −1: it is
	// not known.
	Began struct {
		Stage string `json:"stage"`
		Index int    `json:"index"`
	}
	// Commanded is what was set, by column: a number in SI, or a word for an output or a mode.
	Commanded struct {
		Levels map[string]float64 `json:"levels,omitempty"`
		Words  map[string]string  `json:"words,omitempty"`
	}
	// Ended is a charge or discharge that ended by rules of its own; of several that held at once the first of the
	// document stands first. Stage is the word of its kind.
	Ended struct {
		Stage string   `json:"stage"`
		Rules []string `json:"rules"`
	}
	// CutoffReached ends a step of a discharge that steps down; steps count from 1.
	CutoffReached struct {
		Step int `json:"step"`
	}
	// SteppedDown is the lower current, A without sign, that came into force after a step.
	SteppedDown struct {
		Step int     `json:"step"`
		Amps float64 `json:"amps"`
	}
)

func (Began) is() string         { return "began" }
func (Commanded) is() string     { return "commanded" }
func (Ended) is() string         { return "ended" }
func (CutoffReached) is() string { return "cutoff-reached" }
func (SteppedDown) is() string   { return "stepped-down" }

// abouts reads each type of About from JSON.
var abouts = map[string]func(data []byte) (About, error){
	Began{}.is():         read[Began],
	Commanded{}.is():     read[Commanded],
	Ended{}.is():         read[Ended],
	CutoffReached{}.is(): read[CutoffReached],
	SteppedDown{}.is():   read[SteppedDown],
	Missed{}.is():        read[Missed],
	Spread{}.is():        read[Spread],
	Scanned{}.is():       read[Scanned],
	Opening{}.is():       read[Opening],
	Watched{}.is():       read[Watched],
	State{}.is():         read[State],
}

func read[A About](data []byte) (About, error) {
	var a A
	return a, json.Unmarshal(data, &a)
}

// MarshalAbout writes what a mark says as a JSON object whose key "is" names its type; nil for nil.
func MarshalAbout(a About) ([]byte, error) {
	if a == nil {
		return nil, nil
	}
	body, err := json.Marshal(a)
	if err != nil {
		return nil, err
	}
	head := fmt.Appendf(nil, `{"is":%q`, a.is())
	if len(body) > len("{}") {
		head = append(head, ',')
	}
	return append(head, body[1:]...), nil
}

// UnmarshalAbout reads what MarshalAbout wrote. What this program does not know is nil: a newer program wrote it.
func UnmarshalAbout(data []byte) (About, error) {
	if len(data) == 0 || string(data) == "null" {
		return nil, nil
	}
	var head struct {
		Is string `json:"is"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return nil, fmt.Errorf("what a mark is about: %w", err)
	}
	read, known := abouts[head.Is]
	if !known {
		return nil, nil
	}
	about, err := read(data)
	if err != nil {
		return nil, fmt.Errorf("what a mark is about: %w", err)
	}
	return about, nil
}

// markJSON is a mark as JSON.
type markJSON struct {
	T     float64         `json:"t"`
	Kind  MarkKind        `json:"kind"`
	Label string          `json:"label"`
	About json.RawMessage `json:"about,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (m Mark) MarshalJSON() ([]byte, error) {
	about, err := MarshalAbout(m.About)
	if err != nil {
		return nil, err
	}
	return json.Marshal(markJSON{m.T, m.Kind, m.Label, about})
}

// UnmarshalJSON implements json.Unmarshaler.
func (m *Mark) UnmarshalJSON(data []byte) (err error) {
	var j markJSON
	if err := json.Unmarshal(data, &j); err != nil {
		return err
	}
	m.T, m.Kind, m.Label = j.T, j.Kind, j.Label
	m.About, err = UnmarshalAbout(j.About)
	return err
}

// AboutOfLabel is what a mark of an earlier version says: they had labels only, and this is the one place that
// reads them. Of a stage that began the kind is not told by its label; the program knows it.
func AboutOfLabel(kind MarkKind, label string) About {
	switch kind {
	case MarkCondition:
		kind, rules, ok := strings.Cut(label, " ended by ")
		if ok && (kind == "charge" || kind == "discharge") {
			return Ended{kind, strings.Split(rules, ", ")}
		}
		if step, ok := strings.CutPrefix(label, "cutoff, step "); ok {
			n, err := strconv.Atoi(step)
			if err == nil {
				return CutoffReached{n}
			}
		}
	case MarkCommand:
		if amps, ok := strings.CutPrefix(label, "stepped down to "); ok {
			x, err := strconv.ParseFloat(strings.TrimSuffix(amps, " A"), 64)
			if err == nil {
				return SteppedDown{Amps: x}
			}
		}
	}
	return nil
}

// StagesByName says of every beginning of a stage which kind it is, where its mark is of an earlier version.
func StagesByName(marks []Mark, kinds map[string]string) []Mark {
	told := slices.Clone(marks)
	for i, m := range told {
		if m.Kind == MarkStage && m.About == nil {
			told[i].About = Began{Stage: kinds[m.Label], Index: -1}
		}
	}
	return told
}
