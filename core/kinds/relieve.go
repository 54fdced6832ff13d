package kinds

import (
	"fmt"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// Relieve is how a seek helps a unit that has given up to come back, before it goes on finely: something is set, the
// unit is left alone, and where it latches its input is cycled.
type Relieve struct {
	Settings []procedure.Setting // the beginning of the search, or what is stated
	Wait     float64             // s; at least the dwell
	// Cycle is the seat that is switched off for Off, s, where waiting does not help; empty: none.
	Cycle string
	Off   float64
	// Ask are the words in which a person is asked to cycle it, where no seat can; empty: nobody is.
	Ask string
}

// patience is how many dwells the unit has to come back in, where nothing else is stated.
const patience = 20

// cycleOff is how long an input is off where nothing is stated, s.
const cycleOff = 3.0

// readRelieve reads {set: {load: {amps: 0 A}}, wait: 2 s, cycle: source, off: 3 s}.
func readRelieve(r *procedure.Reader, s *Seek, n document.Node) {
	x := &Relieve{Off: cycleOff}
	s.Relieve = x
	var off, ask document.Node
	n.Fields(map[string]func(document.Node){
		"set":  func(n document.Node) { x.Settings = r.Settings(n, false) },
		"wait": func(n document.Node) { x.Wait = r.Value(n, quantity.Time) },
		"cycle": func(n document.Node) {
			x.Cycle = n.Text()
			if seat, ok := r.Seat(x.Cycle); !ok || !seat.Kind.HasOutput() {
				n.Fail("there is no seat %q that can be switched off and on; %s", x.Cycle,
					document.Suggest(x.Cycle, r.SeatNames()))
			}
		},
		"ask": func(n document.Node) { ask, x.Ask = n, n.Text() },
		"off": func(n document.Node) { off = n; x.Off = r.Value(n, quantity.Time) },
	})
	if off.Present() && (x.Cycle == "" || x.Off <= 0) {
		off.Fail("off is for how long a seat is off that cycle names, more than 0 s")
	}
	if ask.Present() && x.Cycle != "" {
		ask.Fail("a person is asked where no seat can cycle the input; leave cycle or ask out")
	}
	x.Wait = max(x.Wait, s.Dwell)
	if x.Settings == nil {
		x.Settings = s.beginning()
	}
}

// beginning sets what is stepped to where the search began.
func (s *Seek) beginning() []procedure.Setting {
	return []procedure.Setting{{Seat: s.Seat, Quantity: s.Quantity, Value: s.From}}
}

// goBack relieves the unit after the coarse search.
func (r *seekRunner) goBack(m *stage.Machine) stage.Effect {
	r.seek.Phase, r.seek.Level = seekBack, r.spec.From
	if r.spec.Relieve == nil {
		return r.step()
	}
	r.seek.Restore = nil
	for _, s := range r.spec.Relieve.Settings {
		if before, known := m.InForce(s.Column()); known && s.Column() != r.spec.Column() {
			r.seek.Restore = append(r.seek.Restore, before)
		}
	}
	return r.command(r.spec.Relieve.Settings)
}

// back waits until the condition holds no longer, and then goes on finely. A unit that does not come back has its input
// cycled, or keeps the search coarse.
func (r *seekRunner) back(m *stage.Machine, f trace.Frame, holds bool) ([]stage.Effect, stage.Verdict) {
	past, wait, longest := f.T-r.seek.Since, r.spec.Dwell, patience*r.spec.Dwell
	if x := r.spec.Relieve; x != nil {
		wait, longest = x.Wait, max(longest, 2*x.Wait)
		if x.Cycle != "" || x.Ask != "" {
			longest = x.Wait
		}
	}
	switch {
	case past >= wait && !holds:
		r.seek.Phase, r.seek.Level = seekFine, *r.seek.Held
		return []stage.Effect{r.step(r.seek.Restore...)}, stage.GoesOn
	case past < longest:
		return nil, stage.GoesOn
	case r.mayCycle():
		return []stage.Effect{r.cycle()}, stage.GoesOn
	}
	return r.finish(m, []stage.Effect{stage.NewMark(f.T, record.MarkCondition, fmt.Sprintf(
		"%s still holds after relief, so the search stays coarse", r.until.Text))})
}

// mayCycle tells whether the input can still be cycled in this search for the level, or after it.
func (r *seekRunner) mayCycle() bool {
	x := r.spec.Relieve
	return x != nil && (x.Cycle != "" || x.Ask != "") && !r.seek.Cycled && !r.seek.Refused
}

// cycle switches the unit's input off, to be switched on again in a while, or asks a person to do it.
func (r *seekRunner) cycle() stage.Effect {
	r.seek.Cycled = true
	if r.spec.Relieve.Cycle == "" {
		r.seek.Asking = true
		return r.ask()
	}
	r.seek.Off = true
	return r.command([]procedure.Setting{{Seat: r.spec.Relieve.Cycle, Quantity: seats.Output, Word: seats.Off}})
}

// cycling tells whether the input is off, and switches it on again when it has been for long enough.
func (r *seekRunner) cycling(f trace.Frame) (effects []stage.Effect, is bool) {
	switch {
	case r.seek.Asking:
		return nil, true
	case !r.seek.Off:
		return nil, false
	case f.T-r.seek.Since < r.spec.Relieve.Off:
		return nil, true
	}
	r.seek.Off = false
	r.until.Reset()
	if r.recovered != nil {
		r.recovered.Reset()
	}
	return []stage.Effect{r.command([]procedure.Setting{{Seat: r.spec.Relieve.Cycle, Quantity: seats.Output,
		Word: seats.On}})}, true
}

// Prompting is what a person is asked while the search waits for one; nil: nothing.
func (r *seekRunner) Prompting() *stage.Prompt {
	if !r.seek.Asking {
		return nil
	}
	return &stage.Prompt{Form: stage.AskConfirm, Text: r.spec.Relieve.Ask}
}

func (r *seekRunner) ask() stage.Effect {
	return stage.Ask{Prompt: *r.Prompting(), T: r.seek.Since, Stage: r.name}
}

// Asked implements stage.Asking.
func (r *seekRunner) Asked() []stage.Effect {
	if !r.seek.Asking {
		return nil
	}
	return []stage.Effect{r.ask()}
}

// Answered goes on from when a person says that the input was cycled; one who says no leaves the unit as it is.
func (r *seekRunner) Answered(_ *stage.Machine, e stage.Answered) ([]stage.Effect, stage.Verdict) {
	if !r.seek.Asking {
		return nil, stage.GoesOn
	}
	r.seek.Asking, r.seek.Since = false, e.T
	if e.Text == "no" {
		r.seek.Cycled, r.seek.Refused = false, true
	}
	r.until.Reset()
	if r.recovered != nil {
		r.recovered.Reset()
	}
	return []stage.Effect{stage.Dismiss{}, stage.NewMark(e.T, record.MarkAnswer, fmt.Sprintf("%s answered %s: %s", e.By,
		r.name, e.Text))}, stage.GoesOn
}

// Leave implements stage.Leaving.
func (r *seekRunner) Leave() []stage.Effect {
	if !r.seek.Asking {
		return nil
	}
	return []stage.Effect{stage.Dismiss{}}
}
