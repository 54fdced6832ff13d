package bars

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/core/wiring"
)

// BenchmarkWiring judges how a harness of 128 pins is wired, of which every pair was read.
func BenchmarkWiring(b *testing.B) {
	s := wiring.Scan{Limits: wiring.Limits{Closed: wiring.UsualClosed, Open: wiring.UsualOpen}, Range: 100e6}
	for k := range 64 {
		net := wiring.Net{fmt.Sprintf("A%d", k), fmt.Sprintf("B%d", k)}
		s.Nets, s.Pins = append(s.Nets, net), append(s.Pins, net...)
	}
	for _, p := range wiring.All(len(s.Pins)) {
		ohms := math.Inf(1)
		if p[0]/2 == p[1]/2 && p[0] > 3 { // two wires are broken
			ohms = 35e-3
		}
		s.Pairs = append(s.Pairs, wiring.Pair{A: p[0], B: p[1], Ohms: ohms})
	}
	const times = 20
	for b.Loop() {
		began := time.Now()
		for range times {
			found, err := s.Judge()
			require.NoError(b, err)
			require.Equal(b, 2, found.Count(wiring.Opened))
		}
		atMost("wiring of 128 pins judged, ms", time.Since(began).Seconds()*1e3/times, 10, "%.2f")
	}
}
