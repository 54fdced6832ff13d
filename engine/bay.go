package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"usherbench/api"
	"usherbench/core/nameplate"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/engine/beside"
	"usherbench/engine/outputs"
	"usherbench/instrument/lane"
	"usherbench/store"
	"usherbench/warden"
)

// Bay is a place where one unit at a time is tested. One goroutine samples it and conducts its runs; all
// methods may be called by others.
type Bay struct {
	engine  *Engine
	name    string
	config  api.BayConfig
	outputs *outputs.Switchboard
	sampler *outputs.Sampler
	ctx     context.Context // ends when the bay is taken away or the engine closes
	cancel  context.CancelFunc
	beside  beside.Group
	// aliveUntil is by when the bay's goroutine will have been heard of again, Unix ns; the warden acts if it is not.
	aliveUntil  atomic.Int64
	framedAt    atomic.Int64 // when the live run took its last frame, Unix ns; 0: none is under way
	drill       atomic.Bool  // the next turn of the goroutine stands still on purpose
	wardenActed chan warden.Report
	// requests hands a prepared run, or work on the idle bay, to the bay's goroutine.
	requests chan func()
	told     time.Time // when watchers were last told how the idle bay is

	hand lane.Lane // held while something is set by hand

	mu         sync.Mutex // guards what follows
	owner      *owner     // nil: nobody
	latch      *api.Held  // nothing begins by itself; nil: nothing holds the bay
	stopped    time.Time  // when it was held last; what was asked for before is not begun
	state      api.BayState
	run        *liveRun
	last       *api.RunSummary
	values     []float64   // newest of each column
	seenAt     []time.Time // when each came
	readAt     time.Time
	rate       rateMeter
	progress   *stage.Progress
	guards     []stage.GuardState
	stages     []api.StageSummary
	prompt     *stage.Ask                  // what the operator is asked
	adjustable []api.Adjustable            // what may be changed during the run
	windows    map[string]nameplate.Window // bounds of manual control
	rated      map[string]float64          // what columns read when the unit works as it is rated
	net        handNet                     // over what is on by hand
	looked     time.Time                   // when a person last stated that the outputs are off in spite of an alarm
}

// idleInterval is how often an idle bay is read, wall time; statusInterval how often watchers are told how a bay is.
const (
	idleInterval   = 250 * time.Millisecond
	statusInterval = 200 * time.Millisecond
	framesInterval = 100 * time.Millisecond
	// shownFor is how old a reading may be that is shown as the present one.
	shownFor = 600 * time.Millisecond
)

func newBay(e *Engine, name string, c api.BayConfig) *Bay {
	b := &Bay{engine: e, name: name, config: c, state: api.BayIdle, requests: make(chan func()),
		wardenActed: make(chan warden.Report, 1)}
	b.ctx, b.cancel = context.WithCancel(e.ctx)
	b.outputs = outputs.New(c.Seats, e.bench.Opened(), b.outputOptions())
	// Whoever finds the bay can ask for what it reads.
	b.sampler = outputs.NewSampler(b.ctx, b.beside.Go, b.outputs.Seats())
	b.sampler.Pace(b.engine.timeFactor)
	b.values = make([]float64, len(b.sampler.Columns))
	b.seenAt = make([]time.Time, len(b.values))
	for i := range b.values {
		b.values[i] = math.NaN()
	}
	b.recall()
	return b
}

// recall looks up which run was the last in the bay, and how it ended.
func (b *Bay) recall() {
	if run, err := b.engine.store.LatestRun(b.name); err == nil {
		summary := run.Summary()
		b.last = &summary
		b.boundBy(run.NameplateText)
	}
}

// outputOptions say whom the outputs of the bay tell what.
func (b *Bay) outputOptions() outputs.Options {
	o := outputs.Options{Bay: b.name, Alive: b.alive, Go: b.beside.Go, Log: b.engine.log,
		Journal: func(what, detail, runID string) {
			b.engine.journal.Add(store.JournalEntry{By: "service", Bay: b.name, RunID: runID, What: what, Detail: detail})
		}}
	warden, keep := b.engine.options.Warden, b.engine.mayBeOn.of(b.name, b.beside.Go)
	o.Energised = func(on bool) {
		if warden != nil {
			warden.Energised(b.name, on)
		}
		keep(on)
	}
	return o
}

// start begins to sample.
func (b *Bay) start() { b.beside.Go(b.loop) }

// stop ends the bay's goroutines; its outputs must be off.
func (b *Bay) stop() {
	b.cancel()
	b.beside.Wait()
}

// loop samples the idle bay and does what is requested, which may be a whole run.
func (b *Bay) loop() {
	ticker := time.NewTicker(idleInterval)
	defer ticker.Stop()
	for {
		b.alive(idleInterval + outputs.JoinWait)
		select {
		case <-b.ctx.Done():
			return
		case work := <-b.requests:
			work()
		case <-ticker.C:
			b.idle()
		}
	}
}

// idle takes a reading, tells watchers, and goes on trying to make safe a bay that could not be confirmed off.
func (b *Bay) idle() {
	b.stallIfAsked()
	b.outputs.Retry(b.engine.ctx)
	b.outputs.FeedWatchdogs(b.ctx)
	values := make([]float64, len(b.sampler.Columns))
	b.sampler.Sample(b.ctx, values, idleInterval, nil)
	b.sampler.Counters().Fill(trace.Frame{Values: values})
	b.show(values)
	b.watchByHand(values)
	if time.Since(b.told) >= b.engine.seldom(idleInterval)-idleInterval/2 {
		b.told = time.Now()
		b.publish()
	}
}

// show keeps the newest values for readouts.
func (b *Bay) show(values []float64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.keep(values)
}

// keep remembers the newest reading of each column. One that a slow instrument has not given anew is kept until
// it counts as lost.
func (b *Bay) keep(values []float64) {
	b.readAt = time.Now()
	for i, v := range values {
		if !math.IsNaN(v) {
			b.values[i], b.seenAt[i] = v, b.readAt
		} else if b.readAt.Sub(b.seenAt[i]) > min(time.Duration(b.config.LostAfter), shownFor) {
			b.values[i] = v
		}
	}
}

// publish tells watchers how the bay is.
func (b *Bay) publish() {
	b.engine.Hub.PublishMade(api.EventBay, b.name, func() any { return b.Status() })
}

// Name of the bay.
func (b *Bay) Name() string { return b.name }

// Status is how the bay is now.
func (b *Bay) Status() api.Bay {
	alarm, safeSince := b.outputs.Alarm(), b.outputs.SafeSince()
	b.mu.Lock()
	defer b.mu.Unlock()
	s := api.Bay{
		Name: b.name, Title: b.config.Title, State: b.state, Alarm: alarm, Run: b.last, Progress: b.progress,
		Guards: b.guards, Stages: slices.Clone(b.stages), Prompt: b.prompt, Adjustable: b.adjustable,
		ReadAt: b.readAt, Rated: b.rated, FrameRate: b.rate.rate, Readings: map[string]*float64{},
	}
	if s.Title == "" {
		s.Title = b.name
	}
	if alarm != "" && b.state == api.BayIdle {
		s.State = api.BayAlarm
	}
	moves, on := false, false
	for _, x := range b.outputs.Seats() {
		moves, on = moves || x.Kind.Moves, on || x.Energised()
		s.Seats = append(s.Seats, api.Seat{Name: x.Name, Instrument: x.First().Name, Channel: x.First().Number, Gang: x.Gang,
			Controls: b.controls(x), Energised: x.Energised(), Measures: b.measures(x)})
	}
	s.Moving = moves && on
	if !safeSince.IsZero() && b.state == api.BayIdle {
		s.SafeSince = &safeSince
	}
	s.Cover = b.outputs.Cover(shownFor)
	s.StillThere = b.stillThere()
	if s.Held = b.engine.latch.Load(); s.Held == nil {
		s.Held = b.latch
	}
	for i, column := range b.sampler.Columns {
		s.Readings[column] = trace.InUnit(trace.UnitOf(column), b.values[i])
	}
	return s
}

// measures says what the volts and amps of a seat are, if it was told or is built so.
func (b *Bay) measures(x *outputs.Seat) string {
	if told, ok := b.outputs.InForce(x.Name + "." + seats.Measured); ok {
		return told.Word
	}
	return x.First().Dialect.Built[seats.Measured]
}

// Free tells whether a run could begin in the bay now.
func (b *Bay) Free() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.owner == nil
}

// Unit is the serial number of the unit that was tested last, or is; empty if there was none.
func (b *Bay) Unit() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.last == nil {
		return ""
	}
	return b.last.Serial
}

// Last is the run that is live or was last; nil if there was none.
func (b *Bay) Last() *api.RunSummary {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.last
}

// Handled tells whether a unit handler changes the units of the bay.
func (b *Bay) Handled() bool { return b.config.Handler != "" }

// do has the bay's goroutine do some work and waits for it.
func (b *Bay) do(ctx context.Context, work func()) error {
	done := make(chan struct{})
	select {
	case b.requests <- func() { defer close(done); work() }:
	case <-ctx.Done():
		return ctx.Err()
	case <-b.ctx.Done():
		return ErrStopping
	}
	<-done
	return nil
}

// Safe holds the bay, ends the run, if there is one, and makes the bay safe.
func (b *Bay) Safe(by string) error {
	h := &api.Held{Why: "it was made safe by " + by, By: by, At: b.engine.store.Now()}
	b.hold(h)
	err := b.safe(by)
	b.engine.keepLatch(b.name)
	return err
}

// safe ends the run, if there is one, and makes the bay safe.
func (b *Bay) safe(by string) error {
	if r := b.stopRun(by); r != nil {
		r.awaitEnd()
		if alarm := b.outputs.Alarm(); alarm != "" {
			return errors.New(alarm)
		}
		return nil
	}
	var err error
	if doErr := b.do(context.Background(), func() { err = b.outputs.MakeSafe("asked by "+by, "") }); doErr != nil {
		return doErr
	}
	b.engine.journal.Settle(settleWithin)
	return err
}

// Stop holds the bay and ends the run as aborted, or what is being prepared. ErrIdle if there is neither; ErrNotSafe if
// an output could not be confirmed off.
func (b *Bay) Stop(by string) error {
	b.mu.Lock()
	before := b.owner
	b.mu.Unlock()
	if before == nil && !b.outputs.Energised() {
		return fmt.Errorf("%w: %s", ErrIdle, b.name)
	}
	h := &api.Held{Why: "its run was stopped by " + by, By: by, At: b.engine.store.Now()}
	b.hold(h)
	err := b.endOrMakeSafe(by, before)
	b.engine.keepLatch(b.name)
	if alarm := b.outputs.Alarm(); alarm != "" {
		return fmt.Errorf("%w: %s", ErrNotSafe, alarm)
	}
	return err
}

// endOrMakeSafe ends the run; without one it makes safe what is on by hand, and waits a while for who was about to
// begin something.
func (b *Bay) endOrMakeSafe(by string, before *owner) error {
	if r := b.stopRun(by); r != nil {
		r.awaitEnd()
		return nil
	}
	if b.outputs.Energised() {
		return b.safe(by)
	}
	if before != nil {
		select {
		case <-before.gone:
		case <-time.After(settleWithin):
		}
	}
	return nil
}

// onRecordWithin is how long a stop waits, when the outputs are off, for the run to be on record as ended.
const onRecordWithin = 5 * time.Second

// awaitEnd waits until the outputs of the run are made safe, and a while for its record.
func (r *liveRun) awaitEnd() {
	<-r.safe
	select {
	case <-r.done:
	case <-time.After(onRecordWithin):
	}
}

// stopRun asks the live run to end, if there is one, and returns it.
func (b *Bay) stopRun(by string) *liveRun {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.run == nil {
		return nil
	}
	b.run.askStop(by)
	return b.run
}

// rateMeter counts frames a second of bench time.
type rateMeter struct {
	since float64
	count int
	rate  float64
}

func (m *rateMeter) frame(t float64) {
	m.count++
	if past := t - m.since; past >= 1 {
		m.rate, m.since, m.count = float64(m.count)/past, t, 0
	}
}
