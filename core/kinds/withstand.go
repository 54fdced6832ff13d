package kinds

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// WithstandKind leads an insulation up to a voltage that it must stand for a time.
var WithstandKind = procedure.Kind{
	Word: "withstand", About: "volts that an insulation must stand", Keys: procedure.Plain, Read: readWithstand,
}

// Withstand leads a seat up to its volts, keeps them for a time, and switches it off. More than the leakage that is
// allowed switches it off with the reading that shows it: the insulation has given way.
type Withstand struct {
	Seat    string
	Row     string
	Volts   float64 // V
	Rise    float64 // V/s
	For     float64 // s
	Leakage float64 // A
}

// ownLimit is by how much the limit of the instrument itself lies above the leakage that is allowed. It holds between
// two readings.
const ownLimit = 1.1

// Kind implements procedure.Action.
func (*Withstand) Kind() string { return "withstand" }

// Duration implements procedure.Lasting.
func (w *Withstand) Duration() float64 { return w.Volts/w.Rise + w.For }

// Extremes implements procedure.Moving.
func (w *Withstand) Extremes(add func(column string, low, high float64)) {
	add(w.Seat+".volts", 0, w.Volts)
	add(w.Seat+".amps", ownLimit*w.Leakage, ownLimit*w.Leakage)
}

// Reads implements procedure.Reading.
func (w *Withstand) Reads() []string { return []string{w.Seat + ".volts", w.Seat + ".amps"} }

// FramesEvery implements procedure.Sampled.
func (w *Withstand) FramesEvery() float64 { return math.Min(w.Volts/w.Rise, w.For) / 20 }

// Words implements procedure.Worded.
func (w *Withstand) Words() string {
	return fmt.Sprintf("%s to %s for %s, at most %s", w.Seat, procedure.Show(w.Volts, quantity.Voltage),
		procedure.SpanWords(w.For), procedure.Show(w.Leakage, quantity.Current))
}

// on is what it begins with: no volts, the instrument's own limit, and its output on.
func (w *Withstand) on() []procedure.Setting {
	return []procedure.Setting{{Seat: w.Seat, Quantity: "volts"},
		{Seat: w.Seat, Quantity: "amps", Value: ownLimit * w.Leakage},
		{Seat: w.Seat, Quantity: seats.Output, Word: seats.On}}
}

func (w *Withstand) off() []procedure.Setting {
	return []procedure.Setting{{Seat: w.Seat, Quantity: seats.Output, Word: seats.Off},
		{Seat: w.Seat, Quantity: "volts"}}
}

// Run implements stage.Runnable.
func (w *Withstand) Run(p *stage.Parts) stage.Runner {
	column := func(q string) int { return p.Program.Columns.Index(w.Seat + "." + q) }
	return &withstandRunner{name: p.Stage.Name, spec: w, volts: column("volts"), amps: column("amps"),
		limited: column("limited")}
}

func readWithstand(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	w := &Withstand{Row: c.Name}
	above := func(to *float64, dim quantity.Dimension, what string) func(document.Node) {
		return func(n document.Node) {
			if *to = r.Value(n, dim); *to <= 0 {
				n.Fail("%s must be more than 0", what)
				*to = 1
			}
		}
	}
	var seat, volts, leakage document.Node
	n.Fields(map[string]func(document.Node){
		"seat":    func(n document.Node) { seat = n },
		"volts":   func(n document.Node) { volts = n; above(&w.Volts, quantity.Voltage, "the volts that it stands")(n) },
		"rise":    above(&w.Rise, quantity.Voltage.Per(quantity.Time), "the rise of the volts"),
		"for":     above(&w.For, quantity.Time, "the time for which it stands them"),
		"leakage": func(n document.Node) { leakage = n; above(&w.Leakage, quantity.Current, "the leakage allowed")(n) },
		"into":    func(n document.Node) { w.Row = n.Text() },
	}, "seat", "volts", "rise", "for", "leakage")
	if !n.IsMap() {
		return w
	}
	if w.Seat = seat.Text(); w.Seat == "" {
		return w
	}
	s, ok := r.Seat(w.Seat)
	switch {
	case !ok:
		seat.Fail("unknown seat %q; %s", w.Seat, document.Suggest(w.Seat, r.SeatNames()))
		return w
	case !s.Kind.Is(seats.Feeds) || s.Kind.Is(seats.Drains) || !s.Kind.HasOutput():
		seat.Fail("%s cannot lead an insulation up to volts; a sourcemeter can", w.Seat)
		return w
	}
	r.Bounded(volts, s, "volts", w.Volts)
	r.Bounded(leakage, s, "amps", ownLimit*w.Leakage)
	r.Fills(w.Row, c.Line)
	return w
}

// withstandPhase is what a withstand test does now.
type withstandPhase string

const (
	withstandRises withstandPhase = "rises"
	withstandHolds withstandPhase = "holds"
	withstandOver  withstandPhase = "over"
)

// withstandRunner raises the volts from reading to reading: no step is made before the one before has been looked at.
type withstandRunner struct {
	name                 string
	spec                 *Withstand
	volts, amps, limited int
	state                withstandState
}

type withstandState struct {
	Phase withstandPhase      `json:"phase"`
	Since float64             `json:"since"` // when the phase began; −1: with the next reading
	Seen  float64             `json:"seen"`  // when amps were last read
	Last  float64             `json:"last"`  // when the last frame came
	Level float64             `json:"level"` // that is set, V
	Sent  []procedure.Setting `json:"sent,omitempty"`
	Most  float64             `json:"most"` // volts that it stood
	Row   *record.Point       `json:"row,omitempty"`
	Held  stage.KeptFrames    `json:"held,omitempty"` // only in a snapshot
	held  []trace.Frame
}

func (r *withstandRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.anew(m.Now())
	return r.command(r.spec.on()), stage.GoesOn
}

// anew begins from no volts.
func (r *withstandRunner) anew(t float64) {
	r.state = withstandState{Phase: withstandRises, Since: t, Seen: t}
}

func (r *withstandRunner) command(settings []procedure.Setting) []stage.Effect {
	r.state.Sent = settings
	return []stage.Effect{stage.Command{Settings: settings}}
}

func (r *withstandRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	effects := []stage.Effect{stage.Commanded(t, r.state.Sent)}
	switch {
	case r.state.Phase == withstandOver:
		return append(effects, stage.Point{Point: *r.state.Row}, stage.NewMark(t, record.MarkPointDone, r.spec.Row)),
			stage.Over
	case r.state.Level == 0:
		r.state.Since, r.state.Last = t, t // its output is on now
	}
	r.state.Seen = t
	return effects, stage.GoesOn
}

func (r *withstandRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	volts, amps := value(f, r.volts), math.Abs(value(f, r.amps))
	dt := f.T - r.state.Last
	r.state.Last = f.T
	if math.IsNaN(volts) || math.IsNaN(amps) {
		if f.T-r.state.Seen > m.LostAfter() {
			return nil, stage.Lost
		}
		return nil, stage.GoesOn
	}
	r.state.Seen = f.T
	if r.state.Since < 0 {
		r.state.Since, dt = f.T, 0
	}
	if amps > r.spec.Leakage || value(f, r.limited) > 0 {
		return r.gaveWay(m, f, amps)
	}
	r.state.Most = max(r.state.Most, math.Abs(volts))
	switch {
	case r.state.Phase == withstandRises && r.state.Level < r.spec.Volts:
		// By what has passed since the last frame: readings that stayed away are not caught up with.
		r.state.Level = min(r.state.Level+r.spec.Rise*max(dt, 0), r.spec.Volts)
		return r.command([]procedure.Setting{{Seat: r.spec.Seat, Quantity: "volts", Value: r.state.Level}}), stage.GoesOn
	case r.state.Phase == withstandRises:
		r.state.Phase, r.state.Since = withstandHolds, f.T
		return []stage.Effect{stage.NewMark(f.T, record.MarkCondition, fmt.Sprintf("%s stand from here on",
			procedure.Show(r.spec.Volts, quantity.Voltage)))}, stage.GoesOn
	}
	r.state.held = append(r.state.held, f)
	if f.T-r.state.Since < r.spec.For {
		return nil, stage.GoesOn
	}
	return r.finish(m, false), stage.GoesOn
}

// value is what a frame has at a place; NaN where it has nothing.
func value(f trace.Frame, place int) float64 {
	if place < 0 || place >= len(f.Values) {
		return math.NaN()
	}
	return f.Values[place]
}

// gaveWay switches off with the reading that shows more than is allowed.
func (r *withstandRunner) gaveWay(m *stage.Machine, f trace.Frame, amps float64) ([]stage.Effect, stage.Verdict) {
	r.state.held = []trace.Frame{f}
	mark := stage.NewMark(f.T, record.MarkCondition, fmt.Sprintf("the insulation gave way at %s: %s",
		procedure.Show(r.state.Level, quantity.Voltage), procedure.Show(amps, quantity.Current)))
	return append([]stage.Effect{mark}, r.finish(m, true)...), stage.GoesOn
}

// finish switches off, and keeps what the row is to have: the whole time that the volts stood, or the reading with
// which the insulation gave way. Held is what it stood before.
func (r *withstandRunner) finish(m *stage.Machine, gave bool) []stage.Effect {
	p := m.NewPoint(r.name, r.state.held, nil)
	p.Row, p.GaveWay, p.Held = r.spec.Row, gave, map[string]float64{r.spec.Seat + ".volts": r.state.Most}
	r.state.Phase, r.state.Row, r.state.held = withstandOver, &p, nil
	return r.command(r.spec.off())
}

// Paused implements stage.Pausing: nothing stands a voltage that nobody looks at.
func (r *withstandRunner) Paused() []procedure.Setting {
	if r.state.Phase == withstandOver {
		return nil
	}
	return r.spec.off()
}

// Resumed implements stage.Pausing: what was interrupted was no time, and the volts rise from none again.
func (r *withstandRunner) Resumed() []procedure.Setting {
	if r.state.Phase == withstandOver {
		return r.spec.off()
	}
	return r.spec.on()
}

func (r *withstandRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	past := m.Now() - r.state.Since
	detail = fmt.Sprintf("%s of %s", procedure.Show(r.state.Level, quantity.Voltage),
		procedure.Show(r.spec.Volts, quantity.Voltage))
	if r.state.Phase == withstandHolds {
		past += r.spec.Volts / r.spec.Rise
	}
	return min(past/r.spec.Duration(), 1), max(r.spec.Duration()-past, 0), detail
}

// Leave implements stage.Leaving: a person who goes on leaves no volts behind.
func (r *withstandRunner) Leave() []stage.Effect {
	if r.state.Phase == withstandOver {
		return nil
	}
	return []stage.Effect{stage.Command{Settings: r.spec.off()}}
}

// Shift begins anew: what was interrupted was no time.
func (r *withstandRunner) Shift(float64) {
	if r.state.Phase == withstandOver {
		return
	}
	r.anew(-1)
}

func (r *withstandRunner) Save() any {
	s := r.state
	s.Held = stage.Keep(s.held)
	return s
}

func (r *withstandRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.state); err != nil {
		return err
	}
	r.state.held, r.state.Held = r.state.Held.Frames(), nil
	return nil
}
