package stage

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// driveRunner is a charge or a discharge. The first termination that holds switches the seat off and ends it; a step-down lowers the
// current at the cutoff for as long as it may.
type driveRunner struct {
	spec   *procedure.Drive
	until  *condition.Condition
	ends   []*condition.Condition
	within float64
	drive  driveState
}

type driveState struct {
	wait
	Begun bool    `json:"begun"`
	Ended string  `json:"ended,omitempty"` // the terminations that hold; the output is being switched off
	Amps  float64 `json:"amps"`            // of the present step of a step-down, without sign
	Step  int     `json:"step"`
	Blind float64 `json:"blind"` // until when the cutoff is not watched after a step
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
	return []Effect{Command{Settings: r.spec.Settings}}, goesOn
}

func (r *driveRunner) applied(m *Machine, t float64) ([]Effect, verdict) {
	switch {
	case r.drive.Ended != "":
		return []Effect{Mark{t, MarkCommand, settingsLabel(r.off())}}, over
	case !r.drive.Begun:
		r.drive.Begun, r.drive.Since = true, t
		m.state.StageT = t // its time counts from when the output is on
		return []Effect{Mark{t, MarkCommand, settingsLabel(r.spec.Settings)}}, goesOn
	}
	r.drive.Blind = t + r.spec.Down.Blank
	return []Effect{Mark{t, MarkCommand, fmt.Sprintf("stepped down to %.4g A", r.drive.Amps)}}, goesOn
}

func (r *driveRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
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
			return append(effects, r.end("until")), goesOn
		}
		return effects, v
	}
	if r.spec.Down != nil && slices.Equal(words, []string{"cutoff"}) {
		if next := r.drive.Amps / r.spec.Down.Factor; next >= r.spec.Down.Least*(1-1e-9) {
			r.drive.Amps = next
			r.drive.Step++
			return []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("cutoff, step %d", r.drive.Step)}, Command{Settings: []procedure.Setting{r.current()}}}, goesOn
		}
	}
	ended := strings.Join(words, ", ")
	return []Effect{Mark{f.T, MarkCondition, fmt.Sprintf("%s ended by %s", r.spec.Kind(), ended)}, r.end(ended)}, goesOn
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
	past := m.state.Now - r.drive.Since
	if r.spec.Expect <= 0 {
		return 0, 0, detail
	}
	return min(past/r.spec.Expect, 1), max(r.spec.Expect-past, 0), detail
}

func (r *driveRunner) shift(s float64) {
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
