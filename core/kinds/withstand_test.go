package kinds_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

const stands = "  - {name: stands, withstand: {seat: source, volts: 50 V, rise: 100 V/s, for: 500 ms, leakage: 1 A}}\n"

// offOf tells whether effects switch the source off.
func offOf(effects []stage.Effect) bool {
	for _, e := range effects {
		if c, ok := e.(stage.Command); ok {
			for _, s := range c.Settings {
				if s.Seat == "source" && s.Quantity == seats.Output && s.Word == seats.Off {
					return true
				}
			}
		}
	}
	return false
}

// Whenever a reading shows more leakage than is allowed, the output goes off with it; no step of the volts is made
// before the one before was read; and a unit that leaks no more stands for the whole time.
func TestAnInsulationThatGivesWayIsOffWithTheReading(t *testing.T) {
	p := parsed(t, stands)
	volts, amps := p.Columns.Index("source.volts"), p.Columns.Index("source.amps")
	rapid.Check(t, func(rt *rapid.T) {
		gives := rapid.Float64Range(2, 80).Draw(rt, "gives way at")
		gap := rapid.IntRange(0, 20).Draw(rt, "reading that is missing")
		m, err := stage.New(p)
		require.NoError(rt, err)
		set, over, steps := 0.0, false, 0
		var end stage.Finish
		var point *stage.Point
		take := func(effects []stage.Effect, now float64) {
			for len(effects) > 0 {
				var then []stage.Effect
				for _, e := range effects {
					switch e := e.(type) {
					case stage.Command:
						for _, s := range e.Settings {
							if s.Column() == "source.volts" {
								require.LessOrEqual(rt, s.Value-set, 100*0.05+1e-9, "the volts rise no faster")
								set, steps = s.Value, steps+1
							}
						}
						then = append(then, m.Advance(stage.Applied{T: now})...)
					case stage.Point:
						point = &e
					case stage.Finish:
						end = e
					}
				}
				effects = then
			}
		}
		take(m.Start(), 0)
		for k := 1; !m.Finished() && k < 1000; k++ {
			now := 0.05 * float64(k)
			f := trace.Frame{T: now, Values: make([]float64, len(p.Columns))}
			f.Values[volts], f.Values[amps] = set, 1e-3
			leaks := set >= gives && !over
			if leaks {
				f.Values[amps] = 1.01
			}
			if k == gap {
				f.Values[amps] = trace.Missing
				leaks = false
			}
			effects := m.Advance(stage.Frame{Frame: f})
			require.Equal(rt, leaks, offOf(effects) && leaks)
			over = over || offOf(effects)
			take(effects, now)
		}
		require.Equal(rt, stage.Done, end.Ending, end.Reason)
		require.NotNil(rt, point)
		require.Equal(rt, gives <= 50, point.GaveWay)
		require.LessOrEqual(rt, point.Held["source.volts"], 50.0)
		require.Less(rt, point.Held["source.volts"], gives+1e-9)
	})
}

// What is interrupted is no time for which it stood: the volts rise from none again, and stand for the whole time.
func TestAnInterruptedWithstandBeginsAnew(t *testing.T) {
	p := parsed(t, stands)
	for name, meddle := range map[string][2]func(float64) stage.Event{
		"a pause": {func(now float64) stage.Event { return stage.Paused{T: now, By: "ada"} },
			func(now float64) stage.Event { return stage.Resumed{T: now, By: "ada"} }},
		"an interruption": {func(now float64) stage.Event { return stage.Interrupted{T: now, Why: "away"} },
			func(now float64) stage.Event { return stage.Returned{T: now} }},
	} {
		o := drive(t, p, nil, several(once(0.8, meddle[0]), once(3, meddle[1])))
		require.Equal(t, stage.Done, o.end.Ending, name)
		require.Len(t, o.points, 1, name)
		assert.InDelta(t, 0.5, o.points[0].T1-o.points[0].T0, 0.03, name)
		assert.Greater(t, o.points[0].T0, 3.4, name)
		back := ""
		for _, line := range o.lines {
			if strings.Contains(line, "source.output = on") && strings.HasPrefix(line, "stage.Command") {
				back = line
			}
		}
		assert.Contains(t, back, "source.volts = 0 V", "%s: not with the volts that it had", name)
	}
}

func TestAWithstandSaysWhatIsWrongWithIt(t *testing.T) {
	for text, says := range map[string]string{
		"{seat: load, volts: 10 V, rise: 1 V/s, for: 1 s, leakage: 1 A}":     "cannot lead an insulation up to volts",
		"{seat: nobody, volts: 10 V, rise: 1 V/s, for: 1 s, leakage: 1 A}":   "unknown seat",
		"{seat: source, volts: 90 V, rise: 1 V/s, for: 1 s, leakage: 1 A}":   "60 V",
		"{seat: source, volts: 10 V, rise: 0 V/s, for: 1 s, leakage: 1 A}":   "must be more than 0",
		"{seat: source, volts: 10 V, rise: 1 V/s, for: 1 s, leakage: 4.9 A}": "5 A",
		"{seat: source, volts: 10 V, rise: 1 V/s, for: 1 s}":                 "leakage",
	} {
		_, err := parseWith("  - {name: stands, withstand: "+text+"}\n", nil)
		require.ErrorContains(t, err, says, text)
	}
	for text, says := range map[string]string{
		"{average: 100 ms, every: 1 s, times: 3, until: elapsed > 1 s, within: 2 s}": "how many that are",
		"{average: 100 ms, until: elapsed > 1 s, within: 2 s}":                       "say with every",
		"{average: 100 ms, every: 1 s, until: elapsed > 1 s}":                        "may never end",
	} {
		_, err := parseWith("  - {name: warm, acquire: "+text+"}\n", nil)
		require.ErrorContains(t, err, says, text)
	}
}
