package service_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

const pulsed = `procedure: pulsed
for: any
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 15 V, amps: 8 A}, meter: {}}
stages:
  - set: {source: {volts: 36 V, amps: 5 A, output: on}, load: {mode: current, amps: 6 A, output: on}}
  - name: low
    hold: {for: 2 s}
  - name: pulses
    play: {source.volts: [square 12 V at 8 Hz around 48 V for 5 s duty 30 %]}
  - set: {source: {volts: 60 V}}
  - name: high
    hold: {for: 2 s}
  - set: {meter: {averages: 64}}
  - name: quiet
    hold: {for: 4 s}
`

// An instrument that counts by itself sees pulses between the frames; it begins anew with every run. Where it is told
// to make one reading of many, their noise falls.
func TestAnAnalyserCountsAndAverages(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Metered},
			Change: func(c *bench.Config) {
				b := c.Bays["bay1"]
				b.Interval = api.Span(130 * time.Millisecond)
				c.Bays["bay1"] = b
			}})
		h.Push(pulsed)
		doc := h.Ended(h.Start("bay1", "pulsed", "TN-1"))
		require.Equal(t, "done", doc.State, doc.Reason)
		spans := map[string]client.Stretch{}
		for k, m := range doc.Marks {
			if m.Kind == "stage" && k+1 < len(doc.Marks) {
				spans[m.Label] = client.Stretch{From: m.T + 0.3, To: doc.Duration}
				for _, end := range doc.Marks[k+1:] {
					if end.Kind == "stage-end" {
						spans[m.Label] = client.Stretch{From: m.T + 0.3, To: end.T}
						break
					}
				}
			}
		}
		of := func(stage, column string) api.Statistic {
			all, err := h.Local.Statistics(t.Context(), doc.ID, spans[stage])
			require.NoError(t, err)
			for _, s := range all {
				if s.Name == column {
					return s
				}
			}
			require.Fail(t, "no "+column)
			return api.Statistic{}
		}
		low, high := *of("low", "meter.amps").Mean, *of("high", "meter.amps").Mean
		between := client.Stretch{From: spans["low"].To, To: spans["high"].From - 0.3}
		whole, err := h.Local.Statistics(t.Context(), doc.ID, between)
		require.NoError(t, err)
		counted := map[string]float64{}
		for _, s := range whole {
			if s.Largest != nil {
				counted[s.Name] = (*s.Largest - *s.Least) * 3600
			}
		}
		flowed := 5*(0.3*high+0.7*low) + (between.To-between.From-5)*low
		assert.Greater(t, math.Abs(counted["source.charge"]-flowed), 0.03*flowed, "what readings alone would tell")
		assert.InEpsilon(t, flowed, counted["meter.charge"], 0.01)
		noisy, quiet := of("high", "meter.amps"), of("quiet", "meter.amps")
		assert.Less(t, *quiet.Largest-*quiet.Least, 0.4*(*noisy.Largest-*noisy.Least), "64 readings are one")
	})
}
