package stage_test

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/catalogue"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// bench is the simplest unit that answers commands: the output is 15 V less 10 mΩ while the source is on.
type bench struct {
	source, load map[string]float64
	on           map[string]bool
	missing      map[string]bool
	dead         bool // the output does not come up
}

func newBench() *bench {
	return &bench{source: map[string]float64{}, load: map[string]float64{}, on: map[string]bool{},
		missing: map[string]bool{}}
}

func (b *bench) apply(c stage.Command) {
	for _, s := range c.Settings {
		switch {
		case s.Quantity == "output":
			b.on[s.Seat] = s.Word == "on"
		case s.Seat == "source":
			b.source[s.Quantity] = s.Value
		default:
			b.load[s.Quantity] = s.Value
		}
	}
}

func (b *bench) frame(t float64, columns trace.Columns) stage.Frame {
	amps := 0.0
	if b.on["load"] {
		amps = b.load["amps"]
	}
	volts := 0.0
	if b.on["source"] && b.source["volts"] > 30 && !b.dead {
		volts = 15 - 0.01*amps
	}
	f := trace.Frame{T: t, Values: make([]float64, len(columns))}
	for i, column := range columns {
		seat, q, _ := strings.Cut(column, ".")
		switch {
		case b.missing[seat]:
			f.Values[i] = math.NaN()
		case column == "source.volts":
			f.Values[i] = b.source["volts"]
		case column == "load.volts":
			f.Values[i] = volts
		case column == "load.amps":
			f.Values[i] = amps
		case q == "watts" && seat == "load":
			f.Values[i] = volts * amps
		}
	}
	return stage.Frame{Frame: f}
}

func program(t testing.TB, stages string) *procedure.Program {
	p, err := catalogue.Parse([]byte(`
procedure: test
for: any
needs:
  source: {volts: 60 V, amps: 5 A}
  load: {volts: 20 V, amps: 10 A}
guards:
  - {when: "load.volts > 17 V for 50 ms", note: runs away}
stages:
`+stages), nil, nil, nil)
	require.NoError(t, err)
	return p
}

const powerUp = `
  - name: power up
    set:
      source: {volts: 48 V, amps: 4 A, output: on}
      load: {amps: 0 A, output: on}
    until: "load.volts > 14 V for 100 ms"
    within: 2 s
`

const sweep = `
  - name: map
    grid:
      over:
        - {set: source.volts, values: [36 V, 48 V]}
        - {set: load.amps, values: [1 A, 2 A, 4 A]}
      settle: 300 ms
      average: 200 ms
  - name: idle
    hold: {for: 1 s}
`

// play runs the machine against the bench with frames every 20 ms until it finishes. Commands take effect at
// once; each is acknowledged 5 ms after the frame that caused it. intervene may act before each frame.
func play(t testing.TB, m *stage.Machine, effects []stage.Effect, b *bench, from float64,
	intervene func(now float64, b *bench) stage.Event) []stage.Effect {
	all := effects
	p := m.Program()
	now := from
	handle := func(es []stage.Effect) {
		for len(es) > 0 {
			var commanded bool
			for _, e := range es {
				if c, ok := e.(stage.Command); ok {
					b.apply(c)
					commanded = true
				}
			}
			if !commanded {
				return
			}
			es = m.Advance(stage.Applied{T: now + 0.005})
			all = append(all, es...)
		}
	}
	handle(effects)
	for step := 0; !m.Finished(); step++ {
		require.Less(t, step, 100_000, "the program does not end")
		now = from + 0.02*float64(step+1)
		if intervene != nil {
			if e := intervene(now, b); e != nil {
				es := m.Advance(e)
				all = append(all, es...)
				handle(es)
				continue
			}
		}
		es := m.Advance(b.frame(now, p.Columns))
		all = append(all, es...)
		handle(es)
	}
	return all
}

func finish(t testing.TB, effects []stage.Effect) stage.Finish {
	f, ok := effects[len(effects)-1].(stage.Finish)
	require.True(t, ok, "the last effect ends the run")
	return f
}

func points(effects []stage.Effect) (ps []stage.Point) {
	for _, e := range effects {
		if p, ok := e.(stage.Point); ok {
			ps = append(ps, p)
		}
	}
	return ps
}

func run(t testing.TB, stages string, intervene func(float64, *bench) stage.Event) []stage.Effect {
	m, err := stage.New(program(t, stages))
	require.NoError(t, err)
	return play(t, m, m.Start(), newBench(), 0, intervene)
}

func TestAProgramRunsToItsEnd(t *testing.T) {
	effects := run(t, powerUp+sweep, nil)
	end := finish(t, effects)
	assert.Equal(t, stage.Done, end.Ending)
	assert.InDelta(t, 0.1+6*0.52+1, end.T, 0.3)
	ps := points(effects)
	require.Len(t, ps, 6)
	last := ps[5]
	assert.Equal(t, map[string]float64{"source.volts": 48, "source.amps": 4, "load.amps": 4}, last.Place)
	assert.InDelta(t, 15-0.04, last.Averages["load.volts"].Mean, 1e-12)
	assert.GreaterOrEqual(t, last.T1-last.T0, 0.2-1e-9)
	assert.GreaterOrEqual(t, last.Averages["load.volts"].N, 10)

	var names []string
	for _, e := range effects {
		if mark, ok := e.(stage.Mark); ok && mark.Kind == record.MarkStage {
			names = append(names, mark.Label)
		}
	}
	assert.Equal(t, []string{"power up", "map", "idle"}, names)
}

func TestASlowBenchIsAveragedForLonger(t *testing.T) {
	ps := points(run(t, powerUp+sweep, func(now float64, b *bench) stage.Event {
		// Two of three frames come without the load's readings.
		b.missing["load"] = int(math.Round(now/0.02))%3 != 0
		return nil
	}))
	require.Len(t, ps, 6)
	for _, p := range ps {
		assert.GreaterOrEqual(t, p.Averages["load.volts"].N, 5)
		assert.Greater(t, p.T1-p.T0, 0.2)
	}
	dead := points(run(t, powerUp+sweep,
		func(now float64, b *bench) stage.Event { b.missing["source"] = now > 1; return nil }))
	require.Len(t, dead, 6, "what does not come at all does not hold the run up for ever")
	assert.Zero(t, dead[5].Averages["source.volts"].N)
}

func TestAGridCommandsOnlyWhatChanges(t *testing.T) {
	var sizes []int
	for _, e := range run(t, powerUp+sweep, nil) {
		if c, ok := e.(stage.Command); ok {
			sizes = append(sizes, len(c.Settings))
		}
	}
	assert.Equal(t, []int{5, 2, 1, 1, 2, 1, 1}, sizes)
}

func TestEveryWayARunCanEndEarly(t *testing.T) {
	for name, c := range map[string]struct {
		intervene func(now float64, b *bench) stage.Event
		stages    string
		ending    stage.Ending
		reason    string
	}{
		"a unit that does not start": {func(_ float64, b *bench) stage.Event { b.source["volts"] = 0; return nil },
			powerUp + sweep,
			stage.Failure, `stage "power up": load.volts > 14 V for 100 ms did not hold within 2 s`},
		"a guard": {func(now float64, b *bench) stage.Event {
			if now > 1 {
				f := b.frame(now, seats.ColumnsFor([]string{"source", "load"}))
				f.Values[6] = 18
				return f
			}
			return nil
		}, powerUp + sweep, stage.Aborted, "guard tripped: runs away (load.volts > 17 V for 50 ms)"},
		"readings missing for too long": {func(now float64, b *bench) stage.Event { b.missing["load"] = now > 1; return nil },
			powerUp + sweep, stage.Aborted, "guard cannot be watched"},
		"a wait without readings": {func(_ float64, b *bench) stage.Event { b.missing["load"] = true; return nil },
			strings.Replace(powerUp, "within: 2 s", "within: 1 s", 1), stage.Aborted, "missing"},
		"a stop": {func(now float64, _ *bench) stage.Event {
			return eventAfter(now, 1,
				stage.StopAsked{T: now, By: "ada"})
		}, powerUp + sweep, stage.Aborted, "stopped by ada"},
		"a lost instrument": {func(now float64, _ *bench) stage.Event {
			return eventAfter(now, 1,
				stage.Failed{T: now, Reason: "supply silent"})
		}, powerUp + sweep, stage.Aborted, "supply silent"},
		"a wait that may be in vain": {nil,
			powerUp + "  - set: {load: {amps: 1 A}}\n    until: load.volts > 16 V\n    within: 1 s\n    else: next\n" + sweep,
			stage.Done, ""},
		"a wait that ends the run": {nil,
			powerUp + "  - hold: {until: load.volts > 16 V, within: 1 s}\n    else: stop\n" + sweep, stage.Done,
			"did not hold within 1 s"},
	} {
		end := finish(t, run(t, c.stages, c.intervene))
		assert.Equal(t, c.ending, end.Ending, name)
		assert.Contains(t, end.Reason, c.reason, name)
	}
}

func eventAfter(now, then float64, e stage.Event) stage.Event {
	if now > then {
		return e
	}
	return nil
}

func TestAStableHoldEndsWhenTheSlopeIsSmall(t *testing.T) {
	stages := powerUp + `  - name: soak
    hold: {stable: {quantity: source.amps, window: 1 s, band: 0.1 A/s}, within: 20 s}
`
	m, err := stage.New(program(t, stages))
	require.NoError(t, err)
	b := newBench()
	i := m.Program().Columns.Index("source.amps")
	effects := play(t, m, m.Start(), b, 0, func(now float64, b *bench) stage.Event {
		f := b.frame(now, m.Program().Columns)
		f.Values[i] = 2 - math.Exp(-now/2) // the slope falls below 0.1 A/s at 3.2 s
		es := m.Advance(f)
		for _, e := range es {
			if c, ok := e.(stage.Command); ok {
				b.apply(c)
			}
		}
		return stage.Applied{T: now}
	})
	end := m.Now()
	_ = effects
	assert.InDelta(t, 2*math.Log(5)+0.5, end, 0.15, "the window's middle decides")
}

func TestProgressAndGuardDistance(t *testing.T) {
	m, err := stage.New(program(t, powerUp+sweep))
	require.NoError(t, err)
	b := newBench()
	m.Start()
	assert.InDelta(t, 4, m.Progress().Left, 1e-9)
	b.on["source"], b.source["volts"] = true, 48
	states := m.Guards(b.frame(1, m.Program().Columns).Frame)
	assert.Equal(t, []stage.GuardState{{Words: "runs away (load.volts > 17 V for 50 ms)", Distance: "2 V"}}, states)
}

// A run that is killed after any event and restored from its snapshot gives the same effects as one left alone.
func TestASnapshotAfterAnyEventGoesOnTheSame(t *testing.T) {
	plain := fmt.Sprintf("%v", readable(run(t, powerUp+sweep, nil)))
	rapid.Check(t, func(rt *rapid.T) {
		kills := rapid.SliceOfN(rapid.IntRange(0, 230), 1, 5).Draw(rt, "kills")
		p := program(t, powerUp+sweep)
		m, err := stage.New(p)
		require.NoError(rt, err)
		b, events := newBench(), 0
		advance := func(e stage.Event) []stage.Effect {
			es := m.Advance(e)
			for _, k := range kills {
				if k == events {
					data, err := m.Snapshot()
					require.NoError(rt, err)
					require.True(rt, json.Valid(data))
					m, err = stage.Restore(p, data)
					require.NoError(rt, err)
				}
			}
			events++
			return es
		}
		all := m.Start()
		pending := all
		for step := 0; !m.Finished(); step++ {
			now := 0.02 * float64(step)
			for hasCommand(pending, b) {
				pending = advance(stage.Applied{T: now + 0.005})
				all = append(all, pending...)
			}
			if m.Finished() {
				break
			}
			pending = advance(b.frame(0.02*float64(step+1), p.Columns))
			all = append(all, pending...)
		}
		require.Equal(rt, plain, fmt.Sprintf("%v", readable(all)))
	})
	_, err := stage.Restore(program(t, powerUp), []byte(`{"state":{"stage":7}}`))
	assert.Error(t, err)
}

func hasCommand(es []stage.Effect, b *bench) (found bool) {
	for _, e := range es {
		if c, ok := e.(stage.Command); ok {
			b.apply(c)
			found = true
		}
	}
	return found
}

// readable drops nothing but makes effects comparable as text.
func readable(es []stage.Effect) []string {
	out := make([]string, len(es))
	for i, e := range es {
		out[i] = fmt.Sprintf("%T %+v", e, e)
	}
	return out
}

// Readings that are missing never make a unit a failed one, even where no guard watches them.
func TestAUnitIsNotBlamedForMissingReadings(t *testing.T) {
	p := program(t, powerUp+sweep)
	p.Guards = nil
	m, err := stage.New(p)
	require.NoError(t, err)
	end := finish(t, play(t, m, m.Start(), newBench(), 0,
		func(_ float64, b *bench) stage.Event { b.missing["load"] = true; return nil }))
	assert.Equal(t, stage.Aborted, end.Ending)
	assert.Equal(t, `stage "power up": load.volts > 14 V for 100 ms cannot be told, its readings are missing`, end.Reason)
	assert.InDelta(t, 4, end.T, 0.1, "the time of the wait, and that of a silent instrument")
}
