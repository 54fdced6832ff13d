package kinds

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// driveRunner is a charge or a discharge. The first termination that holds switches the seat off and ends it; a
// step-down lowers the current at the cutoff for as long as it may.
type driveRunner struct {
	spec   *Drive
	until  *condition.Condition
	ends   []*condition.Condition
	within float64
	volts  int // columns of the seat's volts and amps, −1: none
	amps   int
	drive  driveState
	// The newest reading and the slope there, for how soon the next is wanted.
	lastT, lastV, slope float64
	latest              float64 // slope between the last two readings
	lastI               float64 // newest current, to see a lost contact
}

type driveState struct {
	stage.Wait
	Begun  bool    `json:"begun"`
	Ended  string  `json:"ended,omitempty"` // the terminations that hold; the output is being switched off
	Amps   float64 `json:"amps"`            // of the present step of a step-down, without sign
	Step   int     `json:"step"`
	Gentle bool    `json:"gentle,omitempty"` // the current is still that of the precharge
	Blind  float64 `json:"blind"`            // until when the cutoff is not watched after a step
	Flowed bool    `json:"flowed,omitempty"` // a current has flown
	Dry    float64 `json:"dry,omitempty"`    // since when no current flows; 0: it does
	// Terms is what the terminations remember, only in a snapshot.
	Terms []condition.State `json:"terms,omitempty"`
}

func (r *driveRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.drive = driveState{Wait: stage.Wait{Since: m.Now()}}
	for _, c := range r.ends {
		c.Reset()
	}
	if r.until != nil {
		r.until.Reset()
	}
	for _, s := range r.spec.Settings {
		if s.Quantity == "amps" {
			r.drive.Amps = max(s.Value, -s.Value)
		}
	}
	r.lastT, r.slope, r.latest, r.lastI = math.NaN(), 0, 0, 0
	r.drive.Gentle = r.spec.Before != nil
	return []stage.Effect{stage.Command{Settings: r.settings()}}, stage.GoesOn
}

// settings are what the stage begins with: of a charge that begins gently the lower current.
func (r *driveRunner) settings() []procedure.Setting {
	if !r.drive.Gentle {
		return r.spec.Settings
	}
	settings := slices.Clone(r.spec.Settings)
	for i := range settings {
		if settings[i].Quantity == "amps" {
			settings[i].Value = r.spec.Before.Amps
		}
	}
	return settings
}

func (r *driveRunner) Applied(m *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	switch {
	case r.drive.Ended != "":
		return []stage.Effect{stage.Commanded(t, r.off())}, stage.Over
	case !r.drive.Begun:
		r.drive.Begun, r.drive.Since = true, t
		m.CountFrom(t) // its time counts from when the output is on
		return []stage.Effect{stage.Commanded(t, r.settings())}, stage.GoesOn
	case r.spec.Down == nil:
		return nil, stage.GoesOn
	}
	r.drive.Blind = t + r.spec.Down.Blank
	return []stage.Effect{stage.MarkAbout(t, record.MarkCommand, quantity.Sprintf("stepped down to %.4g A", r.drive.Amps),
		record.SteppedDown{Step: r.drive.Step, Amps: r.drive.Amps})}, stage.GoesOn
}

func (r *driveRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if words := cmp.Or(r.contactLost(f), r.noCurrent(f)); words != "" {
		return m.Trip(f.T, words, words), stage.GoesOn
	}
	r.follow(f)
	if r.drive.Gentle {
		if effects, v := r.precharge(m, f); effects != nil || v != stage.GoesOn {
			return effects, v
		}
	}
	var words []string
	s := m.Sample(f)
	for i, c := range r.ends {
		// Every rule sees every frame; of several that hold at once the first of the document stands first.
		if c.Evaluate(s) == condition.True && !(r.spec.Terminations[i].Word == "cutoff" && f.T < r.drive.Blind) {
			words = append(words, r.spec.Terminations[i].Word)
		}
	}
	if len(words) == 0 {
		effects, v := m.Await(f, r.until, r.drive.Since, r.within)
		if v == stage.Over {
			return append(effects, r.end(f.T, []string{"until"})...), stage.GoesOn
		}
		// Charge flows also while nobody looks: the limit waits no longer than for an instrument that is silent.
		if r.within > 0 && v == stage.GoesOn && f.T-r.drive.Since > r.within+m.LostAfter() {
			v = stage.TimedOut
		}
		return effects, v
	}
	if r.spec.Down != nil && slices.Equal(words, []string{"cutoff"}) {
		if next := r.drive.Amps / r.spec.Down.Factor; next >= r.spec.Down.Least*(1-1e-9) {
			r.drive.Amps = next
			r.drive.Step++
			return []stage.Effect{stage.MarkAbout(f.T, record.MarkCondition, fmt.Sprintf("cutoff, step %d", r.drive.Step),
				record.CutoffReached{Step: r.drive.Step}),
				stage.Command{Settings: []procedure.Setting{r.current()}}}, stage.GoesOn
		}
	}
	return r.end(f.T, words), stage.GoesOn
}

// precharge goes over to the full current as soon as the battery has come up, and gives up one that does not.
func (r *driveRunner) precharge(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	b := r.spec.Before
	switch {
	case r.volts >= 0 && f.Values[r.volts] >= b.Below:
		r.drive.Gentle = false
		return []stage.Effect{stage.NewMark(f.T, record.MarkCondition, quantity.Sprintf("pre-charged to %.4g V", b.Below)),
			stage.Command{Settings: []procedure.Setting{r.current()}}}, stage.GoesOn
	case f.T-r.drive.Since >= b.Most: // it was charged also while nobody looked
		return nil, m.InVain(quantity.Sprintf("the battery did not come up to %.4g V within %.4g s", b.Below, b.Most))
	}
	return nil, stage.GoesOn
}

// contactLost tells a charge whose current breaks off from one that tapers: from above twice the taper current
// to below a tenth of it between two frames.
func (r *driveRunner) contactLost(f trace.Frame) string {
	if r.spec.Taper <= 0 || r.amps < 0 || math.IsNaN(f.Values[r.amps]) {
		return ""
	}
	before := r.lastI
	r.lastI = f.Values[r.amps]
	if before > 2*r.spec.Taper && r.lastI < r.spec.Taper/10 && r.drive.Ended == "" {
		return quantity.Sprintf("the contact was lost: the charge current broke off from %.4g A to %.4g A", before, r.lastI)
	}
	return ""
}

// noCurrent tells of a current that has not flown for as long as it may not.
func (r *driveRunner) noCurrent(f trace.Frame) string {
	g := r.spec.NoCurrent
	if g.Below <= 0 || r.amps < 0 || r.drive.Ended != "" || math.IsNaN(f.Values[r.amps]) {
		return ""
	}
	flows := math.Abs(f.Values[r.amps]) >= g.Below
	full := g.Until > 0 && r.volts >= 0 && f.Values[r.volts] >= g.Until
	r.drive.Flowed = r.drive.Flowed || flows
	switch {
	case flows || full && r.drive.Flowed: // open leads show the volts of the charge too
		r.drive.Dry = 0
	case r.drive.Dry == 0:
		r.drive.Dry = f.T
	case f.T-r.drive.Dry >= g.Within:
		return fmt.Sprintf("no current flows: %s A for %s s, where at least %s A must; check leads, fuses and the limits of "+
			"the instrument", quantity.Digits(f.Values[r.amps], 3), quantity.Digits(f.T-r.drive.Dry, 3),
			quantity.Digits(g.Below, 3))
	}
	return ""
}

// follow keeps the slope of the volts, as a mean that forgets within about five frames.
func (r *driveRunner) follow(f trace.Frame) {
	if r.volts < 0 || math.IsNaN(f.Values[r.volts]) {
		return
	}
	v := f.Values[r.volts]
	if dt := f.T - r.lastT; dt > 0 {
		r.latest = (v - r.lastV) / dt
		r.slope += (r.latest - r.slope) * 0.35
	}
	r.lastT, r.lastV = f.T, v
}

// Pace is how soon the next frame is wanted, s: a tenth of the time that is left to the cutoff, so that it falls into a
// short interval. At a knee the volts fall faster from frame to frame: by as much as the latest slope is steeper than
// the mean it is taken for steeper yet.
func (r *driveRunner) Pace() float64 {
	slope := r.slope
	if r.latest < slope {
		slope = 2*r.latest - slope
	}
	if r.spec.Cutoff <= 0 || r.drive.Ended != "" || !(slope < 0) || !(r.lastV > r.spec.Cutoff) {
		return math.Inf(1)
	}
	return (r.lastV - r.spec.Cutoff) / -slope / 10
}

// end switches the output off because of the rules that hold.
func (r *driveRunner) end(t float64, rules []string) []stage.Effect {
	r.drive.Ended = strings.Join(rules, ", ")
	kind := r.spec.Kind()
	return []stage.Effect{
		stage.MarkAbout(t, record.MarkCondition, kind+" ended by "+r.drive.Ended, record.Ended{Stage: kind, Rules: rules}),
		stage.Command{Settings: r.off()},
	}
}

func (r *driveRunner) off() []procedure.Setting {
	return []procedure.Setting{{Seat: r.spec.Seat, Quantity: seats.Output, Word: seats.Off}}
}

// current is the setting of the present step; a cycler discharges with a negative one.
func (r *driveRunner) current() procedure.Setting {
	for _, s := range r.spec.Settings {
		if s.Quantity == "amps" {
			if s.Value < 0 {
				s.Value = -r.drive.Amps
			} else {
				s.Value = r.drive.Amps
			}
			return s
		}
	}
	return procedure.Setting{}
}

// leave switches the output off when the stage is ended by hand or in vain.
func (r *driveRunner) Leave() []stage.Effect { return []stage.Effect{stage.Command{Settings: r.off()}} }

func (r *driveRunner) Paused() []procedure.Setting { return r.off() }

func (r *driveRunner) Resumed() []procedure.Setting {
	if r.drive.Ended != "" {
		return nil
	}
	return []procedure.Setting{{Seat: r.spec.Seat, Quantity: seats.Output, Word: seats.On}}
}

func (r *driveRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	var words []string
	for _, e := range r.spec.Terminations {
		words = append(words, e.Word)
	}
	detail = "until " + strings.Join(words, ", ")
	if r.drive.Gentle {
		detail = "pre-charge, " + detail
	}
	past := m.Now() - r.drive.Since
	if r.spec.Expect <= 0 {
		return 0, 0, detail
	}
	return min(past/r.spec.Expect, 1), max(r.spec.Expect-past, 0), detail
}

func (r *driveRunner) Shift(s float64) {
	r.lastT, r.lastI = math.NaN(), 0
	r.drive.Since += s
	r.drive.Blind += s
	r.drive.Dry = 0
	stage.Shift(s, append(slices.Clone(r.ends), r.until)...)
}

func (r *driveRunner) Save() any {
	d := r.drive
	d.Wait = d.Wait.Saved(r.until)
	for _, c := range r.ends {
		d.Terms = append(d.Terms, c.State())
	}
	return d
}

func (r *driveRunner) Load(data []byte) error {
	if err := json.Unmarshal(data, &r.drive); err != nil {
		return err
	}
	if len(r.drive.Terms) == len(r.ends) {
		for i, c := range r.ends {
			c.Restore(r.drive.Terms[i])
		}
	}
	if r.until != nil && r.drive.Past != nil {
		r.until.Restore(*r.drive.Past)
	}
	r.drive.Past, r.drive.Terms = nil, nil
	return nil
}
