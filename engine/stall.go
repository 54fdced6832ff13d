package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"time"

	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/warden"
)

// A stall is survived like a kill. When the bay's goroutine, or the whole computer, stood still for longer than the
// bench allows, the warden may have switched the outputs off. If they are on as before, the run goes on; if not, it
// goes on after a rest where its procedure allows that, as after a restart of the service, and ends where not.

// stoodStill looks after a standstill of the bay's goroutine, bench time, whether the run can go on. It is called
// before the next frame.
func (r *liveRun) stoodStill(still float64) {
	b := r.bay
	t := math.Max(r.now(), r.lastT)
	ctx, cancel := context.WithTimeout(r.leave(), time.Duration(b.config.LostAfter))
	defer cancel()
	if b.outputs.StillOn(ctx) {
		r.mark(record.Mark{T: t, Kind: record.MarkBench, Label: quantity.Sprintf(
			"the service stood still for %.3g s; the outputs stayed as they were", still)})
		r.tickedAt = 0
		return
	}
	r.interrupt(quantity.Sprintf("the service stood still for %.3g s, and the warden switched the outputs off; see what "+
		"kept the computer busy", still))
}

// interrupt takes the run up again whose outputs the warden has switched off, if its procedure allows that; else it
// ends.
func (r *liveRun) interrupt(why string) {
	if r.finish != nil || r.machine.Away() {
		return
	}
	back, err := r.breakNow(why)
	if err != nil {
		r.act(r.machine.Advance(stage.Failed{T: math.Max(r.now(), r.lastT), Reason: why + "; it does not go on: " +
			err.Error()}))
		return
	}
	r.back = back
	r.comeBack()
}

// breakNow makes safe, and works out what is known of the time in which nobody looked.
func (r *liveRun) breakNow(why string) (*comeback, error) {
	b := r.bay
	if !r.program.Resume.Allowed {
		return nil, fmt.Errorf("its procedure does not say resume: always")
	}
	if err := r.machine.Resumable(); err != nil {
		return nil, err
	}
	data, err := r.state(r.lastT, nil)
	if err != nil {
		return nil, err
	}
	back := &comeback{why: why}
	if err := json.Unmarshal(data, &back.state); err != nil {
		return nil, err
	}
	if text := r.record.NameplateText; text != "" {
		if back.plate, err = nameplate.Parse([]byte(text)); err != nil {
			return nil, err
		}
	}
	off := offTime{err: b.outputs.MakeSafe("run "+r.record.ID+" was interrupted", r.record.ID)}
	off.confirmed = b.engine.store.Now()
	if off.err != nil {
		return nil, fmt.Errorf("an output is not confirmed off")
	}
	b.outputs.InUse(false)
	b.engine.readWardenLog()
	select { // what it tells of itself is known by now
	case <-r.warded:
	default:
	}
	b.gapOf(r.record, back, off, b.engine.timeFactor)
	return back, nil
}

// byTheWarden words what the warden did while the service lived.
func byTheWarden(report warden.Report) string { return "the warden made the bay safe: " + report.Why }
