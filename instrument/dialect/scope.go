package dialect

import (
	"slices"
	"time"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/instrument/scpi"
)

// Scope is how an instrument captures waveforms. Volts are those at its connectors.
type Scope struct {
	// Span, Samples and Before set the time base: s, a number, and the share before the trigger.
	Span, Samples, Before Setter
	// Range and Offset are of a channel, from its lowest to its highest value, and the middle of it.
	Range, Offset Setter
	// AC and DC couple a channel; Limit filters it, Full does not.
	AC, DC      Setter
	Limit, Full Setter
	// Source, Level, Rising and Falling set the trigger; Now takes none.
	Source, Level, Rising, Falling, Now Setter
	Arm, Stop                           Setter
	// Request has the instrument request service when the samples are there, sent behind Arm.
	Request Setter
	// Done asks whether the samples are there.
	Done Query
	// Scale gives what Gives names, in this order: start and step of the time, and what makes volts of a code.
	Scale ScaleQuery
	// Data gives the codes of a channel as a block.
	Data Query
	// Ranges that a channel has, V, increasing. Lowest and Highest are the codes at the ends of each.
	Ranges          []float64
	Lowest, Highest int16
	// Passes is the bandwidth without a filter, Hz; 0: not known. Most is how many samples a capture has at most.
	Passes float64
	Most   int
	// Reading and OfRange are the accuracy: shares of the value, and of the range. Stated: it is known.
	Reading, OfRange float64
	Stated           bool
}

// ScaleQuery is a question whose answer is a list of numbers with names.
type ScaleQuery struct {
	Message string
	Gives   []string
	Within  time.Duration
	Place   Place
}

// What a scale is made of.
const (
	ScaleStart = "start" // time of the first sample from the trigger, s
	ScaleStep  = "step"  // between two samples, s
	ScaleZero  = "zero"  // volts of the code 0
	ScaleCode  = "code"  // volts of a step of the code
)

var scaleParts = []string{ScaleStart, ScaleStep, ScaleZero, ScaleCode, "skip"}

// readScope reads how waveforms are captured.
func (r *reader) readScope(n document.Node) {
	if r.d.Protocol == Registers {
		n.Fail("waveforms are fetched as blocks of messages; registers have none")
		return
	}
	s := &Scope{Lowest: -32768, Highest: 32767, Most: 10_000}
	factored := func(to *Setter) func(document.Node) {
		return func(n document.Node) { *to = r.setter(n, "scope", quantity.Unit{Factor: 1}) }
	}
	plain := func(to *Setter) func(document.Node) { return func(n document.Node) { *to = r.plainSetter(n) } }
	n.Fields(map[string]func(document.Node){
		"span": factored(&s.Span), "samples": factored(&s.Samples), "before": factored(&s.Before),
		"range": factored(&s.Range), "offset": factored(&s.Offset), "arm": plain(&s.Arm), "stop": plain(&s.Stop),
		"coupling": func(n document.Node) {
			n.Fields(map[string]func(document.Node){"ac": plain(&s.AC), "dc": plain(&s.DC)})
		},
		"bandwidth": func(n document.Node) {
			n.Fields(map[string]func(document.Node){"limit": factored(&s.Limit), "full": plain(&s.Full),
				"passes": func(n document.Node) { s.Passes = n.Quantity(quantity.Frequency).Value }})
		},
		"trigger": func(n document.Node) {
			n.Fields(map[string]func(document.Node){"channel": plain(&s.Source), "level": factored(&s.Level),
				"rising": plain(&s.Rising), "falling": plain(&s.Falling), "now": plain(&s.Now)}, "channel", "level", "now")
		},
		"service request": plain(&s.Request),
		"done":            func(n document.Node) { s.Done = r.yesNo(n, "yes", "no") },
		"scale":           func(n document.Node) { s.Scale = r.readScale(n) },
		"data":            func(n document.Node) { s.Data = r.readData(n) },
		"codes": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"lowest":  func(n document.Node) { s.Lowest = int16(n.Whole(-32768, 32767)) },
				"highest": func(n document.Node) { s.Highest = int16(n.Whole(-32768, 32767)) },
			}, "lowest", "highest")
		},
		"ranges": func(n document.Node) {
			for _, item := range n.Items() {
				s.Ranges = append(s.Ranges, item.Quantity(quantity.Voltage).Value)
			}
			if !slices.IsSorted(s.Ranges) || len(s.Ranges) > 0 && s.Ranges[0] <= 0 {
				n.Fail("write the ranges from the smallest to the largest, each from its lowest to its highest value")
			}
		},
		"most": func(n document.Node) { s.Most = n.Whole(10, 100_000_000) },
		"accuracy": func(n document.Node) {
			s.Stated = true
			n.Fields(map[string]func(document.Node){
				"reading": func(n document.Node) { s.Reading = n.Quantity(quantity.Number).Value },
				"range":   func(n document.Node) { s.OfRange = n.Quantity(quantity.Number).Value },
			})
		},
	}, "span", "range", "trigger", "arm", "done", "scale", "data", "ranges")
	if s.Lowest >= s.Highest {
		n.Fail("the lowest code lies below the highest")
	}
	r.d.Scope = s
}

func (r *reader) readScale(n document.Node) ScaleQuery {
	q := ScaleQuery{Place: r.place(n)}
	n.Fields(map[string]func(document.Node){
		"message": func(n document.Node) { q.Message = r.message(n, false) },
		"within":  func(n document.Node) { q.Within = span(n, time.Millisecond, time.Minute) },
		"gives": func(n document.Node) {
			for _, item := range n.Items() {
				q.Gives = append(q.Gives, item.Word(scaleParts...))
			}
		},
	}, "message", "gives")
	for _, part := range scaleParts[:4] {
		if len(q.Gives) > 0 && !slices.Contains(q.Gives, part) {
			n.Fail("the scale of a waveform needs %s; name under gives what the answer holds", part)
		}
	}
	return q
}

func (r *reader) readData(n document.Node) Query {
	q := Query{Place: r.place(n), Block: &scpi.Format{}}
	n.Fields(map[string]func(document.Node){
		"message":    func(n document.Node) { q.Message = r.message(n, false) },
		"within":     func(n document.Node) { q.Within = span(n, time.Millisecond, time.Minute) },
		"of":         func(n document.Node) { q.Block.Of = n.Word("int16", "int8", "uint8") },
		"byte order": func(n document.Node) { q.Block.Low = n.Word("big", "little") == "little" },
	}, "message", "of")
	return q
}

// RangeFor is the smallest range that holds so many volts, V; 0 asks for the largest.
func (s *Scope) RangeFor(volts float64) float64 {
	last := s.Ranges[len(s.Ranges)-1]
	if volts <= 0 {
		return last
	}
	for _, r := range s.Ranges {
		if r >= volts*(1-1e-9) {
			return r
		}
	}
	return last
}
