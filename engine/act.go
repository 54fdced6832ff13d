package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"runtime/debug"
	"slices"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/store"
)

// act carries out effects in order. Commands are acknowledged to the machine, which may answer with more.
func (r *liveRun) act(effects []stage.Effect) {
	for len(effects) > 0 {
		commanded, paced := false, true
		r.ending = r.ending || slices.ContainsFunc(effects, func(e stage.Effect) bool {
			_, last := e.(stage.Finish)
			return last
		})
		for _, e := range effects {
			switch e := e.(type) {
			case stage.Command:
				commanded = true
				paced = paced && e.Paced
				if err := r.command(e.Settings, e.Paced); err != nil {
					r.fail(err)
					return
				}
			case stage.Perform:
				commanded = true
				if err := r.perform(r.leave(), e.Action); err != nil {
					r.fail(err)
					return
				}
			case stage.Halt:
				if err := r.halt(context.Background()); err != nil {
					r.fail(err)
					return
				}
			case stage.Ask:
				r.ask(&e)
			case stage.Dismiss:
				r.ask(nil)
			case stage.Signal:
				r.bay.engine.Hub.Publish(api.EventSignal, r.bay.name, api.SignalEvent{Bay: r.bay.name, Run: r.record.ID, Signal: e})
			case stage.Need:
				r.compute(e)
			case stage.Replan:
				r.replan(e)
			case stage.RecordAll:
				r.keeper.all(e.From, e.Until)
			case stage.Afford:
				r.affording = &e
			case stage.Arm:
				r.arm(e)
			case stage.Scan:
				r.scan(e)
			case stage.WatchOpenings:
				r.watchOpenings(e)
			case stage.EndWatch:
				r.endWatch()
			case stage.Disarm:
				r.disarm()
			case stage.Taken:
				r.keepCapture(e.Capture)
			case stage.Dropped:
				r.recorder.DropCapture(e.Index)
			case stage.Mark:
				r.mark(e.Mark)
			case stage.Point:
				if err := r.recorder.Point(e.Point); err != nil {
					r.bay.engine.log.Error("record a point", "err", err)
				}
				r.bay.engine.Hub.Publish(api.EventPoint, r.bay.name, api.PointEvent{Bay: r.bay.name, Run: r.record.ID,
					Point: e.Point.InUnits()})
			case stage.Finish:
				r.finish = &e
				return
			}
		}
		if !commanded {
			return
		}
		applied := math.Max(r.now(), r.lastT)
		if !paced {
			r.counters.Split(applied)
		}
		effects = r.machine.Advance(stage.Applied{T: applied})
	}
}

// fail ends the run after something could not be carried out. What a stop kept from being done is no fault.
func (r *liveRun) fail(err error) {
	var stopped *latched
	if errors.As(r.owner.permit.Err(), &stopped) {
		r.act(r.machine.Advance(stage.StopAsked{T: r.now(), By: stopped.by}))
		return
	}
	r.act(r.machine.Advance(stage.Failed{T: r.now(), Reason: err.Error()}))
}

// compute has a figure of the run so far computed, while the run goes on.
func (r *liveRun) compute(need stage.Need) {
	run := *r.record
	run.Duration = math.Max(r.now(), r.lastT)
	r.keeper.drain(r.recorder)
	engine, t := r.bay.engine, run.Duration
	figured := r.figured
	engine.beside.Go(func() {
		select {
		case figured <- stage.Figured{T: t, Result: engine.computed(need, run)}:
		case <-r.safe: // nobody waits for it any longer
		}
	})
}

// computed is a figure of a run so far. One that panics is undetermined, and costs nothing else.
func (e *Engine) computed(need stage.Need, run store.Run) (result figure.Result) {
	undetermined := func(why string) figure.Result {
		return figure.Result{Request: need.Request, Undetermined: &record.Undetermined{Code: record.NoData, Sentence: why}}
	}
	defer func() {
		if p := recover(); p != nil {
			e.log.Error("a figure during a run", "panic", p, "stack", string(debug.Stack()))
			result = undetermined(fmt.Sprintf("internal error: %v", p))
		}
	}()
	if err := e.store.Flush(); err != nil {
		return undetermined(err.Error())
	}
	_, left, err := archive.Record(e.store, run)
	if err != nil {
		return undetermined(err.Error())
	}
	return need.Compute(left)
}

// command sets things, in order. A frame before and after is kept, but for the many levels of a shape.
func (r *liveRun) command(settings []procedure.Setting, paced bool) error {
	if !paced {
		r.keeper.command(r.recorder)
	}
	for _, s := range settings {
		x := r.bay.seat(s.Seat)
		if x == nil {
			return fmt.Errorf("the bay has no seat %s", s.Seat)
		}
		if err := r.bay.outputs.Apply(r.leave(), x, s); err != nil {
			return fmt.Errorf("%s was not carried out: %w", s, err)
		}
		r.tickedAt = 0 // a command may take its time
	}
	return nil
}
