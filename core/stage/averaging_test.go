package stage

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// A bench of a fast load, and of a meter and a thermometer that read at their own rate; frames come while it is not
// still. How long a point is averaged says which of them it waited for.
func TestAPointWaitsForWhatFiguresAreMadeOf(t *testing.T) {
	for name, x := range map[string]struct {
		meter, thermo float64    // s between readings; 0: it gives none
		still         [2]float64 // no frame is taken between these times
		only          []string
		want          float64 // s
	}{
		"everything is quick":                     {meter: 0.02, thermo: 0.02, want: 0.2},
		"a meter that reads once a second":        {meter: 1, thermo: 0.02, want: 5},
		"a thermometer is not waited for so long": {meter: 0.02, thermo: 1, want: 2},
		"what nobody asked for is not waited for": {meter: 1, only: []string{"load.volts"}, want: 0.2},
		"what is never read is not waited for":    {want: 0.2},
		"a meter that is too slow":                {meter: 3, want: 10},
		"a bench that stood still":                {meter: 0.02, still: [2]float64{0.09, 30}, want: 30},
	} {
		m := &Machine{program: &procedure.Program{Columns: trace.Columns{"load.volts", "meter.volts", "thermo.celsius"}}}
		every := []float64{0.02, x.meter, x.thermo}
		m.state.Read = []int{0}
		for i, dt := range every {
			if i > 0 && dt > 0 {
				m.state.Read = append(m.state.Read, i)
			}
		}
		var frames []trace.Frame
		past := 0.0
		for k := 1; k < 10_000; k++ {
			at := 0.02 * float64(k)
			if at > x.still[0] && at < x.still[1] {
				continue
			}
			past = at
			f := trace.Frame{T: at, Values: []float64{1, math.NaN(), math.NaN()}}
			for i, dt := range every {
				if n := math.Round(dt / 0.02); i > 0 && n > 0 && k%int(n) == 0 {
					f.Values[i] = 1
				}
			}
			if frames = append(frames, f); m.Enough(frames, x.only, past, 0.2) {
				break
			}
		}
		assert.InDelta(t, x.want, past, 0.05, name)
	}
}
