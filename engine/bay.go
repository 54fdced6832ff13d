package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/store"
)

// Bay is a place where one unit at a time is tested. One goroutine samples it and conducts its runs; all methods may be called by
// others.
type Bay struct {
	engine  *Engine
	name    string
	config  BayConfig
	seats   []*seat
	sampler *sampler
	// requests hands a prepared run, or work on the idle bay, to the bay's goroutine.
	requests chan func()

	mu        sync.Mutex // guards what follows
	state     api.BayState
	alarm     string
	safeSince time.Time
	byHand    bool // an output was switched on by hand and not made safe since
	run       *liveRun
	last      *api.RunSummary
	values    []float64
	readAt    time.Time
	rate      rateMeter
	progress  *stage.Progress
	guards    []stage.GuardState
	stages    []api.StageSummary
}

// idleInterval is how often an idle bay is read, wall time; statusInterval how often watchers are told how a bay is.
const (
	idleInterval   = 250 * time.Millisecond
	statusInterval = 200 * time.Millisecond
	framesInterval = 100 * time.Millisecond
)

func newBay(e *Engine, name string, c BayConfig) *Bay {
	b := &Bay{engine: e, name: name, config: c, state: api.BayIdle, requests: make(chan func())}
	for _, seatName := range slices.Sorted(maps.Keys(c.Seats)) {
		s := c.Seats[seatName]
		kind, _ := procedure.KindOfSeat(seatName)
		b.seats = append(b.seats, &seat{name: seatName, kind: kind, instrument: e.instruments[s.Instrument], channel: s.Channel})
	}
	// What feeds stands before what drains, in columns and readouts.
	slices.SortStableFunc(b.seats, func(x, y *seat) int { return drainsLast(x) - drainsLast(y) })
	if run, err := e.store.LatestRun(name); err == nil {
		summary := run.Summary()
		b.last = &summary
	}
	return b
}

func drainsLast(x *seat) int {
	if x.kind.Drains {
		return 1
	}
	return 0
}

// start begins to sample.
func (b *Bay) start() {
	b.sampler = newSampler(b.engine.ctx, &b.engine.wg, b.seats)
	b.values = make([]float64, len(b.sampler.columns))
	for i := range b.values {
		b.values[i] = math.NaN()
	}
	b.engine.wg.Add(1)
	go func() {
		defer b.engine.wg.Done()
		b.loop()
	}()
}

// loop samples the idle bay and does what is requested, which may be a whole run.
func (b *Bay) loop() {
	ticker := time.NewTicker(idleInterval)
	defer ticker.Stop()
	for {
		select {
		case <-b.engine.ctx.Done():
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
	b.mu.Lock()
	alarmed := b.alarm != "" && b.safeSince.IsZero()
	b.mu.Unlock()
	if alarmed {
		b.retrySafe()
	}
	values := make([]float64, len(b.sampler.columns))
	b.sampler.sample(values)
	trace.NewCounters(b.sampler.columns, b.seatNames()).Fill(trace.Frame{Values: values})
	b.show(values)
	b.publish()
}

// retrySafe tries once more; only success goes to the journal.
func (b *Bay) retrySafe() {
	ctx, cancel := context.WithTimeout(b.engine.ctx, safeWithin)
	defer cancel()
	for _, x := range b.seats {
		if err := x.switchOff(ctx); err != nil {
			return
		}
	}
	b.setSafe(nil)
	b.mu.Lock()
	b.state = api.BayIdle
	b.mu.Unlock()
	b.engine.journal(store.JournalEntry{By: "service", Bay: b.name, What: madeSafe, Detail: "the instruments answer again, every output is read back as off"})
}

func (b *Bay) seatNames() (names []string) {
	for _, s := range b.seats {
		names = append(names, s.name)
	}
	return names
}

// show keeps the newest values for readouts.
func (b *Bay) show(values []float64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.values, b.readAt = values, time.Now()
}

// publish tells watchers how the bay is.
func (b *Bay) publish() { b.engine.Hub.Publish(api.EventBay, b.name, b.Status()) }

// Name of the bay.
func (b *Bay) Name() string { return b.name }

// Status is how the bay is now.
func (b *Bay) Status() api.Bay {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := api.Bay{
		Name: b.name, Title: b.config.Title, State: b.state, Alarm: b.alarm, Run: b.last, Progress: b.progress, Guards: b.guards, Stages: b.stages,
		ReadAt: b.readAt, FrameRate: b.rate.rate, Readings: map[string]*float64{},
	}
	if s.Title == "" {
		s.Title = b.name
	}
	if b.alarm != "" && b.state == api.BayIdle {
		s.State = api.BayAlarm
	}
	for _, x := range b.seats {
		s.Seats = append(s.Seats, api.Seat{Name: x.name, Instrument: x.instrument.Name, Channel: x.channel})
	}
	if !b.safeSince.IsZero() && b.state == api.BayIdle {
		at := b.safeSince
		s.SafeSince = &at
	}
	if b.sampler != nil {
		for i, column := range b.sampler.columns {
			s.Readings[column] = inUnit(column, b.values[i])
		}
	}
	return s
}

// inUnit is a value in the column's unit; nil if it is missing.
func inUnit(column string, x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	x /= trace.UnitOf(column).Factor
	return &x
}

// own takes the bay for something that must be alone, or says who has it.
func (b *Bay) own(state api.BayState) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.state != api.BayIdle && b.last != nil && b.state != api.BayStarting:
		return fmt.Errorf("%w: %s tests %s with %s since %s", ErrBusy, b.name, b.last.Serial, b.last.Procedure, b.last.StartedAt.Format(time.TimeOnly))
	case b.state != api.BayIdle:
		return fmt.Errorf("%w: %s is starting a run", ErrBusy, b.name)
	case b.alarm != "":
		return fmt.Errorf("%w: %s: %s", ErrNotReady, b.name, b.alarm)
	}
	b.state = state
	return nil
}

func (b *Bay) release() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.state = api.BayIdle
}

// do has the bay's goroutine do some work and waits for it.
func (b *Bay) do(ctx context.Context, work func()) error {
	done := make(chan struct{})
	select {
	case b.requests <- func() { defer close(done); work() }:
	case <-ctx.Done():
		return ctx.Err()
	case <-b.engine.ctx.Done():
		return errStopping
	}
	<-done
	return nil
}

// Set sets something by hand. It is refused while a run owns the bay.
func (b *Bay) Set(ctx context.Context, by string, request api.ManualSet) error {
	setting, x, err := b.parseSetting(request)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrBadRequest, err)
	}
	if err := b.own(api.BayStarting); err != nil {
		return err
	}
	defer b.release()
	// On record before it is done, so that a service killed meanwhile finds what to switch off.
	b.engine.journal(store.JournalEntry{By: by, Bay: b.name, What: setByHand, Detail: setting.String()})
	if setting.Quantity == "output" && setting.Word == "on" {
		b.mu.Lock()
		b.safeSince, b.byHand = time.Time{}, true
		b.mu.Unlock()
	}
	var setErr error
	if err := b.do(ctx, func() { setErr = x.apply(ctx, setting) }); err != nil {
		return err
	}
	if setErr != nil {
		b.engine.journal(store.JournalEntry{By: "service", Bay: b.name, What: "set by hand failed", Detail: setting.String() + ": " + setErr.Error()})
	}
	return setErr
}

func (b *Bay) parseSetting(r api.ManualSet) (procedure.Setting, *seat, error) {
	s := procedure.Setting{Seat: r.Seat, Quantity: r.Quantity}
	i := slices.IndexFunc(b.seats, func(x *seat) bool { return x.name == r.Seat })
	if i < 0 {
		return s, nil, fmt.Errorf("%s has no seat %q; %s", b.name, r.Seat, document.Suggest(r.Seat, b.seatNames()))
	}
	x := b.seats[i]
	words := x.instrument.Dialect.Words[r.Quantity]
	if words != nil {
		if _, ok := words[r.Value]; !ok {
			return s, nil, fmt.Errorf("%s.%s cannot be %q; %s", r.Seat, r.Quantity, r.Value, document.Suggest(r.Value, slices.Collect(maps.Keys(words))))
		}
		s.Word = r.Value
		return s, x, nil
	}
	kind, ok := quantity.KindOf(r.Quantity)
	if _, settable := x.instrument.Dialect.Set[r.Quantity]; !ok || !settable {
		return s, nil, fmt.Errorf("%s.%s cannot be set; %s", r.Seat, r.Quantity, document.Suggest(r.Quantity, slices.Collect(maps.Keys(x.instrument.Dialect.Set))))
	}
	q, err := quantity.Parse(r.Value)
	if err != nil {
		return s, nil, err
	}
	if q.Dim != kind.Unit.Dim {
		return s, nil, fmt.Errorf("%q is %s, but %s.%s takes %s", r.Value, q.Dim, r.Seat, r.Quantity, kind.Unit.Dim)
	}
	s.Value = q.Value
	return s, x, nil
}

// apply carries out one setting.
func (x *seat) apply(ctx context.Context, s procedure.Setting) error {
	if s.Word != "" {
		return x.instrument.SetWord(ctx, x.channel, s.Quantity, s.Word)
	}
	return x.instrument.Set(ctx, x.channel, s.Quantity, s.Value)
}

// Safe ends the run, if there is one, and makes the bay safe.
func (b *Bay) Safe(by string) error {
	if done := b.stopRun(by); done != nil {
		<-done
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.alarm != "" {
			return errors.New(b.alarm)
		}
		return nil
	}
	var err error
	if doErr := b.do(context.Background(), func() { err = b.makeSafe("asked by "+by, "") }); doErr != nil {
		return doErr
	}
	return err
}

// Stop ends the run as aborted. ErrIdle if there is none.
func (b *Bay) Stop(by string) error {
	done := b.stopRun(by)
	if done == nil {
		return fmt.Errorf("%w: %s", ErrIdle, b.name)
	}
	<-done
	return nil
}

// stopRun asks the live run to end and returns the channel that is closed when it has; nil if there is none.
func (b *Bay) stopRun(by string) <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.run == nil {
		return nil
	}
	b.run.askStop(by)
	return b.run.done
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
