package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"usherbench/core/kinds"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/waveform"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/store"
)

// scopeEvery is how often a scope is asked whether it has triggered, wall time; fetchWithin is how long all samples
// of a capture may take to come.
const (
	scopeEvery  = 10 * time.Millisecond
	seldomEvery = 50 * time.Millisecond  // of what it may wait for all night
	netEvery    = 500 * time.Millisecond // of what says by itself when it is there
	fetchWithin = time.Minute
)

// scoping is what the run has to do with its scope. Everything belongs to the bay's goroutine, but what works on a
// capture runs beside it.
type scoping struct {
	events chan captureEvent
	end    context.CancelFunc // gives the capture up that is under way; nil: there is none
	enough chan<- struct{}    // closed when a watch is to tell what is left; nil: there is none, or it was closed
	caught []store.PackedWave // of the capture that came last
}

// captureEvent is what happened to a capture; waves go with the last.
type captureEvent struct {
	event stage.Event
	at    time.Time // when it was triggered, as far as that is known
	waves []store.PackedWave
}

// arm has a capture taken beside the run, whose events come back to it.
func (r *liveRun) arm(e stage.Arm) {
	r.disarm()
	ctx, cancel := context.WithCancel(r.leave())
	r.scope.end = cancel
	x := r.bay.seat(e.Seat)
	events, engine := r.scope.events, r.bay.engine
	engine.beside.Go(func() {
		defer cancel()
		fail := func(reason string) captureEvent {
			if e.Shot < 0 { // what waits for a rare event ends no run
				return captureEvent{event: stage.Captured{Shot: e.Shot, Missed: reason}}
			}
			return captureEvent{event: stage.Failed{Reason: reason}}
		}
		tell := func(event captureEvent) {
			select {
			case events <- event:
			case <-ctx.Done(): // nobody waits for it any longer
			}
		}
		if x == nil {
			tell(fail("the bay has no seat " + e.Seat))
			return
		}
		c := capturing{channel: x.First().Channel, probes: probesOf(x), setup: e.Setup, factor: engine.timeFactor,
			turn: engine.turns.of(x.First().Name), polite: e.Shot < 0}
		waves, at, err := c.inTurn(ctx, func() { tell(captureEvent{event: stage.Armed{Shot: e.Shot}}) })
		var none *noTrigger
		switch {
		case errors.As(err, &none): // it may be the unit's fault
			tell(captureEvent{event: stage.Captured{Shot: e.Shot, Missed: err.Error()}})
			return
		case err != nil:
			tell(fail(err.Error()))
			return
		}
		told := captureEvent{at: at}
		captured := stage.Captured{Shot: e.Shot}
		for _, w := range waves {
			captured.Channels = append(captured.Channels, record.ChannelOf(w))
			told.waves = append(told.waves, store.PackWave(w))
		}
		told.event = captured
		tell(told)
	})
}

// afford tells a stage that waits until something may be borne that it may be now.
func (r *liveRun) afford(t float64) {
	if r.affording == nil || r.finish != nil {
		return
	}
	e := *r.affording
	now, ever := r.bay.sampler.Affords(e.Seat, e.Watts, e.Seconds)
	switch {
	case !ever:
		r.affording = nil
		r.act(r.machine.Advance(stage.Failed{T: t, Reason: fmt.Sprintf("%s may not bear %.4g W for %.3g s at any time; "+
			"make the burst shorter or lower", e.Seat, e.Watts, e.Seconds)}))
	case now:
		r.affording = nil
		r.act(r.machine.Advance(stage.Afforded{T: t}))
	}
}

// noTrigger says that a scope has waited in vain.
type noTrigger struct{ within float64 }

func (e *noTrigger) Error() string {
	return fmt.Sprintf("the scope did not trigger within %.3g s", e.within)
}

// capturing is a capture under way.
type capturing struct {
	turn *turn // with the scope
	// polite captures wait for what is rare, and give their turn up while others want the scope.
	polite bool

	channel *instrument.Channel
	probes  map[string]instrument.Probe
	setup   waveform.Setup
	factor  float64 // of the bench's clock
}

// inTurn arms the scope when it is this bay's turn, and takes the capture; armed is told when it waits for the trigger
// the first time.
func (c capturing) inTurn(ctx context.Context, armed func()) (waves []*waveform.Waveform, at time.Time, err error) {
	for first := true; ; first = false {
		if err := c.turn.take(ctx, c.polite); err != nil {
			return nil, at, err
		}
		if err = c.channel.Arm(ctx, c.setup, c.probes); err != nil {
			err = fmt.Errorf("the scope could not be armed: %w", err)
		} else {
			if first {
				armed()
			}
			waves, at, err = c.take(ctx)
		}
		c.turn.giveUp()
		if !errors.Is(err, errYields) {
			return waves, at, err
		}
	}
}

// take waits for the trigger and fetches all channels; at is about when it came.
func (c capturing) take(ctx context.Context) (waves []*waveform.Waveform, at time.Time, err error) {
	began := time.Now()
	until := began.Add(c.waits() + outputs.JoinWait)
	requests, err := c.channel.Requests(ctx)
	if err != nil {
		return nil, at, err
	}
	every := scopeEvery
	switch {
	case requests != nil:
		every = netEvery
	case math.IsInf(c.setup.Within, 1):
		every = seldomEvery
	}
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		done, err := c.channel.Triggered(ctx)
		switch {
		case err != nil:
			return nil, at, err
		case done:
			behind := (1 - c.setup.Before) * c.setup.Span / c.factor
			at = time.Now().Add(-time.Duration(behind * float64(time.Second)))
			waves, err = c.fetch(ctx)
			return waves, at, err
		case time.Now().After(until):
			_ = c.channel.Disarm(ctx) // it is armed anew for whatever comes next
			return nil, at, &noTrigger{c.setup.Within}
		case c.polite && c.turn.wanted(began):
			_ = c.channel.Disarm(ctx) // whoever is next arms it
			return nil, at, errYields
		}
		select {
		case <-ctx.Done():
			return nil, at, ctx.Err()
		case <-requests:
		case <-ticker.C:
		}
	}
}

// longestWait is how long a scope waits that waits for what may never happen.
const longestWait = 100 * 365 * 24 * time.Hour

// waits is how long the trigger is waited for, wall time.
func (c capturing) waits() time.Duration {
	if math.IsInf(c.setup.Within, 1) {
		return longestWait
	}
	return time.Duration((c.setup.Within + c.setup.Span) / c.factor * float64(time.Second))
}

func (c capturing) fetch(ctx context.Context) (waves []*waveform.Waveform, err error) {
	ctx, cancel := context.WithTimeout(ctx, fetchWithin)
	defer cancel()
	for _, in := range c.setup.Channels {
		w, err := c.channel.Fetch(ctx, in, c.probes[in.Name])
		if err != nil {
			return nil, err
		}
		waves = append(waves, w)
	}
	return waves, nil
}

// probesOf are the probes of a seat that captures.
func probesOf(x *outputs.Seat) map[string]instrument.Probe {
	probes := map[string]instrument.Probe{}
	for name, p := range x.Config.Probes {
		probe := instrument.Probe{Channel: max(p.Channel, 1), Factor: p.Factor, Unit: p.Unit}
		if probe.Factor == 0 {
			probe.Factor = 1
		}
		if probe.Unit == "" {
			probe.Unit = "V"
		}
		probes[name] = probe
	}
	return probes
}

// onCapture takes what happened to a capture into the run.
func (r *liveRun) onCapture(e captureEvent) {
	t := math.Max(r.now(), r.lastT)
	switch event := e.event.(type) {
	case stage.Armed:
		event.T = t
		r.act(r.machine.Advance(event))
	case stage.Captured:
		event.T, event.Triggered, r.scope.caught = t, t, e.waves
		if !e.at.IsZero() {
			event.Triggered = math.Max(r.at(e.at), 0)
		}
		r.act(r.machine.Advance(event))
	case stage.Scanned:
		event.T = t
		r.act(r.machine.Advance(event))
	case stage.Opened:
		event.T, event.Since = t, math.Max(r.at(e.at), 0)
		r.act(r.machine.Advance(event))
	case stage.Failed:
		event.T = t
		r.act(r.machine.Advance(event))
	}
}

// keepCapture puts on record what was captured last.
func (r *liveRun) keepCapture(c record.Capture) {
	if err := r.recorder.Capture(c, r.scope.caught); err != nil {
		r.mark(record.Mark{T: c.T, Kind: record.MarkBench, Label: fmt.Sprintf("a capture cannot be kept: %v", err)})
	}
	r.scope.caught = nil
}

// disarm gives up a capture that is under way.
func (r *liveRun) disarm() {
	if r.scope.end != nil {
		r.scope.end()
		r.scope.end, r.scope.enough = nil, nil
	}
}

// scopes checks that what the procedure captures can be captured with the probes of the bay.
func (p *preflight) scopes() {
	for _, g := range p.program.Triggers {
		if x := p.bay.seat(g.Seat); x != nil {
			p.scopeStage(g.Name, x, g.Setup)
		}
	}
	for _, s := range p.program.Stages {
		c, ok := s.Action.(*kinds.Capture)
		if !ok {
			continue
		}
		if x := p.bay.seat(c.Seat); x != nil { // else it is said already
			p.scopeStage(s.Name, x, c.Setup())
		}
	}
}

func (p *preflight) scopeStage(name string, x *outputs.Seat, setup waveform.Setup) {
	scope := x.First().Dialect.Scope
	probes := probesOf(x)
	var names []string
	for probe := range probes {
		names = append(names, probe)
	}
	slices.Sort(names)
	sound := true
	for _, in := range setup.Channels {
		probe, ok := probes[in.Name]
		switch {
		case !ok:
			sound = false
			p.blocks("capture", "put a probe there and name it under probes of the seat", "%q captures %s, but the scope's "+
				"probes are %v", name, in.Name, names)
		case in.Range > scope.Ranges[len(scope.Ranges)-1]*math.Abs(probe.Factor)*(1+1e-9):
			sound = false
			p.blocks("capture", "use a probe that divides more", "%q wants a range of %.4g %s for %s, more than the scope has",
				name, in.Range, probe.Unit, in.Name)
		}
	}
	if setup.Samples > scope.Most {
		sound = false
		p.blocks("capture", fmt.Sprintf("ask for %d samples at most", scope.Most), "%q wants %d samples, more than %s takes",
			name, setup.Samples, x.First().Name)
	}
	if others := p.bay.sharedWith(x); others != "" {
		p.fine("shared", "%s is used by %s too: captures take turns, in the order in which they are asked for",
			x.First().Name, others)
	}
	if sound {
		p.fine("capture", "%q: %d samples over %s, one every %s", name, setup.Samples, show(setup.Span, quantity.Time),
			show(setup.Span/float64(setup.Samples), quantity.Time))
	}
}
