package kinds

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// AcquireKind takes readings into a row.
var AcquireKind = procedure.Kind{
	Word: "acquire", About: "takes readings into a row", Keys: procedure.Waits, Read: readAcquire,
}

// Acquire takes readings into a named row.
type Acquire struct {
	Row     string
	Columns []string
	Average float64 // s
	Times   int
	Every   float64 // s between the beginnings of repeated readings
	// Ask are the words in which a person is asked to take each reading, Times of them at least; empty: they are taken one
	// after the other.
	Ask    string
	Limits map[string]stage.TakeLimit // of what a person takes
	// Waits says when readings end that are taken for as long as something lasts; nil: there are Times of them.
	Waits *Hold
}

// Kind implements procedure.Action.
func (*Acquire) Kind() string { return "acquire" }

// Ends implements procedure.Ending.
func (a *Acquire) Ends() procedure.Ends { return procedure.Ends{Waits: a.Waits != nil} }

// Duration implements procedure.Lasting.
func (a *Acquire) Duration() float64 {
	if a.Waits != nil {
		return math.Max(a.Waits.Duration(), a.Average)
	}
	return float64(a.Times-1)*math.Max(a.Every, a.Average) + a.Average
}

// Reads implements procedure.Reading.
func (a *Acquire) Reads() []string {
	if a.Waits != nil {
		return slices.Concat(a.Columns, a.Waits.Reads())
	}
	return a.Columns
}

// FramesEvery implements procedure.Sampled.
func (a *Acquire) FramesEvery() float64 {
	if a.Waits != nil {
		return math.Min(a.Average/8, a.Waits.FramesEvery())
	}
	return a.Average / 8
}

// Words implements procedure.Worded.
func (a *Acquire) Words() string {
	if a.Waits != nil {
		return fmt.Sprintf("row %q, every %s, %s", a.Row, procedure.SpanWords(math.Max(a.Every, a.Average)), a.Waits.Words())
	}
	return fmt.Sprintf("row %q, %d × %s", a.Row, a.Times, procedure.SpanWords(a.Average))
}

// Run implements stage.Runnable.
func (a *Acquire) Run(p *stage.Parts) stage.Runner {
	r := &acquireRunner{name: p.Stage.Name, spec: a}
	switch {
	case a.Waits != nil:
		return &lastingRunner{acquireRunner: r, hold: a.Waits.runner(p, nil)}
	case a.Ask != "":
		return &takeRunner{acquireRunner: r}
	}
	return r
}

// readAcquire reads the taking of readings into a row.
func readAcquire(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	a := &Acquire{Row: c.Name, Times: 1, Average: 0.2}
	var limits, times, stable document.Node
	n.Fields(map[string]func(document.Node){
		"into": func(n document.Node) { a.Row = n.Text() },
		"quantities": func(n document.Node) {
			for _, item := range n.Items() {
				if column := r.Column(item); column != "" {
					a.Columns = append(a.Columns, column)
				}
			}
		},
		"average": func(n document.Node) {
			if a.Average = r.Value(n, quantity.Time); a.Average <= 0 {
				n.Fail("a reading is an average over some time; it must be more than 0")
			}
		},
		"ask":    func(n document.Node) { a.Ask = n.Text() },
		"limits": func(n document.Node) { limits = n },
		"times":  func(n document.Node) { times, a.Times = n, n.Whole(1, procedure.MostPlaces) },
		"every":  func(n document.Node) { a.Every = r.Value(n, quantity.Time) },
		"until":  func(n document.Node) { r.Until(c, n) },
		"stable": func(n document.Node) { stable = n },
		"within": func(n document.Node) { r.Within(c, n) },
	})
	a.readLimits(r, limits)
	if stable.Present() || c.Until != "" {
		a.lasts(r, c, n, times, stable)
	}
	r.Fills(a.Row, c.Line)
	return a
}

// lasts has readings taken for as long as something lasts.
func (a *Acquire) lasts(r *procedure.Reader, c *procedure.Common, n, times, stable document.Node) {
	a.Waits = &Hold{}
	if stable.Present() {
		a.Waits.Stable = readStable(r, stable)
	}
	switch {
	case times.Present():
		times.Fail("readings are taken until something holds; how many that are is not known before")
	case a.Ask != "":
		n.Fail("who takes the readings says when it is done; leave until and stable to a stage of its own")
	case a.Every <= 0:
		n.Fail("say with every how often a reading is taken until then")
	case c.Stage.Within == 0:
		n.Fail("the stage may never end: say within which time it must be so")
	}
}

// acquireRunner averages readings into a row.
type acquireRunner struct {
	stage.Idle
	name string
	spec *Acquire
	row  acquireState
}

type acquireState struct {
	Since  float64          `json:"since"` // when the present reading began
	Done   int              `json:"done"`
	Asks   bool             `json:"asks,omitempty"`   // it waits for a person
	By     string           `json:"by,omitempty"`     // who takes the present one
	Frames stage.KeptFrames `json:"frames,omitempty"` // only in a snapshot
	frames []trace.Frame
}

func (r *acquireRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.row = acquireState{Since: m.Now()}
	return nil, stage.GoesOn
}

func (r *acquireRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	point, taken := r.take(m, f)
	if !taken {
		return nil, stage.GoesOn
	}
	effects := []stage.Effect{stage.Point{Point: point}, stage.NewMark(f.T, record.MarkPointDone,
		fmt.Sprintf("%s, reading %d of %d", r.spec.Row, r.row.Done, r.spec.Times))}
	if r.row.Done == r.spec.Times {
		return effects, stage.Over
	}
	return effects, stage.GoesOn
}

// take adds a frame to the present reading; taken tells whether that is complete.
func (r *acquireRunner) take(m *stage.Machine, f trace.Frame) (p record.Point, taken bool) {
	if f.T < r.row.Since {
		return p, false // the next reading has not begun
	}
	r.row.frames = append(r.row.frames, f)
	if !m.Enough(r.row.frames, r.spec.Columns, f.T-r.row.frames[0].T, r.spec.Average) {
		return p, false
	}
	p = m.NewPoint(r.name, r.row.frames, r.spec.Columns)
	p.Row = r.spec.Row
	r.row.Done++
	r.row.Since, r.row.frames = max(r.row.Since+r.spec.Every, f.T), nil
	return p, true
}

func (r *acquireRunner) Progress(*stage.Machine) (share, left float64, detail string) {
	n := float64(r.spec.Times)
	return float64(r.row.Done) / n, (n - float64(r.row.Done)) * max(r.spec.Every, r.spec.Average),
		fmt.Sprintf("%d of %d readings", r.row.Done, r.spec.Times)
}

func (r *acquireRunner) Shift(s float64) { r.row.Since, r.row.frames = r.row.Since+s, nil }

func (r *acquireRunner) Save() any {
	s := r.row
	s.Frames = stage.Keep(s.frames)
	return s
}

func (r *acquireRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.row); err != nil {
		return err
	}
	r.row.frames, r.row.Frames = r.row.Frames.Frames(), nil
	return nil
}
