package bars

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/demo"
	"usherbench/rehearsal"
)

// BenchmarkRehearsal rehearses a charge and discharge of the pack that together take ten hours, at frames of 1 s.
func BenchmarkRehearsal(b *testing.B) {
	var plate *nameplate.Nameplate
	for _, text := range demo.Nameplates() {
		if p, err := nameplate.Parse([]byte(text)); err == nil && p.Name == "gannet" {
			plate = p
		}
	}
	text, err := demo.Library("gannet-capacity")
	require.NoError(b, err)
	var hours, frames float64
	took := median(5, func() float64 {
		program, err := catalogue.Parse([]byte(text), plate, map[string]string{"into": "0.15 C", "out": "0.13 C"},
			demo.Library)
		require.NoError(b, err)
		began := time.Now()
		r, err := rehearsal.Run(b.Context(), program, plate, rehearsal.Options{})
		require.NoError(b, err)
		seconds := time.Since(began).Seconds()
		hours, frames = r.Duration/3600, float64(len(r.T))
		return seconds
	})
	require.Greater(b, hours, 10.0, "the cycle takes ten hours")
	require.Greater(b, frames, hours*3600*0.95, "at a frame a second")
	b.ReportMetric(took, "s")
	atMost("rehearsal of a 10-hour cycle (s)", took, 0.15, "%.3f")
}
