package kinds

import (
	"cmp"
	"fmt"
	"math"

	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/stage"
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
	// Valid are figures of each capture with the bands in which it counts: one outside them was taken in vain.
	Valid []procedure.Band
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
	var trigger, valid document.Node
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
		"valid":   func(n document.Node) { valid = n },
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
	for _, item := range valid.Items() {
		if b, ok := r.BandOf(common, c, item); ok {
			c.Valid = append(c.Valid, b)
		}
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
