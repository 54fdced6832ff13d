package kinds

import (
	"encoding/json"
	"maps"
	"math"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// HoldKind keeps things as they are.
var HoldKind = procedure.Kind{
	Word: "hold", About: "keeps things as they are", Keys: procedure.Waits, Read: readHold,
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

// Kind implements procedure.Action.
func (*Hold) Kind() string { return "hold" }

// Duration implements procedure.Lasting: what is to be stable over a window lasts as long as that.
func (h *Hold) Duration() float64 {
	if h.Stable != nil {
		return math.Max(h.For, h.Stable.Window)
	}
	return h.For
}

// Ends implements procedure.Ending.
func (h *Hold) Ends() procedure.Ends { return procedure.Ends{Needed: true, Waits: h.Stable != nil} }

// Reads implements procedure.Reading.
func (h *Hold) Reads() []string {
	if h.Stable == nil {
		return nil
	}
	return []string{h.Stable.Column}
}

// FramesEvery implements procedure.Sampled.
func (h *Hold) FramesEvery() float64 {
	every := math.Inf(1)
	if h.For > 0 {
		every = h.For / 50
	}
	if h.Stable != nil {
		every = math.Min(every, h.Stable.Window/20)
	}
	return every
}

// Words implements procedure.Worded.
func (h *Hold) Words() string {
	switch {
	case h.Stable != nil:
		return "until " + h.Stable.Column + " is stable"
	case h.For > 0:
		return "for " + procedure.SpanWords(h.For)
	}
	return ""
}

// Run implements stage.Runnable.
func (h *Hold) Run(p *stage.Parts) stage.Runner { return h.runner(p, nil) }

// runner makes the runner of a hold, or of a rest, which switches something off first.
func (h *Hold) runner(p *stage.Parts, off []procedure.Setting) *holdRunner {
	r := &holdRunner{spec: *h, off: off, until: p.Condition(p.Stage.Until), within: p.Stage.Within, column: -1}
	if h.Stable != nil {
		r.column = p.Program.Columns.Index(h.Stable.Column)
	}
	return r
}

func readHold(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	h := holding(r, c, n, nil)
	return &h
}

// holding reads for, until, stable and within; more are keys that the caller reads.
func holding(r *procedure.Reader, c *procedure.Common, n document.Node, more map[string]func(document.Node)) (h Hold) {
	fields := map[string]func(document.Node){
		"for": func(n document.Node) {
			if h.For = r.Value(n, quantity.Time); h.For <= 0 {
				n.Fail("a hold lasts for more than no time")
			}
		},
		"until":  func(n document.Node) { r.Until(c, n) },
		"stable": func(n document.Node) { h.Stable = readStable(r, n) },
		"within": func(n document.Node) { r.Within(c, n) },
	}
	maps.Copy(fields, more)
	n.Fields(fields)
	return h
}

func readStable(r *procedure.Reader, n document.Node) *Stable {
	s := &Stable{}
	var band document.Node
	n.Fields(map[string]func(document.Node){
		"quantity": func(n document.Node) {
			s.Column = r.Column(n)
		},
		"window": func(n document.Node) { s.Window = r.Value(n, quantity.Time) },
		"band":   func(n document.Node) { band = n },
	}, "quantity", "window", "band")
	if kind, ok := quantity.KindOfColumn(s.Column); ok && band.Present() {
		s.Band = r.Value(band, kind.Unit.Dim.Per(quantity.Time))
	}
	return s
}

// holdRunner keeps things as they are for a time, until a condition, or until a quantity is stable. A rest
// switches the outputs off first. A watch without an end goes on until somebody ends it.
type holdRunner struct {
	spec   Hold
	off    []procedure.Setting // what a rest switches off
	until  *condition.Condition
	within float64
	column int // of the quantity that is to be stable
	hold   holdState
}

type holdState struct {
	stage.Wait
	// Extra is by how much somebody made it longer, s.
	Extra float64 `json:"extra,omitempty"`
	// Trend is what is known of the quantity that is to be stable, only in a snapshot.
	Trend *condition.TrendState `json:"trend,omitempty"`
	trend *condition.Trend
}

func (r *holdRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.hold = holdState{Wait: stage.Wait{Since: m.Now()}}
	if r.until != nil {
		r.until.Reset()
	}
	if len(r.off) > 0 {
		return []stage.Effect{stage.Command{Settings: r.off}}, stage.GoesOn
	}
	return nil, stage.GoesOn
}

func (r *holdRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	if len(r.off) == 0 {
		return nil, stage.GoesOn // the commands were those of the stage before
	}
	r.hold.Since = t
	return []stage.Effect{stage.Commanded(t, r.off)}, stage.GoesOn
}

func (r *holdRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if r.spec.Stable != nil && r.stable(f) {
		return []stage.Effect{stage.NewMark(f.T, record.MarkCondition, r.spec.Stable.Column+" is stable")}, stage.Over
	}
	if r.spec.For > 0 && f.T-r.hold.Since >= r.spec.For+r.hold.Extra {
		return nil, stage.Over
	}
	within := r.within
	if within > 0 {
		within = max(within+r.hold.Extra, 1e-9)
	}
	return m.Await(f, r.until, r.hold.Since, within)
}

// stable takes the frame into the window and tells whether the full window's slope, noise included, lies inside
// the band.
func (r *holdRunner) stable(f trace.Frame) bool {
	if r.column < 0 || r.column >= len(f.Values) || math.IsNaN(f.Values[r.column]) {
		return false // a missing reading
	}
	if r.hold.trend == nil {
		r.hold.trend = condition.NewTrend(r.spec.Stable.Window)
	}
	line, full := r.hold.trend.Push(f.T, f.Values[r.column])
	return full && line.Stable(r.spec.Stable.Band)
}

func (r *holdRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	past := m.Now() - r.hold.Since
	longest := r.spec.For
	if longest == 0 {
		longest = r.within
	}
	longest += r.hold.Extra
	if r.until != nil {
		detail = "until " + r.until.Text
	}
	if r.spec.Stable != nil {
		detail = "until " + r.spec.Stable.Column + " is stable"
	}
	if r.spec.For > 0 {
		left = max(longest-past, 0)
	}
	if longest <= 0 {
		return 0, 0, detail
	}
	return min(past/longest, 1), left, detail
}

// shift moves the window too: what was before a pause is as long ago as if there had been none.
func (r *holdRunner) Shift(s float64) {
	r.hold.Since += s
	stage.Shift(s, r.until)
	if r.hold.trend != nil {
		r.hold.trend.Shift(s)
	}
}

func (r *holdRunner) Extend(s float64) { r.hold.Extra += s }

func (r *holdRunner) Save() any {
	h := r.hold
	h.Wait = h.Wait.Saved(r.until)
	if h.trend != nil {
		state := h.trend.State()
		h.Trend = &state
	}
	return h
}

func (r *holdRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.hold); err != nil {
		return err
	}
	if r.until != nil && r.hold.Past != nil {
		r.until.Restore(*r.hold.Past)
	}
	if r.spec.Stable != nil && r.hold.Trend != nil {
		r.hold.trend = condition.NewTrend(r.spec.Stable.Window)
		r.hold.trend.Restore(*r.hold.Trend)
	}
	r.hold.Past, r.hold.Trend = nil, nil
	return nil
}
