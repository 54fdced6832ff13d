package stage_test

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
)

// The guard of a stage counts its "for" from when it is watched, not from the stage before.
func TestAGuardInheritsNothingFromTheStageBefore(t *testing.T) {
	effects := run(t, powerUp+`
  - name: loaded
    set: {load: {amps: 4 A}}
  - name: before
    hold: {for: 3 s}
  - name: watched
    hold: {for: 1 s}
    guards: [{when: "load.amps > 3 A for 2 s", note: too long}]
`, nil)
	assert.Equal(t, stage.Done, finish(t, effects).Ending, "it held for 3 s before, and for 1 s while it was watched")
	effects = run(t, powerUp+`
  - name: loaded
    set: {load: {amps: 4 A}}
  - name: watched
    hold: {for: 4 s}
    guards: [{when: "load.amps > 3 A for 2 s", note: too long}]
`, nil)
	assert.Equal(t, stage.Aborted, finish(t, effects).Ending)
}

// A guard with a window that still fills trips all the same when another of its readings is missing.
func TestAFillingWindowHidesNoMissingReading(t *testing.T) {
	p := program(t, powerUp+`
  - name: hold
    hold: {for: 100 s}
    guards: [{when: "mean(load.volts, 60 s) > 16 V or source.volts > 55 V", note: either}]
`)
	p.LostAfter = 2
	m, err := stage.New(p)
	require.NoError(t, err)
	effects := play(t, m, m.Start(), newBench(), 0, func(now float64, b *bench) stage.Event {
		b.missing["source"] = now > 5
		return nil
	})
	end := finish(t, effects)
	assert.Equal(t, stage.Aborted, end.Ending)
	assert.InDelta(t, 7, end.T, 0.1, "two seconds after its reading was lost, not when the window is full")
}

// Of a grid only what the bay reads is waited for.
func TestAGridWaitsForNothingThatNobodyReads(t *testing.T) {
	took := func(missing string) float64 {
		ps := points(run(t, powerUp+sweep, func(_ float64, b *bench) stage.Event {
			b.missing[missing] = missing != ""
			return nil
		}))
		require.Len(t, ps, 6)
		return ps[5].T1 - ps[0].T0
	}
	assert.InDelta(t, took(""), took("source"), 0.2, "a supply that reads nothing does not make points longer")
}

// A search that cannot see stands still, and blames nobody when it stays blind.
func TestASeekDoesNotStepOnBlind(t *testing.T) {
	const seek = powerUp + `
  - name: search
    seek: {set: load.amps, from: 0 A, to: 9 A, coarse: 1 A, dwell: 200 ms, until: load.volts < 14.955 V, into: found}
    within: 60 s
`
	highest := 0.0
	blind := func(from, to float64) []stage.Effect {
		highest = 0
		return run(t, seek, func(now float64, b *bench) stage.Event {
			b.missing["load"] = now > from && now < to
			if b.missing["load"] {
				highest = math.Max(highest, b.load["amps"])
			}
			return nil
		})
	}
	seen := points(blind(1e9, 1e9))
	require.Len(t, seen, 1)
	again := points(blind(0.5, 1.5))
	require.Len(t, again, 1)
	assert.InDelta(t, seen[0].Place["load.amps"], again[0].Place["load.amps"], 1e-9, "it found the same")
	assert.LessOrEqual(t, highest, 2.0, "and stood still while it was blind")
	effects := blind(0.5, 1e9)
	end := finish(t, effects)
	assert.Equal(t, stage.Aborted, end.Ending, "a unit is not blamed for readings that do not come")
	assert.Contains(t, end.Reason, "readings are missing")
}

// While a run is away, nobody resumes or skips it: it goes on when it comes back, with what was in force.
func TestNobodyHurriesARunThatIsAway(t *testing.T) {
	for name, e := range map[string]stage.Event{"resume": stage.Resumed{T: 4, By: "ada"},
		"skip": stage.Skipped{T: 4, By: "ada"}} {
		m, err := stage.New(program(t, powerUp+"  - name: hold\n    hold: {for: 5 s}\n"))
		require.NoError(t, err)
		b, acts := newBench(), map[float64]stage.Event{2: stage.Interrupted{T: 2, Why: "the service was away"}, 4: e,
			6: stage.Returned{T: 6}}
		effects := play(t, m, m.Start(), b, 0, func(now float64, _ *bench) stage.Event {
			for at, e := range acts {
				if now >= at {
					delete(acts, at)
					return e
				}
			}
			return nil
		})
		end := finish(t, effects)
		assert.Equal(t, stage.Done, end.Ending, name)
		set := map[string]bool{}
		for _, e := range effects {
			if c, ok := e.(stage.Command); ok {
				for _, s := range c.Settings {
					set[s.String()] = true
				}
			}
		}
		assert.Greater(t, end.T, 9.0, "%s: the time away does not count, and is not counted twice", name)
		assert.Less(t, end.T, 9.6, name)
	}
}

// A pause that comes between a command and its acknowledgement loses neither.
func TestAPauseBeforeAnAcknowledgementHangsNothing(t *testing.T) {
	p, err := catalogue.Parse([]byte(`
procedure: test
for: any
needs: {cycler: {volts: 10 V, amps: 5 A}}
guards: [{when: "cycler.volts > 9 V for 50 ms", note: runs away}]
stages:
  - charge: {amps: 1 A, volts: 8 V, charge: 1 mAh}
`), nil, nil, nil)
	require.NoError(t, err)
	m, err := stage.New(p)
	require.NoError(t, err)
	m.Start()
	m.Advance(stage.Applied{T: 0.01})
	frame := func(now, charge float64) []stage.Effect {
		return m.Advance(frameOf(now, p, map[string]float64{"cycler.volts": 5, "cycler.amps": 1, "cycler.charge": charge}))
	}
	frame(1, 0)
	require.True(t, commands(frame(2, 4)), "1 mAh is in, and the output is switched off")
	require.True(t, commands(m.Advance(stage.Paused{T: 2.01, By: "ada"})), "which a pause does too")
	m.Advance(stage.Applied{T: 2.02}) // of the end
	m.Advance(stage.Applied{T: 2.03}) // of the pause
	m.Advance(stage.Resumed{T: 3, By: "ada"})
	for k := range 10 {
		frame(4+float64(k), 4)
	}
	assert.True(t, m.Finished(), "the charge is over")
}

func commands(effects []stage.Effect) bool {
	for _, e := range effects {
		if _, ok := e.(stage.Command); ok {
			return true
		}
	}
	return false
}

func frameOf(now float64, p *procedure.Program, values map[string]float64) stage.Frame {
	f := stage.Frame{}
	f.T = now
	for _, column := range p.Columns {
		f.Values = append(f.Values, values[column])
	}
	return f
}

// A hold for a stable reading keeps no frames: its snapshot stays small however long its window is.
func TestTheSnapshotOfAStableHoldStaysSmall(t *testing.T) {
	p := program(t, powerUp+`
  - name: settle
    hold: {stable: {quantity: load.volts, window: 10 min, band: 1 uV/s}, within: 2 h}
`)
	m, err := stage.New(p)
	require.NoError(t, err)
	b, n := newBench(), 0
	var longest int
	play(t, m, m.Start(), b, 0, func(now float64, _ *bench) stage.Event {
		if n++; n%5000 == 0 {
			data, err := m.Snapshot()
			require.NoError(t, err)
			require.True(t, json.Valid(data))
			longest = max(longest, len(data))
		}
		return nil
	})
	assert.Greater(t, longest, 0)
	assert.Less(t, longest, 250_000, "of 30,000 frames")
}

// A rule of a charge looks back to when it is watched: a false peak of the first minutes ends nothing.
func TestAFalsePeakOfTheFirstMinutesEndsNoCharge(t *testing.T) {
	p, err := catalogue.Parse([]byte(`
procedure: test
for: any
needs: {cycler: {volts: 20 V, amps: 5 A}}
guards: [{when: "cycler.volts > 19 V for 50 ms", note: runs away}]
stages:
  - charge: {amps: 1 A, volts: 18 V, volts drop: 50 mV, time: 20 min}
`), nil, nil, nil)
	require.NoError(t, err)
	end := func(volts func(past float64) float64) (float64, string) {
		m, err := stage.New(p)
		require.NoError(t, err)
		m.Start()
		m.Advance(stage.Applied{T: 0})
		label := ""
		now := 0.0
		for ; !m.Finished() && now < 1500; now += 0.5 {
			for _, e := range m.Advance(frameOf(now, p, map[string]float64{"cycler.volts": volts(now), "cycler.amps": 1})) {
				if mark, ok := e.(stage.Mark); ok && mark.Kind == record.MarkCondition {
					label = mark.Label
				}
			}
			m.Advance(stage.Applied{T: now + 0.001})
		}
		return now, label
	}
	at, label := end(func(past float64) float64 {
		if past < 60 {
			return 16.5 // what a cold battery shows at first
		}
		return 14 + past/1000
	})
	assert.Equal(t, "charge ended by time", label, "at %g s", at)
	at, label = end(func(past float64) float64 { return 14.62 - math.Abs(past-600)*1e-3 })
	assert.Equal(t, "charge ended by volts drop", label)
	assert.InDelta(t, 660, at, 15, "50 mV after the top of its mean, for 10 s")
}

// While a run is away its outputs are off: that is no reason for a guard to trip, but a hot unit is.
func TestOutputsThatAreOffForARestTripNoGuard(t *testing.T) {
	p, err := catalogue.Parse([]byte(`
procedure: test
for: any
needs: {cycler: {volts: 10 V, amps: 5 A}}
guards:
  - {when: "cycler.amps < 0.5 A for 1 s and elapsed > 2 s", note: the current is gone}
  - {when: "cycler.celsius > 50 °C", note: hot}
stages:
  - set: {cycler: {volts: 8 V, amps: 1 A, output: on}}
  - hold: {for: 100 s}
`), nil, nil, nil)
	require.NoError(t, err)
	reading := map[string]float64{"cycler.volts": 8, "cycler.amps": 1, "cycler.celsius": 25}
	var m *stage.Machine
	frames := func(from, to float64) {
		for now := from; now < to; now += 0.5 {
			m.Advance(frameOf(now, p, reading))
		}
	}
	for _, hot := range []bool{false, true} {
		m, err = stage.New(p)
		require.NoError(t, err)
		m.Start()
		m.Advance(stage.Applied{T: 0.01})
		reading["cycler.amps"], reading["cycler.celsius"] = 1, 25
		frames(0.5, 5)
		m.Advance(stage.Interrupted{T: 5, Why: "the service was away"})
		reading["cycler.amps"] = 0
		frames(5, 10)
		require.False(t, m.Finished(), "its outputs are off")
		if hot {
			reading["cycler.celsius"] = 60
		}
		frames(10, 11)
		require.Equal(t, hot, m.Finished())
		m.Advance(stage.Returned{T: 11})
		m.Advance(stage.Applied{T: 11})
		reading["cycler.amps"] = 1
		frames(11, 15)
		require.Equal(t, hot, m.Finished(), "what it saw in the rest is forgotten")
		reading["cycler.amps"] = 0
		frames(15, 17)
		assert.True(t, m.Finished(), "from then on everything is watched again")
	}
}
