package kinds

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/core/waveform"
)

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
	captureJudged capturePhase = "judged" // it is taken, and its figures tell whether it counts
	captureAfter  capturePhase = "after"  // it is taken, and what was done is undone
)

type captureState struct {
	Phase capturePhase `json:"phase"`
	Of    int          `json:"of"`   // from 1
	Shot  int          `json:"shot"` // counts what was asked of the scope
	Again int          `json:"again,omitempty"`
	Since float64      `json:"since"`
	Done  bool         `json:"done,omitempty"` // what is to be done was commanded
	// Judging counts the figures that are looked at, from 1.
	Judging int `json:"judging,omitempty"`
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
		more, v := r.judge(t)
		return append(effects, more...), v
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
	if len(r.spec.Back) > 0 && r.capture.Done && (r.capture.Of == r.spec.Times || len(r.spec.Valid) > 0) {
		r.capture.Phase = captureAfter
		return append(effects, r.command(r.spec.Back)...), stage.GoesOn
	}
	more, v := r.judge(e.T)
	return append(effects, more...), v
}

// judge asks whether the capture counts.
func (r *captureRunner) judge(t float64) ([]stage.Effect, stage.Verdict) {
	if len(r.spec.Valid) == 0 {
		return r.next(t)
	}
	r.capture.Phase, r.capture.Judging = captureJudged, 1
	return r.Asked(), stage.GoesOn
}

// Asked gives the figure that is waited for.
func (r *captureRunner) Asked() []stage.Effect {
	if r.capture.Phase != captureJudged || r.capture.Judging == 0 {
		return nil
	}
	return []stage.Effect{stage.Need{Asked: r.spec.Valid[r.capture.Judging-1].Figure}}
}

// Figured goes on when a figure of the capture lies in its band. A capture that is outside is kept, and was in vain.
func (r *captureRunner) Figured(m *stage.Machine, e stage.Figured) ([]stage.Effect, stage.Verdict) {
	if r.capture.Phase != captureJudged || r.capture.Judging == 0 || r.capture.Anew {
		return nil, stage.GoesOn
	}
	band, f := r.spec.Valid[r.capture.Judging-1], e.Result
	switch {
	case f.Undetermined != nil:
		return nil, m.InVain(fmt.Sprintf("the capture does not count: %s is undetermined: %s", f.ID, f.Undetermined))
	case f.Value < band.Min || f.Value > band.Max:
		return nil, m.InVain(quantity.Sprintf("the capture does not count: %s is %.6g %s, and the stage asks for %s", f.ID,
			f.Value, f.Unit, band.Words()))
	case r.capture.Judging < len(r.spec.Valid):
		r.capture.Judging++
		return r.Asked(), stage.GoesOn
	}
	return r.next(e.T)
}

// next takes the next capture, or is over.
func (r *captureRunner) next(t float64) ([]stage.Effect, stage.Verdict) {
	if r.capture.Of < r.spec.Times {
		r.capture.Of++
		return r.begin(t)
	}
	return nil, stage.Over
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

// Leave implements stage.Leaving: what was done is undone.
func (r *captureRunner) Leave() []stage.Effect {
	effects := []stage.Effect{stage.Disarm{}}
	if r.capture.Done && len(r.spec.Back) > 0 && r.capture.Phase != captureAfter && r.capture.Phase != captureJudged {
		effects = append(effects, stage.Command{Settings: r.spec.Back})
	}
	return effects
}

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

func (r *captureRunner) Load(data []byte) error {
	err := json.Unmarshal(data, &r.capture)
	r.capture.Judging = min(r.capture.Judging, len(r.spec.Valid))
	return err
}
