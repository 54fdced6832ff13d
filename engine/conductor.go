package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"runtime/debug"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/core/kinds"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/engine/outputs"
	"usherbench/store"
	"usherbench/warden"
)

// liveRun is a run under way. Its fields belong to the bay's goroutine, except stop and done.
type liveRun struct {
	bay       *Bay
	owner     *owner
	program   *procedure.Program
	machine   *stage.Machine
	record    *store.Run
	recorder  *store.Recorder
	keeper    keeper
	counters  *trace.Counters
	picks     []int // where the program's columns are among the bay's
	derived   []int // where those that it derives are among its own
	began     time.Time
	lastT     float64
	ticks     int     // frames taken, recorded or not
	tickedAt  float64 // when the last frame was done; 0: not to be judged by
	interval  time.Duration
	still     standstills
	absences  *absences
	noted     uint64               // readings beyond their range that were looked at
	beyond    map[string]time.Time // when each column was last marked as beyond its range
	frames    framesBatch
	affording *stage.Afford // what a stage waits for until it may be borne; nil: nothing
	told      time.Time     // when watchers were last told of the status
	unwritten time.Time     // since when the record cannot be written, as a mark says
	spread    time.Time     // when readings that took long to come were last marked
	finish    *stage.Finish
	ending    bool              // the outputs come first, watchers hear of marks afterwards
	untold    []api.MarkEvent   // those
	tripped   string            // words of the guard that ended the run
	values    map[string]string // what was given for the parameters, changes by hand included
	listed    []int             // where each stage of the program stands in the list that people see
	prompt    *stage.Ask        // what the operator is asked now
	// performing is what instruments play by themselves; nil if nothing.
	performing *kinds.Play
	// back is what the run goes on from after the service was away; nil for one that begins.
	back      *comeback
	kept      time.Time // when its state was last kept
	keptStage int
	suspended bool // it goes on when the service is back

	work    chan func()        // things to do between frames, on the bay's goroutine
	figured chan stage.Figured // figures that the program asked for
	scope   scoping            // captures

	stopOnce sync.Once
	warded   chan warden.Report // what the warden did to the bay meanwhile
	stop     chan string        // who asks the run to end
	safe     chan struct{}      // closed when its outputs were made safe
	done     chan struct{}      // closed when the run is on record as ended too, or that is put off
	buried   chan struct{}      // closed when it is noted beside the database that the run has ended; nil before its end
	recorded bool               // its record is complete on disk
}

// Readings of a frame that took longer than this to come, wall time, are marked where something hinges on the frame,
// and once a pause where nothing does.
const mostSpread, spreadPause = 50 * time.Millisecond, 10 * time.Second

// beyondPause is how often a column that goes beyond its range and comes back is marked at most.
const beyondPause = 10 * time.Second

func newLiveRun(b *Bay, p *procedure.Program, m *stage.Machine, record *store.Run) *liveRun {
	r := &liveRun{bay: b, program: p, machine: m, record: record, values: record.Parameters}
	r.complete()
	return r
}

// complete gives a run what only a sampling bay has, and the ways in which others reach it.
func (r *liveRun) complete() {
	r.counters, r.keeper = r.bay.sampler.Counters(), newKeeper(r.record.Columns, r.program.Levels(), r.program.Past())
	r.absences = r.bay.newAbsences()
	r.beyond = map[string]time.Time{}
	r.stop, r.safe, r.done = make(chan string, 1), make(chan struct{}), make(chan struct{})
	r.scope.events = make(chan captureEvent)
	r.work, r.figured, r.warded = make(chan func()), make(chan stage.Figured, 1), make(chan warden.Report, 1)
	r.pickColumns()
}

// pickColumns finds the columns of the program among those of the bay.
func (r *liveRun) pickColumns() {
	for _, column := range r.program.Columns {
		r.picks = append(r.picks, r.bay.sampler.Columns.Index(column))
	}
	for _, column := range r.program.Computed() {
		r.derived = append(r.derived, r.program.Columns.Index(column))
	}
}

func (r *liveRun) askStop(by string) { r.stopOnce.Do(func() { r.stop <- by }) }

// launch puts the run on record in exchange for its place in the line, and hands it to the bay's goroutine. It tells
// what has begun; from then on the run belongs to that goroutine.
func (b *Bay) launch(ctx context.Context, r *liveRun, place uint) (begun api.RunSummary, err error) {
	r.record.StartedAt = b.engine.store.Now()
	begin := func() error {
		if err := b.engine.tombstones.begin(r.record.ID); err != nil {
			return err
		}
		return b.engine.store.Begin(r.record, place)
	}
	if err := begin(); err != nil {
		return begun, fmt.Errorf("put the run on record: %w", errors.Join(err, b.engine.tombstones.drop(r.record.ID)))
	}
	r.recorder = b.engine.store.NewRecorder(r.record.ID, r.record.Columns)
	b.engine.Journal(store.JournalEntry{By: r.record.Operator, Bay: b.name, RunID: r.record.ID, What: "run started",
		Detail: fmt.Sprintf("%s revision %d on %s", r.record.Procedure, r.record.Revision, r.record.Serial)})
	begun = r.record.Summary()
	return begun, b.handOver(ctx, r)
}

// handOver gives a run that is on record to the bay's goroutine.
func (b *Bay) handOver(ctx context.Context, r *liveRun) error {
	summary := r.record.Summary()
	b.outputs.InUse(false)
	b.mu.Lock()
	b.run, b.last = r, &summary
	b.boundBy(r.record.NameplateText)
	b.stages = nil
	for _, s := range r.program.Stages {
		r.listed = append(r.listed, len(b.stages))
		if !procedure.Control(s.Action) {
			b.stages = append(b.stages, api.StageSummary{Name: s.Name, Kind: s.Kind(), Path: s.Path, Estimate: s.Duration()})
		}
	}
	b.mu.Unlock()
	started := make(chan struct{})
	select {
	case b.requests <- func() { close(started); r.conduct() }:
		<-started
		return nil
	case <-ctx.Done():
		r.abandon(ctx.Err().Error())
		// Whoever was to begin it does not wait for its end to be written, which may never be possible: the line has other
		// bays, and the service may come to its end.
		b.beside.Go(func() { r.conclude(nil) })
		return ctx.Err()
	case <-b.ctx.Done():
		r.abandon(ErrStopping.Error())
		r.conclude(nil)
		return ErrStopping
	}
}

// leave is the context in which the run may set something: it ends when the run is stopped.
func (r *liveRun) leave() context.Context { return r.owner.permit.Context() }

// notCarriedOut ends the run after an error at its outputs: as stopped if that is why.
func (r *liveRun) notCarriedOut(err error) *stage.Finish {
	end := &stage.Finish{T: r.lastT, Ending: stage.Aborted,
		Reason: "the instruments could not be prepared: " + err.Error()}
	if stopped := r.owner.permit.Err(); stopped != nil {
		end.Reason = stopped.Error()
	}
	return end
}

// conduct executes the program. Whatever happens, it ends with the bay made safe and the run on record as ended.
func (r *liveRun) conduct() {
	b := r.bay
	defer func() {
		if p := recover(); p != nil {
			b.engine.log.Error("conductor", "panic", p, "stack", string(debug.Stack()))
			r.finish = &stage.Finish{T: r.lastT, Ending: stage.Aborted, Reason: fmt.Sprintf("internal error: %v", p)}
		}
		r.disarm()
		b.framedAt.Store(0)
		b.mu.Lock()
		b.state = api.BayEnding // told when the outputs are off
		b.mu.Unlock()
		if r.suspended && r.finish == nil {
			r.suspend()
			r.haltAtEnd()
			return
		}
		r.endsFrom(*r.finish)
		safeErr := b.outputs.MakeSafe("end of run "+r.record.ID, r.record.ID)
		r.haltAtEnd()
		close(r.safe)
		r.tellLast()
		// What follows needs the disk, and the outputs somebody who looks after them.
		b.beside.Go(func() { r.conclude(safeErr) })
	}()
	// The program begins from a known state.
	if err := b.outputs.MakeSafe("before run "+r.record.ID, r.record.ID); err != nil {
		r.finish = &stage.Finish{T: r.lastT, Ending: stage.Aborted,
			Reason: "the outputs could not be confirmed off before the start"}
		return
	}
	err := r.prepareChannels(r.leave())
	if err == nil {
		err = r.begin(r.leave())
	}
	if err != nil {
		r.finish = r.notCarriedOut(err)
		return
	}
	b.setState(api.BayLive)
	b.engine.Hub.Publish(api.EventRun, b.name, r.record.Summary())
	r.interval = time.Duration(float64(min(time.Duration(b.config.Interval).Seconds(),
		r.program.Fastest())) / b.engine.timeFactor * float64(time.Second))
	if b.engine.timeFactor > 1 {
		r.interval = max(r.interval, leastInterval)
	}
	if r.back != nil {
		r.comeBack()
	} else {
		r.began = time.Now()
		b.framedAt.Store(r.began.UnixNano())
		r.act(r.machine.Start())
	}
	next := time.Now()
	timer, due := time.NewTimer(0), time.NewTimer(time.Hour)
	defer timer.Stop()
	defer due.Stop()
	for r.finish == nil && !r.suspended {
		b.alive(r.interval + outputs.JoinWait)
		due.Reset(r.untilDue())
		select {
		case work := <-r.work:
			work()
		case f := <-r.figured:
			r.act(r.machine.Advance(f))
		case e := <-r.scope.events:
			r.onCapture(e)
		case <-due.C:
			if t := r.now(); t >= r.machine.DueAt() {
				r.act(r.machine.Advance(stage.Due{T: t}))
			}
		case report := <-r.warded:
			r.interrupt(byTheWarden(report))
		case by := <-r.stop:
			if by == byShutdown && r.mayGoOn() {
				r.suspended = true
				continue
			}
			r.act(r.machine.Advance(stage.StopAsked{T: r.now(), By: by}))
		case <-b.ctx.Done():
			if b.engine.ctx.Err() != nil && r.mayGoOn() {
				r.suspended = true
				continue
			}
			r.act(r.machine.Advance(stage.StopAsked{T: r.now(), By: byShutdown}))
		case <-timer.C:
			r.tick()
			// A late frame is not made up for by a burst of others.
			next = next.Add(r.pause())
			if now := time.Now(); next.Before(now) {
				next = now
			}
			timer.Reset(time.Until(next))
		}
	}
}

// untilDue is how long it is until the machine wants to be advanced, wall time.
func (r *liveRun) untilDue() time.Duration {
	wait := (r.machine.DueAt() - r.now()) / r.bay.engine.timeFactor
	if wait > time.Hour.Seconds() {
		return time.Hour
	}
	// A little more, so that the time has come by the bench's clock too.
	return time.Duration(math.Max(wait, 0)*float64(time.Second)) + 5*time.Microsecond
}

// now is the bench time since the start of the run, s, in whole microseconds.
func (r *liveRun) now() float64 { return r.at(time.Now()) }

// at is the bench time of an instant.
func (r *liveRun) at(instant time.Time) float64 {
	return math.Round(instant.Sub(r.began).Seconds()*r.bay.engine.timeFactor*1e6) / 1e6
}

// tick takes one frame.
func (r *liveRun) tick() {
	b := r.bay
	b.stallIfAsked()
	all := make([]float64, len(r.record.Columns))
	values := all[:len(b.sampler.Columns)]
	before := r.now()
	if still := before - r.tickedAt; b.engine.options.Warden != nil && r.tickedAt > 0 && !r.machine.Away() &&
		still > b.engine.stallAfter.Seconds()*b.engine.timeFactor {
		r.stoodStill(still)
		return
	}
	r.ticks++
	b.framedAt.Store(time.Now().UnixNano())
	last, judged := r.lastT, r.tickedAt > 0
	taken := b.sampler.Sample(r.leave(), values, r.interval, func() { r.glimpse(values) })
	if r.leave().Err() != nil {
		return // the stop that took the leave away is dealt with first
	}
	r.tickedAt = r.now()
	from, to := before, r.tickedAt
	if !taken.From.IsZero() {
		from, to = r.at(taken.From), r.at(taken.To)
	}
	// A frame's time is the middle of its readings, and later than the frame before.
	t := math.Max(math.Round((from+to)/2*1e6)/1e6, r.lastT+1e-6)
	r.lastT = t
	if judged {
		r.still.between(last, t, r.interval, b.engine.timeFactor)
	}
	r.counters.Fill(trace.Frame{T: t, Values: values})
	seen := trace.Frame{T: t, Values: r.pick(values)}
	r.machine.Derive(seen)
	frame := trace.Frame{T: t, Values: all}
	for i, column := range r.derived {
		all[len(values)+i] = seen.Values[column]
	}
	rule := r.machine.Record()
	effects := r.machine.Advance(stage.Frame{Frame: seen})
	r.keeper.frame(r.recorder, frame, len(effects) > 0, rule)
	r.act(effects)
	if taken.To.Sub(taken.From) > mostSpread && (len(effects) > 0 || time.Since(r.spread) > spreadPause) {
		r.spread = time.Now()
		r.mark(record.Spread{From: from, To: to}.Mark(t))
	}
	if r.finish != nil { // the outputs come first, and watchers hear of the frame afterwards
		r.frames.frames = append(r.frames.frames, frame)
		return
	}
	r.markBeyond(t)
	for _, missed := range r.absences.frame(t, values, b.outputs.Energised()) {
		r.mark(missed.Mark())
	}
	r.afford(t)
	for _, trip := range b.sampler.Trips() {
		if r.finish == nil {
			r.act(r.machine.Advance(stage.Tripped{T: t, Seat: trip.Seat.Name, Words: trip.Words}))
		}
	}
	if trouble := b.sampler.Trouble(r.began, time.Duration(b.config.LostAfter)); trouble != "" && r.finish == nil {
		r.act(r.machine.Advance(stage.Failed{T: t, Reason: trouble}))
	}
	if r.finish != nil {
		r.frames.frames = append(r.frames.frames, frame)
		return
	}
	b.outputs.FeedWatchdogs(b.ctx)
	r.watchRecord(t)
	r.tell(frame, seen)
	r.keepState(t)
}

// writtenWithin is how long the record may be kept in memory because it cannot be written, before the run ends.
const writtenWithin = 10 * time.Second

// watchRecord ends the run when its record cannot be written for long. Until then it is kept in memory, and the run
// says so.
func (r *liveRun) watchRecord(t float64) {
	since, full, err := r.recorder.Failing()
	switch {
	case r.finish != nil:
	case err == nil:
		r.unwritten = time.Time{}
	case full || time.Since(since) > writtenWithin:
		r.act(r.machine.Advance(stage.Failed{T: t,
			Reason: fmt.Sprintf("the record cannot be written: %v; free some disk space", err)}))
	case r.unwritten != since:
		r.unwritten = since
		r.mark(record.Mark{T: t, Kind: record.MarkBench, Label: fmt.Sprintf("the record cannot be written and is kept in "+
			"memory: %v", err)})
	}
}

// pick takes the program's columns from the bay's; what the bay does not read is missing.
func (r *liveRun) pick(values []float64) []float64 {
	picked := make([]float64, len(r.picks))
	for i, k := range r.picks {
		picked[i] = math.NaN()
		if k >= 0 {
			picked[i] = values[k]
		}
	}
	return picked
}

// markBeyond marks readings that go beyond their range; one that comes and goes not each time.
func (r *liveRun) markBeyond(t float64) {
	noted := r.bay.sampler.Noted()
	if noted == r.noted {
		return
	}
	r.noted = noted
	for column, words := range r.bay.sampler.Beyond() {
		if time.Since(r.beyond[column]) > beyondPause {
			r.beyond[column] = time.Now()
			r.mark(record.Mark{T: t, Kind: record.MarkBench, Label: words})
		}
	}
}

// glimpse has the guards look at the readings that are there, while others are late: a guard does not wait for
// a slow instrument.
func (r *liveRun) glimpse(values []float64) {
	if r.finish != nil {
		return
	}
	t := math.Max(r.now(), r.lastT+1e-6)
	r.lastT = t
	r.act(r.machine.Advance(stage.Glimpse{Frame: trace.Frame{T: t, Values: r.pick(values)}}))
}

func (b *Bay) seat(name string) *outputs.Seat { return b.outputs.Seat(name) }
