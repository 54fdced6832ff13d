package kinds_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/stage"
	"usherbench/core/trace"
)

// At a knee at which the volts come to fall by 2 V/s frames lie close around the cutoff, on both sides, though frames
// came every 200 ms before and nobody knew of it.
func TestFramesLieCloseAroundAKnee(t *testing.T) {
	for name, volts := range map[string]func(t float64) float64{
		"even acceleration": func(t float64) float64 { return 3.6 - 2.0/2/1.2*math.Pow(max(t-20, 0), 2) },
		"exponential":       func(t float64) float64 { return 3.4 - 0.002*(math.Exp(max(t-20, 0)/0.2)-1) },
	} {
		t.Run(name, func(t *testing.T) {
			p := parsed(t, "  - discharge: {amps: 2 C, cutoff: 3.0 V}\n")
			m, err := stage.New(p)
			require.NoError(t, err)
			m.Start()
			m.Advance(stage.Applied{T: 0})
			v, i := p.Columns.Index("cycler.volts"), p.Columns.Index("cycler.amps")
			before := 0.0
			for now := 0.2; ; {
				f := trace.Frame{T: now, Values: make([]float64, len(p.Columns))}
				f.Values[v], f.Values[i] = volts(now), -2
				m.Advance(stage.Frame{Frame: f})
				if volts(now) <= 3 {
					slope := (volts(now) - volts(now-1e-3)) / 1e-3
					assert.Less(t, slope, -0.8, "it is a knee")
					assert.Less(t, now-before, 0.08, "the interval in which the cutoff lies")
					return
				}
				before = now
				now += max(min(m.Pace(), 0.2), 0.02)
			}
		})
	}
}
