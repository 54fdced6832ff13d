package kinds

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/core/waveform"
)

// CaptureKind takes fast waveforms.
var CaptureKind = procedure.Kind{
	Word: "capture", About: "captures fast waveforms", Keys: procedure.Bounded, Read: readCapture,
}

// Capture arms a scope, does something, and fetches the waveforms.
type Capture struct {
	Name     string
	Seat     string
	Channels []Captured
	Span     float64
	Samples  int
	Before   float64 // share of the span
	Trigger  *waveform.Trigger
	// Do is set once the scope waits, Back before each capture and after the last.
	Do, Back []procedure.Setting
	// Settle is waited for after Back, s; Within is how long the trigger is waited for.
	Settle, Within float64
	Times          int
	// Bears is what the load bears from Do to Back, W: each capture begins when it may; 0: nothing is said.
	Bears float64
}

// Captured is one channel of a capture.
type Captured struct {
	waveform.Input
	// Auto lets the range be chosen by what was captured.
	Auto bool
	// Of is voltage or current, as far as the procedure says so; else a plain number.
	Of quantity.Dimension
}

// Defaults of a capture.
const (
	usualSamples = 10_000
	mostSamples  = 10_000_000
	usualBefore  = 0.1
	usualWithin  = 5.0 // s
	mostCaptures = 1000
)

// Kind implements procedure.Action.
func (*Capture) Kind() string { return "capture" }

// Duration implements procedure.Lasting.
func (c *Capture) Duration() float64 { return float64(c.Times) * (c.Settle + c.Span) }

// Extremes implements procedure.Moving.
func (c *Capture) Extremes(add func(column string, low, high float64)) {
	extremesOf(c.Do, add)
	extremesOf(c.Back, add)
}

// Feeds implements procedure.Feeding.
func (*Capture) Feeds() []figure.Need { return []figure.Need{figure.Capture} }

// CapturedChannels implements procedure.Capturing.
func (c *Capture) CapturedChannels() (names []string) {
	for _, k := range c.Channels {
		names = append(names, k.Name)
	}
	return names
}

// Setup is what is asked of the scope at first.
func (c *Capture) Setup() waveform.Setup {
	s := waveform.Setup{Span: c.Span, Samples: c.Samples, Before: c.Before, Trigger: c.Trigger, Within: c.Within}
	for _, k := range c.Channels {
		s.Channels = append(s.Channels, k.Input)
	}
	return s
}

// Shoots implements procedure.Shooting.
func (c *Capture) Shoots() (seat string, setup waveform.Setup, why string) {
	switch {
	case len(c.Do)+len(c.Back) > 0:
		why = "it sets something"
	case c.Times > 1 || c.Settle > 0:
		why = "it takes several"
	}
	for _, k := range c.Channels {
		if k.Auto && why == "" {
			why = "the range of " + k.Name + " is to be found by trying"
		}
	}
	return c.Seat, c.Setup(), why
}

// FramesEvery implements procedure.Sampled.
func (c *Capture) FramesEvery() float64 { return math.Max(c.Span/4, 5e-3) }

// Words implements procedure.Worded.
func (c *Capture) Words() string {
	words := fmt.Sprintf("%s of %s", procedure.SpanWords(c.Span), join(c.CapturedChannels()))
	if c.Times > 1 {
		words += fmt.Sprintf(", %d times", c.Times)
	}
	return words
}

func join(names []string) string {
	words := ""
	for i, n := range names {
		switch {
		case i == 0:
		case i == len(names)-1:
			words += " and "
		default:
			words += ", "
		}
		words += n
	}
	return words
}

// Run implements stage.Runnable.
func (c *Capture) Run(*stage.Parts) stage.Runner { return &captureRunner{spec: c} }

func readCapture(r *procedure.Reader, common *procedure.Common, n document.Node) procedure.Action {
	c := &Capture{Name: common.Name, Seat: "scope", Samples: usualSamples, Before: usualBefore, Times: 1}
	var trigger document.Node
	n.Fields(map[string]func(document.Node){
		"seat":     func(n document.Node) { c.Seat = n.Text() },
		"channels": func(n document.Node) { c.readChannels(n) },
		"span": func(n document.Node) {
			if c.Span = r.Value(n, quantity.Time); c.Span <= 0 {
				n.Fail("a capture lasts more than no time")
			}
		},
		"samples": func(n document.Node) { c.Samples = n.Whole(10, mostSamples) },
		"before": func(n document.Node) {
			if c.Before = r.Value(n, quantity.Number); c.Before < 0 || c.Before > 0.95 {
				n.Fail("before is the share of the span that lies before the trigger, 0 to 95 %%")
			}
		},
		"trigger": func(n document.Node) { trigger = n },
		"do":      func(n document.Node) { c.Do = r.Settings(n, false) },
		"back":    func(n document.Node) { c.Back = r.Settings(n, false) },
		"settle":  func(n document.Node) { c.Settle = r.Value(n, quantity.Time) },
		"times":   func(n document.Node) { c.Times = n.Whole(1, mostCaptures) },
		"bears": func(n document.Node) {
			if c.Bears = r.Value(n, quantity.Power); c.Bears <= 0 {
				n.Fail("what the load bears is more than nothing")
			}
			if _, ok := r.Seat(seats.DefaultOutput); !ok {
				n.Fail("the procedure needs no load that could bear it; add it under needs: {load: {}}")
			}
		},
	}, "channels", "span")
	if _, ok := r.Seat(c.Seat); !ok {
		n.Fail("the procedure needs no %s; add it under needs: {%s: {}}", c.Seat, c.Seat)
	}
	if trigger.Present() {
		c.readTrigger(trigger)
	}
	c.Within = cmp.Or(common.Stage.Within, usualWithin)
	if c.Times > 1 && len(c.Do) > 0 && len(c.Back) == 0 {
		n.Fail("what is done several times must be undone between; say with back what is set before each")
	}
	return c
}

// readChannels reads {output: {range: 200 mV, coupling: ac}}, or a list of names.
func (c *Capture) readChannels(n document.Node) {
	if n.IsList() {
		for _, item := range n.Items() {
			c.Channels = append(c.Channels, Captured{Input: waveform.Input{Name: item.Text()}, Auto: true})
		}
		return
	}
	for _, e := range n.Entries() {
		k := Captured{Input: waveform.Input{Name: e.Key}, Auto: true}
		if e.Value.Present() {
			e.Value.Fields(map[string]func(document.Node){
				"range": func(n document.Node) {
					if n.Text() == "auto" {
						return
					}
					k.Auto, k.Range = false, k.value(n)
					if k.Range <= 0 {
						n.Fail("a range is more than 0, from the lowest to the highest value, or auto")
					}
				},
				"offset":   func(n document.Node) { k.Offset = k.value(n) },
				"coupling": func(n document.Node) { k.AC = n.Word("dc", "ac") == "ac" },
				"bandwidth": func(n document.Node) {
					if k.Bandwidth = n.Quantity(quantity.Frequency).Value; k.Bandwidth <= 0 {
						n.Fail("a bandwidth is more than 0")
					}
				},
			})
		}
		c.Channels = append(c.Channels, k)
	}
	if len(c.Channels) == 0 {
		n.Fail("name the channels that are captured, as the bay's scope has its probes: {output: {}, input: {}}")
	}
}

// value reads volts or amps; all of one channel must be the same.
func (k *Captured) value(n document.Node) float64 {
	dim := quantity.Voltage
	if q, err := quantity.Parse(n.Text()); err == nil && q.Dim == quantity.Current {
		dim = quantity.Current
	}
	if k.Of != (quantity.Dimension{}) && k.Of != dim {
		n.Fail("%s is in %s elsewhere", k.Name, k.Of)
	}
	k.Of = dim
	return n.Quantity(dim).Value
}

func (c *Capture) readTrigger(n document.Node) {
	t := &waveform.Trigger{}
	var level document.Node
	n.Fields(map[string]func(document.Node){
		"channel": func(n document.Node) { t.Channel = n.Word(c.CapturedChannels()...) },
		"level":   func(n document.Node) { level = n },
		"slope":   func(n document.Node) { t.Falling = n.Word("rising", "falling") == "falling" },
	}, "channel", "level")
	for i := range c.Channels {
		if c.Channels[i].Name == t.Channel && level.Present() {
			t.Level = c.Channels[i].value(level)
		}
	}
	c.Trigger = t
}

// captureRunner takes one capture after another: what was done is undone, the scope armed, it is done, and fetched. A
// range that is chosen by itself is chosen again where a capture is clipped, or uses little of it.
type captureRunner struct {
	spec    *Capture
	capture captureState
}

// capturePhase is what a capture does now.
type capturePhase string

const (
	captureWaitsItsTurn capturePhase = "afford" // until the load may bear it

	captureBack   capturePhase = "back"   // what was done is undone, and settles
	captureArming capturePhase = "arming" // the scope is told
	captureWaits  capturePhase = "waits"  // for the trigger and the samples
	captureAfter  capturePhase = "after"  // the last is taken, and what was done is undone
)

type captureState struct {
	Phase capturePhase `json:"phase"`
	Of    int          `json:"of"`   // from 1
	Shot  int          `json:"shot"` // counts what was asked of the scope
	Again int          `json:"again,omitempty"`
	Since float64      `json:"since"`
	Done  bool         `json:"done,omitempty"` // what is to be done was commanded
	// Anew says that the capture begins anew with the next frame.
	Anew bool `json:"anew,omitempty"`
	// Inputs are the ranges that were chosen.
	Inputs []waveform.Input    `json:"inputs"`
	Sent   []procedure.Setting `json:"sent,omitempty"`
}

// mostAgain bounds how often the range of one capture is chosen again.
const mostAgain = 8

func (r *captureRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	shot := r.capture.Shot
	r.capture = captureState{Of: 1, Shot: shot}
	for _, k := range r.spec.Channels {
		r.capture.Inputs = append(r.capture.Inputs, k.Input)
	}
	return r.begin(m.Now())
}

// begin begins one capture.
func (r *captureRunner) begin(t float64) ([]stage.Effect, stage.Verdict) {
	r.capture.Since, r.capture.Done = t, false
	r.capture.Phase = captureBack
	if len(r.spec.Back) > 0 {
		return r.command(r.spec.Back), stage.GoesOn
	}
	if r.spec.Settle > 0 {
		return nil, stage.GoesOn
	}
	return r.inTurn()
}

func (r *captureRunner) command(settings []procedure.Setting) []stage.Effect {
	r.capture.Sent = settings
	return []stage.Effect{stage.Command{Settings: settings}}
}

// inTurn arms the scope when the load may bear what is about to be done.
func (r *captureRunner) inTurn() ([]stage.Effect, stage.Verdict) {
	if r.spec.Bears == 0 {
		return r.arm()
	}
	r.capture.Phase = captureWaitsItsTurn
	return []stage.Effect{stage.Afford{Seat: seats.DefaultOutput, Watts: r.spec.Bears, Seconds: r.spec.Span}},
		stage.GoesOn
}

// Afforded implements stage.Affording.
func (r *captureRunner) Afforded(_ *stage.Machine, e stage.Afforded) ([]stage.Effect, stage.Verdict) {
	if r.capture.Phase != captureWaitsItsTurn {
		return nil, stage.GoesOn
	}
	r.capture.Since = e.T
	return r.arm()
}

func (r *captureRunner) arm() ([]stage.Effect, stage.Verdict) {
	r.capture.Phase = captureArming
	r.capture.Shot++
	setup := r.spec.Setup()
	setup.Channels = slices.Clone(r.capture.Inputs)
	return []stage.Effect{stage.Arm{Seat: r.spec.Seat, Shot: r.capture.Shot, Setup: setup}}, stage.GoesOn
}

func (r *captureRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	effects := []stage.Effect{stage.Commanded(t, r.capture.Sent)}
	r.capture.Since = t
	switch {
	case r.capture.Phase == captureAfter:
		return effects, stage.Over
	case r.capture.Phase == captureBack && r.spec.Settle == 0:
		more, v := r.inTurn()
		return append(effects, more...), v
	}
	return effects, stage.GoesOn
}

func (r *captureRunner) Frame(_ *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if r.capture.Anew {
		r.capture.Anew = false
		return r.begin(f.T)
	}
	if r.capture.Phase == captureBack && f.T-r.capture.Since >= r.spec.Settle {
		return r.inTurn()
	}
	return nil, stage.GoesOn
}

// Armed implements stage.Capturing.
func (r *captureRunner) Armed(_ *stage.Machine, e stage.Armed) ([]stage.Effect, stage.Verdict) {
	if e.Shot != r.capture.Shot || r.capture.Phase != captureArming {
		return nil, stage.GoesOn
	}
	r.capture.Phase, r.capture.Since = captureWaits, e.T
	if len(r.spec.Do) == 0 {
		return nil, stage.GoesOn
	}
	r.capture.Done = true
	return r.command(r.spec.Do), stage.GoesOn
}

// Captured implements stage.Capturing.
func (r *captureRunner) Captured(m *stage.Machine, e stage.Captured) ([]stage.Effect, stage.Verdict) {
	if e.Shot != r.capture.Shot || r.capture.Phase != captureWaits && r.capture.Phase != captureArming {
		return nil, stage.GoesOn
	}
	if e.Missed != "" {
		return nil, m.InVain(e.Missed)
	}
	if r.rangesAgain(e.Channels) {
		r.capture.Again++
		return r.begin(e.T)
	}
	kept := m.NewCapture(r.spec.Name, r.capture.Of, r.capture.Since, e.Channels)
	label := fmt.Sprintf("captured, %d of %d", r.capture.Of, r.spec.Times)
	effects := []stage.Effect{stage.Taken{Capture: kept}, stage.NewMark(r.capture.Since, record.MarkCapture, label)}
	r.capture.Again = 0
	if r.capture.Of < r.spec.Times {
		r.capture.Of++
		more, v := r.begin(e.T)
		return append(effects, more...), v
	}
	if len(r.spec.Back) > 0 && r.capture.Done {
		r.capture.Phase = captureAfter
		return append(effects, r.command(r.spec.Back)...), stage.GoesOn
	}
	return effects, stage.Over
}

// usedLeast and usedRight are the shares of a range that a waveform uses at least, and best.
const usedLeast, usedRight, wider = 0.3, 0.7, 3

// rangesAgain chooses the ranges anew where a capture is clipped or uses little of them; it tells whether it did.
// What was done and cannot be undone is not done twice.
func (r *captureRunner) rangesAgain(channels []record.Channel) (changed bool) {
	if r.capture.Again >= mostAgain || r.capture.Done && len(r.spec.Back) == 0 {
		return false
	}
	for i, k := range r.spec.Channels {
		if !k.Auto || i >= len(channels) {
			continue
		}
		in, c := &r.capture.Inputs[i], channels[i]
		span := c.High - c.Low
		switch {
		case c.Clipped:
			// A waveform that stands at one end has its middle there.
			in.Range, in.Offset, changed = c.Range*wider, (c.High+c.Low)/2, true
		case span < usedLeast*c.Range && c.Range > 1.01*c.Finest && (in.Range == 0 || r.capture.Again < mostAgain/2):
			next := math.Max(span/usedRight, c.Finest)
			if next < 0.8*c.Range {
				in.Range, in.Offset, changed = next, (c.High+c.Low)/2, true
			}
		}
	}
	return changed
}

// Leave implements stage.Leaving.
func (r *captureRunner) Leave() []stage.Effect { return []stage.Effect{stage.Disarm{}} }

func (r *captureRunner) Progress(*stage.Machine) (share, left float64, detail string) {
	n := float64(r.spec.Times)
	detail = fmt.Sprintf("capture %d of %d", r.capture.Of, r.spec.Times)
	if r.capture.Phase == captureWaitsItsTurn {
		detail += ", waits until the load may bear it"
	}
	return (float64(r.capture.Of) - 1) / n, (n - float64(r.capture.Of) + 1) * (r.spec.Settle + r.spec.Span), detail
}

// Shift begins the present capture anew: what the scope saw of it is worth nothing after a pause.
func (r *captureRunner) Shift(seconds float64) {
	r.capture.Since += seconds
	if r.capture.Phase != captureAfter {
		r.capture.Anew = true
		r.capture.Shot++
	}
}

func (r *captureRunner) Save() any { return r.capture }

func (r *captureRunner) Load(data []byte) error { return json.Unmarshal(data, &r.capture) }
