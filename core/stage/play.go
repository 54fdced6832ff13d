package stage

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// playRunner moves quantities along their shapes: level by level at the times that they are due, or by handing
// them to the instruments.
type playRunner struct {
	spec   *procedure.Play
	until  *condition.Condition
	within float64
	play   playState
}

type playState struct {
	wait
	Begun bool    `json:"begun"` // the first levels, or the instruments' programs, are in force
	Next  float64 `json:"next"`  // when the next level is due, s since Since
	// Count, Late and Most are of the levels that were set: how many, how late together, how late at most, s.
	Count int     `json:"count"`
	Late  float64 `json:"late"`
	Most  float64 `json:"most"`
}

func (r *playRunner) byInstrument() bool { return r.spec.By == procedure.ByInstrument }

func (r *playRunner) length() float64 { return float64(r.spec.Times) * r.spec.Once() }

func (r *playRunner) enter(m *Machine) ([]Effect, verdict) {
	r.play = playState{wait: wait{Since: m.state.Now}}
	if r.until != nil {
		r.until.Reset()
	}
	if r.byInstrument() {
		return []Effect{Perform{r.spec}}, goesOn
	}
	return []Effect{Command{Settings: r.levels(m, 0), Paced: true}}, goesOn
}

// levels are the settings at a time since the beginning that are not in force already.
func (r *playRunner) levels(m *Machine, t float64) []procedure.Setting {
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
		if now, ok := m.state.Setpoints[track.Column()]; !ok || now != x || t == 0 {
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

func (r *playRunner) dueAt() float64 {
	if !r.play.Begun || r.byInstrument() {
		return math.Inf(1)
	}
	return r.play.Since + r.play.Next
}

func (r *playRunner) applied(m *Machine, t float64) ([]Effect, verdict) {
	if r.play.Begun {
		return nil, goesOn
	}
	r.play.Begun, r.play.Since = true, t
	r.play.Next = r.next(0)
	label := "shape begins"
	if r.byInstrument() {
		label = "shape begins, played by the instrument"
		for _, track := range r.spec.Tracks { // it will stand there at the end
			m.state.Setpoints[track.Column()] = track.Shape.Last()
			m.state.SetBy[track.Column()] = m.state.Stage
		}
	}
	return []Effect{Mark{t, MarkCommand, label}}, goesOn
}

// due sets the levels of now, and notes how late they are. Times that were missed are not made up for.
func (r *playRunner) due(m *Machine, t float64) ([]Effect, verdict) {
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
		return []Effect{Command{Settings: settings, Paced: true}}, goesOn
	}
	return nil, goesOn
}

func (r *playRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if f.T-r.play.Since >= r.length() && (r.byInstrument() || math.IsInf(r.play.Next, 1)) {
		return r.marks(f.T), over
	}
	effects, v := awaited(m, f, r.until, r.play.Since, r.within)
	if v == over { // before the shape's end
		effects = append(append(effects, r.leave()...), r.marks(f.T)...)
	}
	return effects, v
}

func (r *playRunner) marks(t float64) []Effect {
	if r.byInstrument() || r.play.Count == 0 {
		return nil
	}
	return []Effect{Mark{t, MarkBench,
		fmt.Sprintf("paced by the service: %d levels, late by %.2g ms in the mean, %.2g ms at most", r.play.Count,
			1e3*r.play.Late/float64(r.play.Count), 1e3*r.play.Most)}}
}

func (r *playRunner) progress(m *Machine) (share, left float64, detail string) {
	past := m.state.Now - r.play.Since
	if r.byInstrument() {
		detail = "played by the instrument"
	}
	if r.spec.Times > 1 {
		detail = fmt.Sprintf("pass %d of %d", min(int(past/r.spec.Once())+1, r.spec.Times), r.spec.Times)
	}
	return min(past/r.length(), 1), max(r.length()-past, 0), detail
}

func (r *playRunner) shift(s float64) { r.play.Since += s; shifted(s, r.until) }

func (r *playRunner) save() any {
	p := r.play
	p.wait = p.wait.saved(r.until)
	if math.IsInf(p.Next, 1) {
		p.Next = -1 // JSON has no infinity
	}
	return p
}

func (r *playRunner) load(data []byte) error {
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
func (r *playRunner) leave() []Effect {
	if r.byInstrument() {
		return []Effect{Halt{}}
	}
	return nil
}

// ByInstrument tells whether instruments play a shape by themselves now.
func (m *Machine) ByInstrument() bool {
	r, ok := m.runner().(*playRunner)
	return ok && r.byInstrument() && !m.state.Finished
}
