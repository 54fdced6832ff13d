package stage

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// driveRunner is a charge or a discharge. The first termination that holds switches the seat off and ends it; a
// step-down lowers the current at the cutoff for as long as it may.
type driveRunner struct {
	spec   *procedure.Drive
	until  *condition.Condition
	ends   []*condition.Condition
	within float64
	volts  int // columns of the seat's volts and amps, −1: none
	amps   int
	drive  driveState
	// The newest reading and the slope there, for how soon the next is wanted.
	lastT, lastV, slope float64
	lastI               float64 // newest current, to see a lost contact
}

type driveState struct {
	wait
	Begun  bool    `json:"begun"`
	Ended  string  `json:"ended,omitempty"` // the terminations that hold; the output is being switched off
	Amps   float64 `json:"amps"`            // of the present step of a step-down, without sign
	Step   int     `json:"step"`
	Gentle bool    `json:"gentle,omitempty"` // the current is still that of the precharge
	Blind  float64 `json:"blind"`            // until when the cutoff is not watched after a step
	// Terms is what the terminations remember, only in a snapshot.
	Terms []condition.State `json:"terms,omitempty"`
}

func (r *driveRunner) enter(m *Machine) ([]Effect, verdict) {
	r.drive = driveState{wait: wait{Since: m.state.Now}}
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
	r.lastT, r.slope, r.lastI = math.NaN(), 0, 0
	r.drive.Gentle = r.spec.Before != nil
	return []Effect{Command{Settings: r.settings()}}, goesOn
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

func (r *driveRunner) applied(m *Machine, t float64) ([]Effect, verdict) {
	switch {
	case r.drive.Ended != "":
		return []Effect{Mark{t, MarkCommand, settingsLabel(r.off())}}, over
	case !r.drive.Begun:
		r.drive.Begun, r.drive.Since = true, t
		m.state.StageT = t // its time counts from when the output is on
		return []Effect{Mark{t, MarkCommand, settingsLabel(r.settings())}}, goesOn
	case r.spec.Down == nil:
		return nil, goesOn
	}
	r.drive.Blind = t + r.spec.Down.Blank
	return []Effect{Mark{t, MarkCommand, fmt.Sprintf("stepped down to %.4g A", r.drive.Amps)}}, goesOn
}

func (r *driveRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if words := r.contactLost(f); words != "" {
		return m.trip(f.T, words, words), goesOn
	}
	r.follow(f)
	if r.drive.Gentle {
		if effects, v := r.precharge(m, f); effects != nil || v != goesOn {
			return effects, v
		}
	}
	var words []string
	s := m.sample(f)
	for i, c := range r.ends {
		// Every rule sees every frame; of several that hold at once the first of the document stands first.
		if c.Evaluate(s) == condition.True && !(r.spec.Ends[i].Word == "cutoff" && f.T < r.drive.Blind) {
			words = append(words, r.spec.Ends[i].Word)
		}
	}
	if len(words) == 0 {
		effects, v := awaited(m, f, r.until, r.drive.Since, r.within)
		if v == over {
			return append(effects, Mark{f.T, MarkCondition, r.spec.Kind() + " ended by until"}, r.end("until")), goesOn
		}
		return effects, v
	}
	if r.spec.Down != nil && slices.Equal(words, []string{"cutoff"}) {
		if next := r.drive.Amps / r.spec.Down.Factor; next >= r.spec.Down.Least*(1-1e-9) {
			r.drive.Amps = next
			r.drive.Step++
			return []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("cutoff, step %d", r.drive.Step)},
				Command{Settings: []procedure.Setting{r.current()}}}, goesOn
		}
	}
	ended := strings.Join(words, ", ")
	return []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("%s ended by %s", r.spec.Kind(), ended)}, r.end(ended)}, goesOn
}

// precharge goes over to the full current as soon as the battery has come up, and gives up one that does not.
func (r *driveRunner) precharge(m *Machine, f trace.Frame) ([]Effect, verdict) {
	b := r.spec.Before
	switch {
	case r.volts >= 0 && f.Values[r.volts] >= b.Below:
		r.drive.Gentle = false
		return []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("pre-charged to %.4g V", b.Below)},
			Command{Settings: []procedure.Setting{r.current()}}}, goesOn
	case f.T-r.drive.Since >= b.Most:
		m.why = fmt.Sprintf("the battery did not come up to %.4g V within %.4g s", b.Below, b.Most)
		return nil, timedOut
	}
	return nil, goesOn
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
		return fmt.Sprintf("the contact was lost: the charge current broke off from %.4g A to %.4g A", before, r.lastI)
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
		r.slope += ((v-r.lastV)/dt - r.slope) * 0.35
	}
	r.lastT, r.lastV = f.T, v
}

// pace is how soon the next frame is wanted, s: a tenth of the time that is left to the cutoff at the present
// slope, so that the cutoff falls into a short interval.
func (r *driveRunner) pace() float64 {
	if r.spec.Cutoff <= 0 || r.drive.Ended != "" || !(r.slope < 0) || !(r.lastV > r.spec.Cutoff) {
		return math.Inf(1)
	}
	return (r.lastV - r.spec.Cutoff) / -r.slope / 10
}

func (r *driveRunner) end(why string) Effect {
	r.drive.Ended = why
	return Command{Settings: r.off()}
}

func (r *driveRunner) off() []procedure.Setting {
	return []procedure.Setting{{Seat: r.spec.Seat, Quantity: "output", Word: "off"}}
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
func (r *driveRunner) leave() []Effect { return []Effect{Command{Settings: r.off()}} }

func (r *driveRunner) paused() []procedure.Setting { return r.off() }

func (r *driveRunner) resumed() []procedure.Setting {
	if r.drive.Ended != "" {
		return nil
	}
	return []procedure.Setting{{Seat: r.spec.Seat, Quantity: "output", Word: "on"}}
}

func (r *driveRunner) progress(m *Machine) (share, left float64, detail string) {
	var words []string
	for _, e := range r.spec.Ends {
		words = append(words, e.Word)
	}
	detail = "until " + strings.Join(words, ", ")
	if r.drive.Gentle {
		detail = "pre-charge, " + detail
	}
	past := m.state.Now - r.drive.Since
	if r.spec.Expect <= 0 {
		return 0, 0, detail
	}
	return min(past/r.spec.Expect, 1), max(r.spec.Expect-past, 0), detail
}

func (r *driveRunner) shift(s float64) {
	r.lastT, r.lastI = math.NaN(), 0
	r.drive.Since += s
	r.drive.Blind += s
	shifted(s, append(slices.Clone(r.ends), r.until)...)
}

func (r *driveRunner) save() any {
	d := r.drive
	d.wait = d.wait.saved(r.until)
	for _, c := range r.ends {
		d.Terms = append(d.Terms, c.State())
	}
	return d
}

func (r *driveRunner) load(data []byte) error {
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
