package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/engine/outputs"
	"usherbench/store"
)

// byShutdown is who asks for the end of a run when the service ends in good order.
const byShutdown = "the service, which is shutting down"

// keepEvery is how often the state of a run is kept, wall time; it is also kept as soon as a stage begins.
const keepEvery = 800 * time.Millisecond

// runState is the state of a live run, from which it goes on.
type runState struct {
	// T is the bench time of the last frame that it has seen, At the wall time then.
	T  float64   `json:"t"`
	At time.Time `json:"at"`
	// Off is when the outputs were confirmed off, for a run that was suspended in good order.
	Off     *time.Time               `json:"off,omitempty"`
	Machine json.RawMessage          `json:"machine"`
	Values  map[string]string        `json:"values,omitempty"`
	Counted map[string]trace.Counted `json:"counted,omitempty"`
}

// offTime says what is known of when the outputs of a run that was left behind went off.
type offTime struct {
	foundOn   bool // they were still on when the service came back
	confirmed time.Time
	err       error // they could not be confirmed off
}

// comeback is what a run goes on from.
type comeback struct {
	state runState
	plate *nameplate.Nameplate
	gap   record.Break
	why   string // what kept the service away; empty: it was killed or restarted
}

// mayGoOn tells whether the run could be taken up again later.
func (r *liveRun) mayGoOn() bool { return r.program.Resume.Allowed && r.machine.Resumable() == nil }

// keepState keeps the state of the run from time to time.
func (r *liveRun) keepState(t float64) {
	if r.finish != nil || !r.program.Resume.Allowed || time.Since(r.kept) < keepEvery && r.machine.Stage() == r.keptStage {
		return
	}
	r.kept, r.keptStage = time.Now(), r.machine.Stage()
	if data, err := r.state(t, nil); err == nil {
		r.recorder.State(data)
	} else {
		r.bay.engine.log.Error("keep the state of a run", "run", r.record.ID, "err", err)
	}
}

func (r *liveRun) state(t float64, off *time.Time) ([]byte, error) {
	machine, err := r.machine.Snapshot()
	if err != nil {
		return nil, err
	}
	at := r.bay.engine.byTheClock(r.began.Add(time.Duration(t / r.bay.engine.timeFactor * float64(time.Second))))
	return json.Marshal(runState{T: t, At: at, Off: off, Machine: machine, Values: r.values,
		Counted: r.counters.Counted()})
}

// byTheClock is what the clock of the computer would show, as it is set now, at an instant not long ago.
func (e *Engine) byTheClock(instant time.Time) time.Time {
	return e.store.Now().Add(-time.Since(instant))
}

// suspend makes the bay safe and leaves the run on record as live, so that it goes on when the service is back.
func (r *liveRun) suspend() {
	b := r.bay
	began, t := time.Now(), r.lastT
	r.keeper.drain(r.recorder)
	err := b.outputs.MakeSafe("the service shuts down; run "+r.record.ID+" goes on when it is back", r.record.ID)
	var off *time.Time
	if err == nil {
		middle := b.engine.byTheClock(began.Add(time.Since(began) / 2)) // the outputs went off while that was done
		off = &middle
	}
	data, stateErr := r.state(t, off)
	if stateErr == nil {
		r.recorder.State(data)
		stateErr = b.engine.store.Flush()
	}
	if stateErr != nil {
		r.finish = &stage.Finish{T: t, Ending: stage.Aborted, Reason: "stopped by " + byShutdown +
			"; its state could not be kept: " + stateErr.Error()}
		close(r.safe)
		r.conclude(err)
		return
	}
	close(r.safe)
	b.engine.Journal(store.JournalEntry{By: "service", Bay: b.name, RunID: r.record.ID, What: "run suspended",
		Detail: byShutdown})
	b.mu.Lock()
	b.run = nil
	b.mu.Unlock()
	b.release(r.owner)
	close(r.done)
}

// foundOn tells whether an output of the bay reads as on.
func (b *Bay) foundOn() bool {
	ctx, cancel := context.WithTimeout(b.engine.ctx, outputs.SafeWithin)
	defer cancel()
	return b.outputs.FoundOn(ctx)
}

// restore makes a live run of one that was left behind. The error says why it does not go on.
func (b *Bay) restore(record store.Run, off offTime) (*liveRun, error) {
	program, plate, err := record.Program()
	if err != nil {
		return nil, err
	}
	if !program.Resume.Allowed {
		return nil, fmt.Errorf("its procedure does not say resume: always")
	}
	if off.err != nil {
		return nil, fmt.Errorf("an output is not confirmed off")
	}
	if latest, err := b.engine.store.LatestRun(record.Bay); err != nil {
		return nil, err
	} else if latest.ID != record.ID {
		return nil, fmt.Errorf("run %s of %s came after it in this bay", latest.ID, latest.Serial)
	}
	data, err := b.engine.store.Snapshot(record.ID)
	if err != nil {
		return nil, fmt.Errorf("its state was not kept")
	}
	back := &comeback{plate: plate}
	if err := json.Unmarshal(data, &back.state); err != nil {
		return nil, fmt.Errorf("its state cannot be read: %w", err)
	}
	if len(back.state.Values) > 0 { // changed by hand during the run
		record.Parameters = back.state.Values
		if program, _, err = record.Program(); err != nil {
			return nil, err
		}
	}
	factor := b.engine.timeFactor
	switch away := b.engine.store.Now().Sub(back.state.At).Seconds() * factor; {
	case away > program.Resume.Within:
		return nil, fmt.Errorf("the service was away for %s, longer than the %s that the procedure allows",
			show(away, quantity.Time), show(program.Resume.Within, quantity.Time))
	case away < 0:
		return nil, fmt.Errorf("the clock of the computer was set back while the service was away, so that nobody knows " +
			"for how long it was")
	}
	program.LostAfter = 1.25 * time.Duration(b.config.LostAfter).Seconds() * factor
	machine, err := stage.Restore(program, back.state.Machine)
	if err != nil {
		return nil, err
	}
	if err := machine.Resumable(); err != nil {
		return nil, err
	}
	b.engine.awaitWarden()
	o, err := b.own(claim{state: api.BayStarting})
	if err != nil {
		return nil, err
	}
	b.gapOf(&record, back, off, factor)
	return &liveRun{bay: b, owner: o, program: program, machine: machine, record: &record, values: record.Parameters,
		lastT: math.Max(back.state.T, 0), back: back}, nil
}

// wardenPatience is how long after the start of the service a run that is to go on waits for a warden that is down: one
// that died meanwhile is started again in less.
const wardenPatience = 5 * time.Second

// awaitWarden gives a warden that is down the time to be started again.
func (e *Engine) awaitWarden() {
	w := e.options.Warden
	for w != nil && w.Down() != nil && time.Since(e.opened) < wardenPatience {
		select {
		case <-e.ctx.Done():
			return
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// unknownOff stands for an instant that is not known.
const unknownOff = -1

// surelyOff is how long, wall time, the instant at which the outputs went off may be uncertain, so that what
// flowed is still counted.
const surelyOff = 10 * time.Second

// gapOf works out what is known of the time in which nobody looked: from the last that is on record to when the
// outputs went off the last current went on; after that nothing flowed.
func (b *Bay) gapOf(run *store.Run, back *comeback, off offTime, factor float64) {
	s := &back.state
	bench := func(at time.Time) float64 { return s.T + at.Sub(s.At).Seconds()*factor }
	if s.Counted == nil {
		s.Counted = map[string]trace.Counted{}
	}
	b.sinceState(run, s)
	low, high := s.T, bench(off.confirmed)
	switch at, took, ok := b.engine.wardenActed(run.Bay, s.At); {
	case s.Off != nil:
		low, high = bench(*s.Off), bench(*s.Off)
	case ok:
		low, high = bench(at.Add(-took)), bench(at)
	case off.foundOn:
		low = high
	}
	low, high = math.Max(low, s.T), math.Max(high, s.T)
	gap := record.Break{T0: s.T, Off: (low + high) / 2, T1: high}
	if high-low > surelyOff.Seconds()*factor || !off.foundOn && gap.Off-gap.T0 > surelyOff.Seconds()*factor {
		gap.Off = unknownOff // what switches off does so within seconds: the clock of the computer was set meanwhile
	}
	for column, x := range s.Counted {
		seat, _, _ := strings.Cut(column, ".")
		if gap.Off < 0 {
			continue
		}
		charge, energy := x.Amps*(gap.Off-gap.T0), x.Watts*(gap.Off-gap.T0)
		x.Charge, x.Energy = x.Charge+charge, x.Energy+energy
		s.Counted[column] = x
		kind, _ := seats.KindOf(seat)
		if sign := kind.Gives(); sign != 0 {
			gap.Charge, gap.Energy = gap.Charge+sign*charge, gap.Energy+sign*energy
			gap.Within += math.Abs(x.Amps) * (high - low) / 2
		}
	}
	back.gap = gap
}

// sinceState brings the counters of a state up to the last frame that is on record after it.
func (b *Bay) sinceState(record *store.Run, s *runState) {
	last := s.T
	_ = b.engine.store.EachFrames(context.Background(), *record, s.T, math.MaxFloat64,
		func(times []float64, column func(int) ([]float64, error)) error {
			for i, name := range record.Columns {
				seat, q, _ := strings.Cut(name, ".")
				x := s.Counted[seat+".charge"]
				to := map[string]*float64{"charge": &x.Charge, "energy": &x.Energy, "amps": &x.Amps, "watts": &x.Watts}[q]
				values, err := column(i)
				if to == nil || err != nil {
					continue
				}
				for k, v := range values {
					if times[k] > s.T && !math.IsNaN(v) {
						*to, last = v, math.Max(last, times[k])
					}
				}
				s.Counted[seat+".charge"] = x
			}
			return nil
		}) // what cannot be read is lost; the state is older by a second then
	s.At = s.At.Add(time.Duration((last - s.T) / b.engine.timeFactor * float64(time.Second)))
	s.T = last
}

// wardenActed finds when the warden last made a bay safe after a time, and how long it took.
func (e *Engine) wardenActed(bay string, after time.Time) (at time.Time, took time.Duration, ok bool) {
	entries, err := e.store.JournalEntries(store.JournalFilter{Bay: bay, Limit: 50})
	if err != nil {
		return at, 0, false
	}
	for _, j := range entries {
		if j.What == byWarden && j.At.After(after) {
			var ms float64
			if _, words, found := strings.Cut(j.Detail, "off after "); found {
				_, _ = fmt.Sscanf(words, "%f ms", &ms)
			}
			at, took, ok = j.At, time.Duration(ms*float64(time.Millisecond)), true // the first after it counts
		}
	}
	return at, took, ok
}

// goOn hands the runs that go on to their bays, once those sample.
func (e *Engine) goOn() {
	for _, r := range e.resuming {
		b := r.bay
		r.complete()
		var err error
		if r.recorder, err = e.store.ContinueRecorder(e.ctx, *r.record); err == nil {
			e.Journal(store.JournalEntry{By: "service", Bay: b.name, RunID: r.record.ID, What: "run resumed",
				Detail: "after a rest it goes on where it was: " + r.record.Procedure + " on " + r.record.Serial})
			err = b.handOver(e.ctx, r)
			b.remember(r)
		} else {
			b.release(r.owner)
			err = errors.Join(err,
				e.endAborted(*r.record, "the service was killed while the run was live; it does not go on: "+err.Error()))
		}
		if err != nil {
			e.log.Error("resume a run", "run", r.record.ID, "err", err)
		}
	}
	e.resuming = nil
}

// remember shows when each stage began before the service was away.
func (b *Bay) remember(r *liveRun) {
	marks, err := b.engine.store.Marks(r.record.ID)
	if err != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, m := range marks {
		if m.Kind != record.MarkStage {
			continue
		}
		for i := range b.stages {
			if b.stages[i].Name == m.Label {
				b.stages[i].Began = &m.T
			}
		}
	}
}

// comeBack lets the unit rest, looks whether it is still the one that it was, and goes on.
func (r *liveRun) comeBack() {
	back := r.back
	factor := r.bay.engine.timeFactor
	t := math.Max(back.state.T+r.bay.engine.store.Now().Sub(back.state.At).Seconds()*factor, back.gap.T1)
	r.began = time.Now().Add(-time.Duration(t / factor * float64(time.Second)))
	r.lastT = math.Max(back.state.T, 0)
	r.counters.Continue(back.state.Counted)
	back.gap.T1 = t
	r.absences.forget()
	r.record.Breaks = append(r.record.Breaks, back.gap)
	if err := r.bay.engine.store.SaveBreaks(r.record.ID, r.record.Breaks); err != nil {
		r.bay.engine.log.Error("put a break on record", "run", r.record.ID, "err", err)
	}
	words := quantity.Sprintf("the service was away from %.6g s on", back.gap.T0)
	if back.why != "" {
		words = quantity.Sprintf("nobody looked after the run from %.6g s on: %s", back.gap.T0, back.why)
	}
	if back.gap.Off < 0 {
		words += "; when the outputs went off is not known"
	} else {
		words += quantity.Sprintf("; the outputs went off after %.3g s", back.gap.Off-back.gap.T0)
	}
	r.act(r.machine.Advance(stage.Interrupted{T: back.gap.T0, Why: words}))
	until := t + r.program.Resume.Rest
	for r.finish == nil && !r.suspended && r.now() < until {
		r.bay.alive(r.interval + outputs.JoinWait)
		select {
		case work := <-r.work:
			work()
		case <-r.warded: // the outputs are off
		case by := <-r.stop:
			if by == byShutdown {
				r.suspended = true
				return
			}
			r.act(r.machine.Advance(stage.StopAsked{T: r.now(), By: by}))
		case <-time.After(r.interval):
			r.tick()
		}
	}
	if r.finish != nil || r.suspended {
		return
	}
	if why := r.bay.implausible(r.back); why != "" {
		r.act(r.machine.Advance(stage.Failed{T: math.Max(r.now(), r.lastT), Reason: why}))
		return
	}
	r.act(r.machine.Advance(stage.Returned{T: math.Max(r.now(), r.lastT)}))
	r.tickedAt = 0
}
