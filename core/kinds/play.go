package kinds

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/shape"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// PlayKind moves quantities along shapes.
var PlayKind = procedure.Kind{
	Word: "play", About: "moves quantities along shapes", Keys: procedure.Waits, Read: readPlay,
}

// Play moves one or more quantities along shapes, at once.
type Play struct {
	// Word is the kind's, where another kind than play is written as shapes; empty: play.
	Word   string
	Tracks []Track
	Times  int
	// By says who keeps the time: the instrument, the service, or whoever can.
	By PlayedBy
	// Pace is how often the service sets what moves, s.
	Pace float64
}

// PlayedBy is who keeps the time of a shape.
type PlayedBy string

// Who can play.
const (
	ByEither     PlayedBy = "either"
	ByService    PlayedBy = "service"
	ByInstrument PlayedBy = "instrument"
)

// Track is a quantity of a seat and its shape.
type Track struct {
	Seat     string
	Quantity string
	Shape    *shape.Shape
}

// Column is the full name of what is played.
func (t Track) Column() string { return t.Seat + "." + t.Quantity }

// Once is how long the shapes last, s.
func (p *Play) Once() (longest float64) {
	for _, t := range p.Tracks {
		longest = math.Max(longest, t.Shape.Duration())
	}
	return longest
}

// Kind implements procedure.Action.
func (p *Play) Kind() string { return cmp.Or(p.Word, "play") }

// Duration implements procedure.Lasting.
func (p *Play) Duration() float64 { return float64(p.Times) * p.Once() }

// Extremes implements procedure.Moving.
func (p *Play) Extremes(add func(column string, low, high float64)) {
	for _, t := range p.Tracks {
		low, high := t.Shape.Extremes()
		add(t.Column(), low, high)
	}
}

// FramesEvery implements procedure.Sampled.
func (p *Play) FramesEvery() float64 {
	every := math.Inf(1)
	for _, t := range p.Tracks {
		every = math.Min(every, t.Shape.Shortest()/10)
	}
	return every
}

// Charted implements procedure.Charted.
func (*Play) Charted() {}

// Words implements procedure.Worded.
func (p *Play) Words() string {
	var columns []string
	for _, t := range p.Tracks {
		columns = append(columns, t.Column())
	}
	words := strings.Join(columns, ", ") + " for " + procedure.SpanWords(p.Once())
	if p.Times > 1 {
		words += fmt.Sprintf(", %d times", p.Times)
	}
	return words
}

// PacedFor is the same with its shapes paced by the service, for a bench whose instruments have no programs: as fast
// as the edges need, and otherwise no slower than slowest, s.
func (p *Play) PacedFor(slowest float64) *Play {
	own := *p
	own.By = ByService
	edge, part := math.Inf(1), math.Inf(1)
	for _, t := range p.Tracks {
		edge, part = math.Min(edge, t.Shape.ShortestEdge()), math.Min(part, t.Shape.Shortest())
	}
	pace := math.Min(math.Max(own.Pace, part/50), slowest)
	own.Pace = math.Max(math.Min(pace, edge/5), 1e-3)
	return &own
}

// Table draws the shapes as a table with absolute times.
func (p *Play) Table() *shape.Table {
	var columns []string
	var shapes []*shape.Shape
	for _, t := range p.Tracks {
		columns, shapes = append(columns, t.Column()), append(shapes, t.Shape)
	}
	return shape.TableOf(columns, shapes, p.Pace)
}

// Run implements stage.Runnable.
func (p *Play) Run(parts *stage.Parts) stage.Runner {
	return &playRunner{spec: p, until: parts.Condition(parts.Stage.Until), within: parts.Stage.Within}
}

// readPlay reads quantities with their shapes, and times, by and pace.
func readPlay(r *procedure.Reader, _ *procedure.Common, n document.Node) procedure.Action {
	p := &Play{Times: 1, By: ByEither, Pace: defaultPace}
	asked := false
	for _, e := range n.Entries() {
		switch e.Key {
		case "times":
			p.Times = e.Value.Whole(1, 1_000_000)
		case "by":
			p.By = PlayedBy(e.Value.Word(string(ByEither), string(ByService), string(ByInstrument)))
		case "pace":
			if p.Pace = r.Value(e.Value, quantity.Time); p.Pace < 1e-3 {
				e.Value.Fail("the service sets levels every ms at most; give a pace of 1 ms or more")
			}
		default:
			asked = true
			if t, ok := readTrack(r, e); ok {
				p.Tracks = append(p.Tracks, t)
			}
		}
	}
	if !asked {
		n.Fail("nothing is played; give a quantity and its shape, as in source.volts: [hold 2 s at 48 V]")
	}
	return p
}

// defaultPace is how often the service sets what moves.
const defaultPace = 20e-3

func readTrack(r *procedure.Reader, e document.Entry) (Track, bool) {
	seat, q, ok := r.Settable(e.At, e.Key)
	if !ok {
		return Track{}, false
	}
	kind, ok := quantity.KindOf(q)
	if !ok {
		e.At.Fail("%s is switched, not played; choose a quantity with a unit", e.Key)
		return Track{}, false
	}
	if !r.CountSegments(e.Value, 0) {
		return Track{}, false // a finding has said so
	}
	s := r.Shape(e.Value, seat.Name, q, kind.Unit.Dim)
	if s == nil {
		return Track{}, false
	}
	if !r.CountSegments(e.Value, len(s.Segments)) {
		return Track{}, false
	}
	low, high := s.Extremes()
	r.Bounded(e.Value, seat, q, low)
	if high != low {
		r.Bounded(e.Value, seat, q, high)
	}
	return Track{seat.Name, q, s}, true
}

// playRunner moves quantities along their shapes: level by level at the times that they are due, or by handing
// them to the instruments.
type playRunner struct {
	spec   *Play
	until  *condition.Condition
	within float64
	play   playState
}

type playState struct {
	stage.Wait
	Begun bool    `json:"begun"` // the first levels, or the instruments' programs, are in force
	Next  float64 `json:"next"`  // when the next level is due, s since Since
	// Count, Late and Most are of the levels that were set: how many, how late together, how late at most, s.
	Count int     `json:"count"`
	Late  float64 `json:"late"`
	Most  float64 `json:"most"`
}

// ByInstrument implements stage.Delegating.
func (r *playRunner) ByInstrument() bool { return r.spec.By == ByInstrument }

func (r *playRunner) length() float64 { return float64(r.spec.Times) * r.spec.Once() }

func (r *playRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.play = playState{Wait: stage.Wait{Since: m.Now()}}
	if r.until != nil {
		r.until.Reset()
	}
	if r.ByInstrument() {
		return []stage.Effect{stage.Perform{Action: r.spec}}, stage.GoesOn
	}
	return []stage.Effect{stage.Command{Settings: r.levels(m, 0), Paced: true}}, stage.GoesOn
}

// levels are the settings at a time since the beginning that are not in force already.
func (r *playRunner) levels(m *stage.Machine, t float64) []procedure.Setting {
	once := r.spec.Once()
	at := t
	if pass := math.Floor(t/once + 1e-12); pass < float64(r.spec.Times) {
		at = t - pass*once
	} else {
		at = once
	}
	settings := []procedure.Setting{}
	for _, track := range r.spec.Tracks {
		x := math.Round(track.Shape.At(at)*1e9) / 1e9
		if at >= once {
			x = math.Round(track.Shape.Last()*1e9) / 1e9
		}
		if now, ok := m.Setpoint(track.Column()); !ok || now != x || t == 0 {
			settings = append(settings, procedure.Setting{Seat: track.Seat, Quantity: track.Quantity, Value: x})
		}
	}
	return settings
}

// next is when the next level is due after a time since the beginning; infinite after the end.
func (r *playRunner) next(t float64) float64 {
	once := r.spec.Once()
	pass := math.Floor(t/once + 1e-9)
	if pass >= float64(r.spec.Times) {
		return math.Inf(1)
	}
	next := (pass + 1) * once
	for _, track := range r.spec.Tracks {
		next = math.Min(next, pass*once+track.Shape.Next(math.Max(t-pass*once, 0), r.spec.Pace))
	}
	return next
}

func (r *playRunner) DueAt() float64 {
	if !r.play.Begun || r.ByInstrument() {
		return math.Inf(1)
	}
	return r.play.Since + r.play.Next
}

func (r *playRunner) Applied(m *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	if r.play.Begun {
		return nil, stage.GoesOn
	}
	r.play.Begun, r.play.Since = true, t
	r.play.Next = r.next(0)
	label := "shape begins"
	if r.ByInstrument() {
		label = "shape begins, played by the instrument"
		for _, track := range r.spec.Tracks { // it will stand there at the end
			m.Stands(track.Column(), track.Shape.Last())
		}
	}
	return []stage.Effect{stage.NewMark(t, record.MarkCommand, label)}, stage.GoesOn
}

// due sets the levels of now, and notes how late they are. Times that were missed are not made up for.
func (r *playRunner) Due(m *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	past := t - r.play.Since
	late := past - r.play.Next
	r.play.Count++
	r.play.Late += late
	r.play.Most = math.Max(r.play.Most, late)
	at := r.play.Next
	for {
		next := r.next(at)
		if next > past {
			r.play.Next = next
			break
		}
		at = next
	}
	// The level is that of the time which was meant: a shape keeps its corners though each of them comes a little late.
	if settings := r.levels(m, at); len(settings) > 0 {
		return []stage.Effect{stage.Command{Settings: settings, Paced: true}}, stage.GoesOn
	}
	return nil, stage.GoesOn
}

func (r *playRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if f.T-r.play.Since >= r.length() && (r.ByInstrument() || math.IsInf(r.play.Next, 1)) {
		return r.marks(f.T), stage.Over
	}
	effects, v := m.Await(f, r.until, r.play.Since, r.within)
	if v == stage.Over { // before the shape's end
		effects = append(append(effects, r.Leave()...), r.marks(f.T)...)
	}
	return effects, v
}

func (r *playRunner) marks(t float64) []stage.Effect {
	if r.ByInstrument() || r.play.Count == 0 {
		return nil
	}
	return []stage.Effect{stage.NewMark(t, record.MarkBench,
		fmt.Sprintf("paced by the service: %d levels, late by %s ms in the mean, %s ms at most", r.play.Count,
			quantity.Digits(milli(r.play.Late/float64(r.play.Count)), 2), quantity.Digits(milli(r.play.Most), 2)))}
}

// milli is a time in ms, in whole µs.
func milli(s float64) float64 { return math.Round(s*1e6) / 1e3 }

func (r *playRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	past := m.Now() - r.play.Since
	if r.ByInstrument() {
		detail = "played by the instrument"
	}
	if r.spec.Times > 1 {
		detail = fmt.Sprintf("pass %d of %d", min(int(past/r.spec.Once())+1, r.spec.Times), r.spec.Times)
	}
	return min(past/r.length(), 1), max(r.length()-past, 0), detail
}

func (r *playRunner) Shift(s float64) { r.play.Since += s; stage.Shift(s, r.until) }

func (r *playRunner) Save() any {
	p := r.play
	p.Wait = p.Wait.Saved(r.until)
	if math.IsInf(p.Next, 1) {
		p.Next = -1 // JSON has no infinity
	}
	return p
}

func (r *playRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.play); err != nil {
		return err
	}
	if r.play.Next < 0 {
		r.play.Next = math.Inf(1)
	}
	if r.until != nil && r.play.Past != nil {
		r.until.Restore(*r.play.Past)
	}
	r.play.Past = nil
	return nil
}

// leave stops the instruments' programs when the stage is ended by hand.
func (r *playRunner) Leave() []stage.Effect {
	if r.ByInstrument() {
		return []stage.Effect{stage.Halt{}}
	}
	return nil
}
