package stage_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
)

// endless is a program whose loop sets something and takes no time. The check of procedures refuses it; the machine
// must bear it all the same.
func endless(t testing.TB, times, inner int) *procedure.Program {
	p := program(t, powerUp+`
  - name: outer
    repeat: {times: 9}
    stages:
      - name: inner
        repeat: {times: 9}
        stages:
          - hold: {for: 1 s}
`)
	loops := []int{times, inner}
	for i, s := range p.Stages {
		switch a := s.Action.(type) {
		case *procedure.Repeat:
			a.Times, loops = loops[0], loops[1:]
		default:
			if s.Kind() == "hold" {
				p.Stages[i].Action = p.Stages[0].Action // sets, and is over at once
				p.Stages[i].Until, p.Stages[i].Within = "", 0
			}
		}
	}
	return p
}

// Between two passes of a loop is a frame, whatever is in it: a stop is heard and guards are watched, and what follows
// one event is bounded by the length of the program.
func TestNoTwoPassesWithoutAFrame(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		times, inner := rapid.IntRange(1, 1000).Draw(rt, "times"), rapid.IntRange(1, 1000).Draw(rt, "inner")
		p := endless(t, times, inner)
		m, err := stage.New(p)
		require.NoError(rt, err)
		bench := newBench()
		effects := m.Start()
		frames := rapid.IntRange(1, 200).Draw(rt, "frames")
		for k := range frames {
			now := float64(k+1) * 0.1
			passes := 0
			for len(effects) > 0 { // commands are carried out at once, as by the quickest of instruments
				commanded := false
				for _, e := range effects {
					switch e := e.(type) {
					case stage.Command:
						commanded = true
						bench.apply(e)
					case stage.Mark:
						if e.Kind == record.MarkLoop {
							passes++
						}
					}
				}
				effects = nil
				if commanded {
					effects = m.Advance(stage.Applied{T: now})
				}
			}
			require.LessOrEqual(rt, passes, 2, "of each loop one pass between two frames")
			if m.Finished() {
				return
			}
			effects = m.Advance(frameOf(now, p, map[string]float64{"source.volts": 48, "source.amps": 1, "load.volts": 15,
				"load.amps": 2}))
		}
		end := finish(t, m.Advance(stage.StopAsked{T: float64(frames), By: "ada"}))
		assert.Equal(rt, "stopped by ada", end.Reason)
	})
}
