package stage

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// seekRunner steps a quantity until a condition holds: coarse, then back to the beginning until it holds no
// longer, then fine from the last coarse step at which it did not. At the end it may look whether the unit
// recovers.
type seekRunner struct {
	name      string
	spec      *procedure.Seek
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
	seekRelief seekPhase = "relief"
)

type seekState struct {
	wait
	Phase seekPhase `json:"phase"`
	Began float64   `json:"began"` // of the whole search
	Level float64   `json:"level"`
	Held  *float64  `json:"held,omitempty"` // the last level at which the condition did not hold
	Found bool      `json:"found"`          // it held in this step
	// Before are the averages at Held, Row what was found.
	Before    map[string]trace.Average `json:"before,omitempty"`
	Row       *figure.Point            `json:"row,omitempty"`
	Frames    keptFrames               `json:"frames,omitempty"`    // of this step, only in a snapshot
	Recovered *condition.State         `json:"recovered,omitempty"` // only in a snapshot
	frames    []trace.Frame
}

func (r *seekRunner) enter(m *Machine) ([]Effect, verdict) {
	r.seek = seekState{Phase: seekCoarse, Began: m.state.Now, Level: r.spec.From}
	return []Effect{r.step()}, goesOn
}

func (r *seekRunner) step() Effect {
	r.seek.Found, r.seek.frames = false, nil
	r.until.Reset()
	return Command{Settings: []procedure.Setting{r.setting()}}
}

// setting is that of the present step.
func (r *seekRunner) setting() procedure.Setting {
	return procedure.Setting{Seat: r.spec.Seat, Quantity: r.spec.Quantity, Value: math.Round(r.seek.Level*1e9) / 1e9}
}

func (r *seekRunner) applied(_ *Machine, t float64) ([]Effect, verdict) {
	r.seek.Since = t
	return []Effect{Mark{t, MarkCommand, r.setting().String()}}, goesOn
}

func (r *seekRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.within > 0 && f.T-r.seek.Began > r.within && r.seek.Phase != seekRelief {
		m.why = fmt.Sprintf("%s was not found within %s", r.until.Text, seconds(r.within))
		return nil, timedOut
	}
	if r.seek.Phase == seekRelief {
		return r.relief(m, f)
	}
	truth := r.until.Evaluate(m.sample(f))
	past := f.T - r.seek.Since
	if r.seek.Phase == seekBack {
		switch {
		case past >= r.spec.Dwell && truth == condition.False:
			r.seek.Phase, r.seek.Level = seekFine, *r.seek.Held
			return []Effect{r.step()}, goesOn
		case past >= 20*r.spec.Dwell:
			effects := []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("at %.6g it still holds, so the search stays coarse",
				r.spec.From)}}
			return r.finish(effects)
		}
		return nil, goesOn
	}
	if truth == condition.True && !r.seek.Found {
		r.seek.Found, r.seek.frames = true, nil // averaged is what is after the event
	}
	if past >= r.spec.Dwell/2 || r.seek.Found {
		r.seek.frames = append(r.seek.frames, f)
	}
	if past < r.spec.Dwell || len(r.seek.frames) < 3 && past < longestAverage*r.spec.Dwell {
		return nil, goesOn
	}
	if r.seek.Found {
		return r.found(m, f)
	}
	return r.onward(m)
}

// onward goes to the next step, or gives up at the end of the range.
func (r *seekRunner) onward(m *Machine) ([]Effect, verdict) {
	level := r.seek.Level
	r.seek.Held, r.seek.Before = &level, averages(m.program.Columns, r.seek.frames, nil)
	size := r.spec.Coarse
	if r.seek.Phase == seekFine {
		size = r.spec.Fine
	}
	toGo := r.spec.To - level
	if math.Abs(toGo) < 1e-9*math.Max(1, math.Abs(r.spec.To)) {
		m.why = fmt.Sprintf("%s did not come to hold between %.6g and %.6g", r.until.Text, r.spec.From, r.spec.To)
		return nil, timedOut
	}
	r.seek.Level = level + math.Copysign(math.Min(size, math.Abs(toGo)), toGo)
	return []Effect{r.step()}, goesOn
}

// found ends the coarse search, or the fine one.
func (r *seekRunner) found(m *Machine, f trace.Frame) ([]Effect, verdict) {
	p := m.point(r.name, r.seek.frames, nil)
	p.Row, p.Before = r.spec.Row, r.seek.Before
	if r.seek.Row != nil {
		p.Index = r.seek.Row.Index // the finer one takes its place
		m.state.Points--
	}
	r.seek.Row = &p
	effects := []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("%s at %s", r.until.Text, r.setting())}}
	if r.seek.Phase == seekCoarse && r.spec.Fine > 0 && r.seek.Held != nil {
		r.seek.Phase, r.seek.Level = seekBack, r.spec.From
		return append(effects, r.step()), goesOn
	}
	return r.finish(effects)
}

// finish gives the row, at once or after a look at how the unit recovers.
func (r *seekRunner) finish(effects []Effect) ([]Effect, verdict) {
	if r.recovered == nil {
		return append(effects, r.row()...), over
	}
	r.seek.Phase = seekRelief
	r.recovered.Reset()
	return append(effects, Command{Settings: r.spec.Relief}), goesOn
}

func (r *seekRunner) row() []Effect {
	return []Effect{Point{*r.seek.Row}, Mark{r.seek.Row.T1, MarkPointDone, r.spec.Row}}
}

func (r *seekRunner) relief(m *Machine, f trace.Frame) ([]Effect, verdict) {
	past := f.T - r.seek.Since
	switch truth := r.recovered.Evaluate(m.sample(f)); {
	case truth == condition.True:
		r.seek.Row.Recovery = fmt.Sprintf("recovers by itself, %.3g s after relief", past)
	case past > r.spec.RecoversWithin:
		r.seek.Row.Recovery = fmt.Sprintf("does not recover by itself within %.3g s of relief", r.spec.RecoversWithin)
	default:
		return nil, goesOn
	}
	return append([]Effect{Mark{f.T, MarkCondition, r.seek.Row.Recovery}}, r.row()...), over
}

func (r *seekRunner) progress(m *Machine) (share, left float64, detail string) {
	span := r.spec.To - r.spec.From
	if span == 0 {
		return 0, 0, ""
	}
	return math.Abs((r.seek.Level - r.spec.From) / span), 0, fmt.Sprintf("%s search, until %s", r.seek.Phase, r.until.Text)
}

func (r *seekRunner) shift(s float64) {
	r.seek.Since += s
	r.seek.Began += s
	shifted(s, r.until, r.recovered)
	r.seek.frames = nil
}

func (r *seekRunner) save() any {
	s := r.seek
	s.wait = s.wait.saved(r.until)
	s.Frames = keptOf(s.frames)
	if r.recovered != nil {
		state := r.recovered.State()
		s.Recovered = &state
	}
	return s
}

func (r *seekRunner) load(data []byte) error {
	if err := json.Unmarshal(data, &r.seek); err != nil {
		return err
	}
	r.seek.frames = r.seek.Frames.frames()
	if r.seek.Past != nil {
		r.until.Restore(*r.seek.Past)
	}
	if r.recovered != nil && r.seek.Recovered != nil {
		r.recovered.Restore(*r.seek.Recovered)
	}
	r.seek.Frames, r.seek.Past, r.seek.Recovered = nil, nil, nil
	return nil
}
