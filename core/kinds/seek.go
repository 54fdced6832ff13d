package kinds

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// SeekKind steps a quantity until something happens.
var SeekKind = procedure.Kind{
	Word: "seek", About: "steps until something happens", Keys: procedure.Bounded, Read: readSeek,
}

// Seek steps a quantity until a condition holds: coarse first, then fine from the last step that held.
type Seek struct {
	Seat, Quantity string
	From, To       float64
	Coarse, Fine   float64 // steps, SI, more than 0; Fine may be 0
	Dwell          float64 // s at each step
	Until          string
	// Row names what is found.
	Row string
	// Relieve helps a unit back that has given up; nil: what is stepped goes back to From.
	Relieve *Relieve
	// Relief is what is set afterwards to see whether the unit recovers, and Recovered the condition that says so,
	// within the time.
	Relief         []procedure.Setting
	Recovered      string
	RecoversWithin float64
	// Watch is for how long what is found is kept before relief, s, to see whether the unit tries again.
	Watch float64
}

// Column is the full name of what is stepped.
func (s *Seek) Column() string { return s.Seat + "." + s.Quantity }

// Kind implements procedure.Action.
func (*Seek) Kind() string { return "seek" }

// Duration implements procedure.Lasting, as if it were found half way.
func (s *Seek) Duration() float64 {
	steps := math.Abs(s.To-s.From) / s.Coarse / 2
	if s.Fine > 0 {
		steps += s.Coarse / s.Fine / 2
	}
	return (steps+1)*s.Dwell + s.Watch
}

// Extremes implements procedure.Moving.
func (s *Seek) Extremes(add func(column string, low, high float64)) {
	add(s.Column(), s.From, s.From)
	add(s.Column(), s.To, s.To)
	extremesOf(s.Relief, add)
	if s.Relieve != nil {
		extremesOf(s.Relieve.Settings, add)
	}
}

// Conditions implements procedure.Waiting.
func (s *Seek) Conditions() []string { return []string{s.Until, s.Recovered} }

// FramesEvery implements procedure.Sampled.
func (s *Seek) FramesEvery() float64 { return s.Dwell / 8 }

// Words implements procedure.Worded.
func (s *Seek) Words() string {
	kind, _ := quantity.KindOf(s.Quantity)
	return fmt.Sprintf("%s from %s to %s until %s", s.Column(), procedure.Show(s.From, kind.Unit.Dim),
		procedure.Show(s.To, kind.Unit.Dim), s.Until)
}

// Run implements stage.Runnable.
func (s *Seek) Run(p *stage.Parts) stage.Runner {
	return &seekRunner{name: p.Stage.Name, spec: s, within: p.Stage.Within, until: p.Condition(s.Until),
		recovered: p.Condition(s.Recovered)}
}

// readSeek reads the search for the level at which something happens.
func readSeek(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	s := &Seek{Row: c.Name}
	var set, from, to, coarse, fine, recovers, relieve document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"set": keep(&set), "from": keep(&from), "to": keep(&to), "coarse": keep(&coarse), "fine": keep(&fine),
		"recovers": keep(&recovers), "relieve": keep(&relieve),
		"dwell": func(n document.Node) {
			if s.Dwell = r.Value(n, quantity.Time); s.Dwell <= 0 {
				n.Fail("each step is held for more than no time")
			}
		},
		"until": func(n document.Node) { s.Until = r.Condition(n) },
		"into":  func(n document.Node) { s.Row = n.Text() },
	}, "set", "from", "to", "coarse", "dwell", "until")
	seat, q, ok := r.Settable(set, set.Text())
	if !ok {
		return s
	}
	kind, numeric := quantity.KindOf(q)
	if !numeric {
		set.Fail("%s is switched, not stepped; choose a quantity with a unit", set.Text())
		return s
	}
	s.Seat, s.Quantity = seat.Name, q
	s.From, s.To = r.Value(from, kind.Unit.Dim), r.Value(to, kind.Unit.Dim)
	r.Bounded(from, seat, q, s.From)
	r.Bounded(to, seat, q, s.To)
	s.Coarse = r.Value(coarse, kind.Unit.Dim)
	if fine.Present() {
		s.Fine = r.Value(fine, kind.Unit.Dim)
	}
	span := math.Abs(s.To - s.From)
	switch {
	case !coarse.Present():
	case s.Coarse <= 0 || s.Coarse > span:
		coarse.Fail("the coarse step is more than 0 and at most the range, %s to %s", from.Text(), to.Text())
		s.Coarse = math.Max(span, 1)
	case fine.Present() && (s.Fine <= 0 || s.Fine >= s.Coarse):
		fine.Fail("the fine step is more than 0 and less than the coarse one")
	case span/s.Coarse > procedure.MostPlaces:
		coarse.Fail("the search has more than %d steps", procedure.MostPlaces)
	}
	if recovers.Present() {
		recovers.Fields(map[string]func(document.Node){
			"set": func(n document.Node) { s.Relief = r.Settings(n, false) },
			"when": func(n document.Node) {
				s.Recovered = r.Condition(n)
			},
			"within": func(n document.Node) { s.RecoversWithin = r.Value(n, quantity.Time) },
			"watch": func(n document.Node) {
				if s.Watch = r.Value(n, quantity.Time); s.Watch < 0 {
					n.Fail("watch is a time, not less than 0")
				}
			},
		}, "when", "within")
		if s.Relief == nil {
			s.Relief = s.beginning()
		}
	}
	if relieve.Present() {
		readRelieve(r, s, relieve)
	}
	r.Fills(s.Row, c.Line)
	return s
}

// seekRunner steps a quantity until a condition holds: coarse, then back to the beginning until it holds no
// longer, then fine from the last coarse step at which it did not. At the end it may look whether the unit
// recovers.
type seekRunner struct {
	name      string
	spec      *Seek
	within    float64
	until     *condition.Condition
	recovered *condition.Condition
	seek      seekState
}

// seekPhase is what a search does now.
type seekPhase string

const (
	seekCoarse seekPhase = "coarse"
	seekBack   seekPhase = "back"
	seekFine   seekPhase = "fine"
	seekWatch  seekPhase = "watch"
	seekRelief seekPhase = "relief"
)

type seekState struct {
	stage.Wait
	Phase seekPhase `json:"phase"`
	Began float64   `json:"began"` // of the whole search
	Level float64   `json:"level"`
	Held  *float64  `json:"held,omitempty"` // the last level at which the condition did not hold
	Found bool      `json:"found"`          // it held in this step
	Blind float64   `json:"blind"`          // since when nobody can see whether it holds; −1: one can
	// Sent is what was commanded last, Restore what relief has set and is set again after it.
	Sent    []procedure.Setting `json:"sent,omitempty"`
	Restore []procedure.Setting `json:"restore,omitempty"`
	// Cycled says that the input was cycled since the unit gave up, Off that it is off for that now.
	Cycled bool `json:"cycled,omitempty"`
	Off    bool `json:"off,omitempty"`
	// Asking says that a person is asked to cycle it, Refused that one said no.
	Asking  bool `json:"asking,omitempty"`
	Refused bool `json:"refused,omitempty"`
	// Tries counts how often the unit came back at the level at which it had given up, and gave up again; Gone that it is
	// gone now, Back that it is back. Away is when it was last seen away after relief.
	Tries int     `json:"tries,omitempty"`
	Gone  bool    `json:"gone,omitempty"`
	Back  bool    `json:"back,omitempty"`
	Away  float64 `json:"away,omitempty"`
	// Before are the averages at Held, Row what was found.
	Before    map[string]trace.Average `json:"before,omitempty"`
	Row       *record.Point            `json:"row,omitempty"`
	Frames    stage.KeptFrames         `json:"frames,omitempty"`    // of this step, only in a snapshot
	Recovered *condition.State         `json:"recovered,omitempty"` // only in a snapshot
	frames    []trace.Frame
}

func (r *seekRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.seek = seekState{Phase: seekCoarse, Began: m.Now(), Level: r.spec.From, Blind: -1}
	return []stage.Effect{r.step()}, stage.GoesOn
}

// step sets the level of the present step, after what else is to be set.
func (r *seekRunner) step(before ...procedure.Setting) stage.Effect {
	return r.command(append(slices.Clone(before), r.setting()))
}

// command sets something, from which on the condition is looked at anew.
func (r *seekRunner) command(settings []procedure.Setting) stage.Effect {
	r.seek.Found, r.seek.Gone, r.seek.Back = false, false, false
	r.seek.frames, r.seek.Blind, r.seek.Sent = nil, -1, settings
	r.until.Reset()
	return stage.Command{Settings: settings}
}

// setting is that of the present step.
func (r *seekRunner) setting() procedure.Setting {
	return procedure.Setting{Seat: r.spec.Seat, Quantity: r.spec.Quantity, Value: math.Round(r.seek.Level*1e9) / 1e9}
}

func (r *seekRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	r.seek.Since = t
	return []stage.Effect{stage.Commanded(t, r.seek.Sent)}, stage.GoesOn
}

func (r *seekRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	found := r.seek.Phase == seekWatch || r.seek.Phase == seekRelief
	if r.within > 0 && f.T-r.seek.Began > r.within && !found {
		return nil, m.InVain(fmt.Sprintf("%s was not found within %s", r.until.Text, stage.Seconds(r.within)))
	}
	if effects, is := r.cycling(f); is {
		return effects, stage.GoesOn
	}
	if r.seek.Phase == seekRelief {
		return r.relief(m, f)
	}
	if r.seek.Phase == seekWatch {
		return r.watch(m, f)
	}
	truth := r.until.Evaluate(m.Sample(f))
	past := f.T - r.seek.Since
	if truth == condition.Unknown && !r.until.Filling() { // nobody sees whether it holds: the step waits
		if r.seek.Blind < 0 {
			r.seek.Blind = f.T
		}
		if f.T-r.seek.Blind > m.LostAfter() {
			return nil, stage.Lost
		}
		return nil, stage.GoesOn
	}
	if r.seek.Blind >= 0 { // what was not seen is waited for again
		r.seek.Since += f.T - r.seek.Blind
		r.seek.Blind, past = -1, f.T-r.seek.Since
	}
	if r.seek.Phase == seekBack {
		return r.back(m, f, truth == condition.True)
	}
	if truth == condition.True && !r.seek.Found {
		r.seek.Found, r.seek.frames = true, nil // averaged is what is after the event
	}
	if r.seek.Found {
		r.countTry(truth)
	}
	if past >= r.spec.Dwell/2 || r.seek.Found {
		r.seek.frames = append(r.seek.frames, f)
	}
	if !m.Enough(r.seek.frames, nil, past, r.spec.Dwell) {
		return nil, stage.GoesOn
	}
	if r.seek.Found {
		return r.found(m, f)
	}
	return r.onward(m)
}

// onward goes to the next step, or gives up at the end of the range.
func (r *seekRunner) onward(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	level := r.seek.Level
	r.seek.Held, r.seek.Before = &level, m.Averages(r.seek.frames, nil)
	size := r.spec.Coarse
	if r.seek.Phase == seekFine {
		size = r.spec.Fine
	}
	toGo := r.spec.To - level
	if math.Abs(toGo) < 1e-9*math.Max(1, math.Abs(r.spec.To)) {
		p := m.NewPoint(r.name, r.seek.frames, nil)
		p.Row, p.Before, p.Vain = r.spec.Row, r.seek.Before, true
		return []stage.Effect{stage.Point{Point: p}}, m.InVain(quantity.Sprintf(
			"%s did not come to hold between %.6g and %.6g", r.until.Text, r.spec.From, r.spec.To))
	}
	r.seek.Level = level + math.Copysign(math.Min(size, math.Abs(toGo)), toGo)
	return []stage.Effect{r.step()}, stage.GoesOn
}

// found ends the coarse search, or the fine one.
func (r *seekRunner) found(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	p := m.NewPoint(r.name, r.seek.frames, nil)
	p.Row, p.Before = r.spec.Row, r.seek.Before
	if r.seek.Held != nil {
		p.Held = map[string]float64{r.spec.Column(): *r.seek.Held}
	}
	if r.seek.Row != nil {
		m.TakePlaceOf(*r.seek.Row, &p) // the finer one
	}
	r.seek.Row = &p
	effects := []stage.Effect{stage.NewMark(f.T, record.MarkCondition, fmt.Sprintf("%s at %s", r.until.Text, r.setting()))}
	if r.seek.Phase == seekCoarse && r.spec.Fine > 0 && r.seek.Held != nil {
		return append(effects, r.goBack(m)), stage.GoesOn
	}
	return r.finish(m, effects)
}

// finish gives the row, at once or after a look at how the unit recovers.
func (r *seekRunner) finish(m *stage.Machine, effects []stage.Effect) ([]stage.Effect, stage.Verdict) {
	if r.recovered == nil {
		return append(effects, r.row()...), stage.Over
	}
	if r.spec.Watch > 0 && r.seek.Found {
		r.seek.Phase, r.seek.Since, r.seek.Gone = seekWatch, m.Now(), true
		return effects, stage.GoesOn
	}
	return append(effects, r.relieve()), stage.GoesOn
}

func (r *seekRunner) row() []stage.Effect {
	return []stage.Effect{stage.Point{Point: *r.seek.Row}, stage.NewMark(r.seek.Row.T1, record.MarkPointDone, r.spec.Row)}
}

func (r *seekRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	span := r.spec.To - r.spec.From
	if span == 0 {
		return 0, 0, ""
	}
	return math.Abs((r.seek.Level - r.spec.From) / span), 0, fmt.Sprintf("%s search, until %s", r.seek.Phase, r.until.Text)
}

func (r *seekRunner) Shift(s float64) {
	r.seek.Since += s
	r.seek.Began += s
	r.seek.Away += s
	r.seek.Blind = -1
	stage.Shift(s, r.until, r.recovered)
	r.seek.frames = nil
}

func (r *seekRunner) Save() any {
	s := r.seek
	s.Wait = s.Wait.Saved(r.until)
	s.Frames = stage.Keep(s.frames)
	if r.recovered != nil {
		state := r.recovered.State()
		s.Recovered = &state
	}
	return s
}

func (r *seekRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.seek); err != nil {
		return err
	}
	r.seek.frames = r.seek.Frames.Frames()
	if r.seek.Past != nil {
		r.until.Restore(*r.seek.Past)
	}
	if r.recovered != nil && r.seek.Recovered != nil {
		r.recovered.Restore(*r.seek.Recovered)
	}
	r.seek.Frames, r.seek.Past, r.seek.Recovered = nil, nil, nil
	return nil
}
