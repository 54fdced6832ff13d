package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"strconv"
	"strings"

	"usherbench/api"
	"usherbench/core/document"
	"usherbench/core/kinds"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/store"
)

// Intervene does something to the live run by hand: pause, resume, skip, extend, note, answer, adjust. It fails
// with ErrIdle when there is no run, and with api.ErrBadRequest when it is not possible now. Everything is
// journalled with who did it.
func (b *Bay) Intervene(ctx context.Context, by string, i api.Intervention) error {
	b.mu.Lock()
	r := b.run
	b.mu.Unlock()
	if r == nil {
		return fmt.Errorf("%w: %s", ErrIdle, b.name)
	}
	pictured, err := b.pictured(r.record.ID, i)
	if err != nil {
		return err
	}
	work := func() { err = r.intervene(by, i, pictured) }
	done := make(chan struct{})
	select {
	case r.work <- func() { defer close(done); work() }:
	case <-r.done:
		return fmt.Errorf("%w: %s", ErrIdle, b.name)
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-done:
	case <-r.done:
	}
	if err == nil {
		detail := strings.Join(strings.Fields(strings.Join([]string{i.Text, i.Parameter, i.Value}, " ")), " ")
		if i.Seconds != 0 {
			detail = fmt.Sprintf("%+g s", i.Seconds)
		}
		b.engine.Journal(store.JournalEntry{By: by, Bay: b.name, RunID: r.record.ID, What: "run: " + string(i.Do),
			Detail: detail})
		b.publish()
	}
	return err
}

// pictured tells whether an answer is the number of a picture that is joined to the run, where one is asked for; no
// other answer needs the disk. It is looked up here, since the bay's goroutine never waits for that.
func (b *Bay) pictured(runID string, i api.Intervention) (bool, error) {
	number, err := strconv.Atoi(strings.TrimSpace(i.Text))
	prompt := b.Status().Prompt
	if i.Do != api.DoAnswer || err != nil || prompt == nil || prompt.Form != stage.AskPicture {
		return false, nil
	}
	a, err := b.engine.store.AboutAttachment(runID, number)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return a.Picture(), err
}

// RunTime is the bench time of a run that is live in the bay, s since its start.
func (b *Bay) RunTime(runID string) (t float64, live bool) {
	b.mu.Lock()
	r := b.run
	b.mu.Unlock()
	if r == nil || r.record.ID != runID {
		return 0, false
	}
	return r.now(), true
}

// intervene runs on the bay's goroutine. pictured says that an answer is the number of a picture of the run.
func (r *liveRun) intervene(by string, i api.Intervention, pictured bool) error {
	if r.finish != nil {
		return fmt.Errorf("%w: the run has ended", ErrIdle)
	}
	t := math.Max(r.now(), r.lastT)
	refuse := func(format string, args ...any) error {
		return fmt.Errorf("%w: "+format, append([]any{api.ErrBadRequest}, args...)...)
	}
	progress := r.machine.Progress()
	can := func(what string) bool { return strings.Contains(strings.Join(progress.Can, " "), what) }
	if r.machine.Away() && i.Do != api.DoNote && i.Do != api.DoLabel {
		return refuse("the run is about to go on after an interruption, and its outputs are off; wait until it does, or " +
			"stop it")
	}
	switch i.Do {
	case api.DoPause:
		if r.machine.ByInstrument() {
			return refuse("the instrument plays a shape by itself, which cannot be held; skip the stage or stop the run")
		}
		if progress.Paused {
			return refuse("the run is paused already")
		}
		r.act(r.machine.Advance(stage.Paused{T: t, By: by}))
	case api.DoResume:
		if !progress.Paused {
			return refuse("the run is not paused")
		}
		r.act(r.machine.Advance(stage.Resumed{T: t, By: by}))
	case api.DoSkip:
		if !can("skip") {
			return refuse("there is nothing to skip now")
		}
		r.act(r.machine.Advance(stage.Skipped{T: t, By: by}))
	case api.DoExtend:
		switch {
		case !can("extend"):
			return refuse("stage %q has no length that could be changed", progress.Name)
		case i.Seconds == 0 || math.IsNaN(i.Seconds) || math.Abs(i.Seconds) > 365*86400:
			return refuse("say by how much, such as 10 min")
		}
		r.act(r.machine.Advance(stage.Extended{T: t, By: by, Seconds: i.Seconds}))
	case api.DoNote:
		text := strings.TrimSpace(i.Text)
		if text == "" || len(text) > 500 {
			return refuse("a note has 1 to 500 characters")
		}
		r.act(r.machine.Advance(stage.Noted{T: t, By: by, Text: text}))
	case api.DoLabel:
		return r.label(by, t, i, refuse)
	case api.DoRequest:
		x, err := r.program.CheckAsked(i.Parameter, i.Value)
		if err != nil {
			return refuse("%s", err)
		}
		r.act(r.machine.Advance(stage.Requested{T: t, Column: i.Parameter, Value: x}))
	case api.DoAnswer:
		return r.answer(by, t, i.Text, pictured, refuse)
	case api.DoAdjust:
		return r.adjust(by, t, i, refuse)
	default:
		return refuse("%q cannot be done to a run; %s", i.Do, document.Suggest(string(i.Do), api.Doings()))
	}
	r.showProgress()
	return nil
}

// label notes in which state the unit is, now or since a while by the clock of who says so.
func (r *liveRun) label(by string, t float64, i api.Intervention, refuse func(string, ...any) error) error {
	state := strings.TrimSpace(i.Text)
	if err := record.CheckState(state); err != nil {
		return refuse("%s", err)
	}
	at := t
	if i.At != nil {
		if i.Clock == nil {
			return refuse("say with clock what your clock shows as you send this: it need not agree with that of the bench")
		}
		ago := i.Clock.Sub(*i.At).Seconds() * r.bay.engine.timeFactor
		if ago < 0 || t-ago < 0 {
			return refuse("the instant lies %s; a state is since an instant of this run",
				map[bool]string{true: "ahead of your clock", false: "before the run began"}[ago < 0])
		}
		at = t - ago
	}
	r.act(r.machine.Advance(stage.Stated{T: t, By: by, State: state, At: at}))
	r.showProgress()
	return nil
}

func (r *liveRun) answer(by string, t float64, text string, pictured bool, refuse func(string, ...any) error) error {
	if err := r.machine.CheckAnswer(text); err != nil {
		return refuse("%s", err)
	}
	if r.machine.Asking().Form == stage.AskPicture && !pictured {
		return refuse("attachment %s is no picture of this run; join one to it, and answer with its number",
			strings.TrimSpace(text))
	}
	if a := r.machine.Asking(); a.Form == stage.AskSerial && strings.TrimSpace(text) != r.record.Serial {
		return refuse("this is %s, but the run is of %s; check which unit is in the bay", strings.TrimSpace(text),
			r.record.Serial)
	}
	r.act(r.machine.Advance(stage.Answered{T: t, By: by, Text: strings.TrimSpace(text)}))
	r.showProgress()
	return nil
}

// adjust goes on with another value of a parameter that the procedure marks as adjustable.
func (r *liveRun) adjust(by string, t float64, i api.Intervention, refuse func(string, ...any) error) error {
	var names []string
	var found *procedure.Parameter
	for _, p := range r.program.Parameters {
		if p.Adjustable {
			names = append(names, p.Name)
			if p.Name == i.Parameter {
				found = &p
			}
		}
	}
	if found == nil {
		return refuse("%q cannot be changed during the run; adjustable: %s", i.Parameter,
			strings.Join(append(names, ""), " "))
	}
	values := map[string]string{}
	for name, value := range r.values {
		values[name] = value
	}
	values[i.Parameter] = i.Value
	program, err := r.resolve(values)
	if err != nil {
		return refuse("%s", err)
	}
	effects, err := r.machine.Adjust(program, t, by, i.Parameter+" from "+found.Value.String()+" to "+i.Value)
	if err != nil {
		return refuse("%s", err)
	}
	r.program, r.values = program, values
	r.act(effects)
	r.showProgress()
	return nil
}

// replan goes on with the program resolved for what the unit offers. What the unit offers and the procedure does not
// allow ends the run, before anything of it is asked for.
func (r *liveRun) replan(e stage.Replan) {
	values := map[string]string{}
	maps.Copy(values, r.values)
	values[procedure.Contracts] = e.Offer.String()
	program, err := r.resolve(values)
	if err == nil {
		err = r.machine.Replan(program)
	}
	if err != nil {
		r.act(r.machine.Advance(stage.Failed{T: r.now(), Reason: fmt.Sprintf("the unit offers %s, which cannot be tested: %s",
			stage.OfferWords(e.Offer), strings.ReplaceAll(err.Error(), "\n", "; "))}))
		return
	}
	r.program, r.values = program, values
}

// resolve makes the run's program anew with other values for its parameters. Who plays which shape stays as it
// was decided.
func (r *liveRun) resolve(values map[string]string) (*procedure.Program, error) {
	record := *r.record
	record.Parameters = values
	program, _, err := record.Program()
	if err != nil {
		return nil, err
	}
	program.LostAfter = r.program.LostAfter
	for i, s := range program.Stages {
		if play, ok := s.Action.(*kinds.Play); ok && i < len(r.program.Stages) {
			if before, ok := r.program.Stages[i].Action.(*kinds.Play); ok {
				play.By, play.Pace = before.By, before.Pace
			}
		}
	}
	return program, nil
}

// adjustables are the parameters that may be changed now, with their values.
func (r *liveRun) adjustables() []api.Adjustable {
	all := []api.Adjustable{}
	for _, p := range r.program.Parameters {
		if !p.Adjustable {
			continue
		}
		a := api.Adjustable{Name: p.Name, About: p.About, Value: p.Value.String()}
		bound := func(x float64) string {
			if math.IsInf(x, 0) {
				return ""
			}
			return quantity.Quantity{Value: x, Dim: p.Value.Dim}.String()
		}
		a.Min, a.Max = bound(p.Min), bound(p.Max)
		all = append(all, a)
	}
	return all
}
