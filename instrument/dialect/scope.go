package dialect

import (
	"slices"
	"strings"
	"time"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/instrument/modbus"
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
	// Scale gives start and step of the time, and what makes volts of a code ([ScaleStart] …).
	Scale Query
	// Data gives the codes of a channel.
	Data Samples
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

// Samples is how the codes of a channel are fetched: as the block that answers a question, or in registers, in a window
// of so many that Page moves: 0 is the first of it. Without Page all of them follow each other.
type Samples struct {
	Query
	Window int
	Page   Setter
}

// What a scale is made of.
const (
	ScaleStart = "start" // time of the first sample from the trigger, s
	ScaleStep  = "step"  // between two samples, s
	ScaleZero  = "zero"  // volts of the code 0
	ScaleCode  = "code"  // volts of a step of the code
	// ScaleSamples is how many there are, which a block says by itself.
	ScaleSamples = "samples"
)

var scaleParts = []string{ScaleStart, ScaleStep, ScaleZero, ScaleCode, ScaleSamples}

// readScope reads how waveforms are captured.
func (r *reader) readScope(n document.Node) {
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
	delete(r.d.Ask, "scope") // nothing of it is read back
	if s.Lowest >= s.Highest {
		n.Fail("the lowest code lies below the highest")
	}
	r.d.Scope = s
}

// readScale reads how a waveform's numbers are asked for: one answer that gives them, or a register for each.
func (r *reader) readScale(n document.Node) Query {
	q, needed := Query{Place: r.place(n)}, scaleParts[:4]
	part := func(name string) Reading {
		return Reading{Quantity: strings.TrimPrefix(name, "skip"), Factor: 1, Bit: -1}
	}
	if r.d.Protocol == Registers {
		needed = scaleParts
		fields := map[string]func(document.Node){}
		for _, name := range scaleParts {
			fields[name] = func(n document.Node) {
				reading := part(name)
				reading.Register = r.register(n)
				q.Gives = append(q.Gives, reading)
			}
		}
		n.Fields(fields)
	} else {
		n.Fields(map[string]func(document.Node){
			"message": func(n document.Node) { q.Message = r.message(n, false) },
			"within":  func(n document.Node) { q.Within = span(n, time.Millisecond, time.Minute) },
			"gives": func(n document.Node) {
				for _, item := range n.Items() {
					q.Gives = append(q.Gives, part(item.Word(append(slices.Clone(scaleParts), "skip")...)))
				}
			},
		}, "message", "gives")
	}
	for _, name := range needed {
		given := slices.ContainsFunc(q.Gives, func(g Reading) bool { return g.Quantity == name })
		if len(q.Gives) > 0 && !given {
			n.Fail("the scale of a waveform needs %s; name what gives it", name)
		}
	}
	return q
}

// register reads where a number stands that is only read.
func (r *reader) register(n document.Node) *Register {
	register, fields := r.registerFields()
	n.Fields(fields)
	if register.Address < 0 {
		n.Fail("name the register: {input: 10, as: float32}, or register for a holding register")
	}
	register.fits(n, 0)
	return register
}

func (r *reader) readData(n document.Node) Samples {
	q := Samples{Query: Query{Place: r.place(n), Block: &scpi.Format{}}, Window: modbus.MostRead}
	fields := map[string]func(document.Node){
		"of":         func(n document.Node) { q.Block.Of = n.Word("int16", "int8", "uint8") },
		"byte order": func(n document.Node) { q.Block.Low = n.Word("big", "little") == "little" },
	}
	if r.d.Protocol == Messages {
		fields["message"] = func(n document.Node) { q.Message = r.message(n, false) }
		fields["within"] = func(n document.Node) { q.Within = span(n, time.Millisecond, time.Minute) }
		n.Fields(fields, "message", "of")
		return q
	}
	register, places := r.registerFields()
	for _, key := range []string{"register", "input", "stride"} {
		fields[key] = places[key]
	}
	fields["window"] = func(n document.Node) { q.Window = n.Whole(1, 1<<16) }
	fields["page"] = func(n document.Node) { q.Page = r.setter(n, "scope", quantity.Unit{Factor: 1}) }
	n.Fields(fields, "of")
	if q.Register = register; register.Address < 0 {
		n.Fail("name the first register of the samples: {input: 1000, window: 120, page: {register: 3}, of: int16}")
	}
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
