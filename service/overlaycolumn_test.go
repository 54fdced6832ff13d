package service_test

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/procedure"
	"usherbench/service/servicetest"
)

// The load goes up and comes back.
const thereAndBack = `procedure: there-and-back
for: any
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 8 A}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 1 A}}
    until: load.volts > 14 V for 50 ms
    within: 2 s
  - set: {load: {output: on}}
  - name: sweep
    grid: {over: [{set: load.amps, from: 1 A, to: 7 A, steps: 7, order: both}], settle: 100 ms, average: 100 ms}
figures: []
`

func TestAnOverlayOverAColumn(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(thereAndBack)
		var runs []string
		for range 2 {
			run := h.Start("bay1", "there-and-back", "TN-2208")
			require.Equal(t, "done", h.Ended(run).State)
			runs = append(runs, run.ID)
		}
		o, err := h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: runs, Over: "load.amps", Half: "points"})
		require.NoError(t, err)
		require.Len(t, o.Curves, 4, "there and back of two runs")
		labels := map[string]bool{}
		for _, c := range o.Curves {
			labels[c.Label] = true
			assert.GreaterOrEqual(t, len(c.X), 6)
			assert.IsIncreasing(t, c.X)
			assert.InDelta(t, 1, c.X[0], 0.02)
			assert.InDelta(t, 7, c.X[len(c.X)-1], 0.02)
			assert.Greater(t, c.Y[0], c.Y[len(c.Y)-1], "the volts give way")
		}
		assert.Len(t, labels, 4, "%v", labels)
		assert.Equal(t, []string{"load.amps", "A", "load.volts", "V"}, []string{o.XLabel, o.XUnit, o.YLabel, o.YUnit})

		for _, less := range []string{api.LessMean, api.LessReference} {
			d, err := h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: runs, Over: "load.amps", Half: "points", Less: less})
			require.NoError(t, err)
			require.Len(t, d.Curves, 4)
			assert.Contains(t, d.YLabel, "deviation of load.volts from")
			for k, c := range d.Curves {
				for i, y := range c.Y {
					assert.InDelta(t, 0, y, 0.03, "%s at %g", c.Label, c.X[i])
				}
				assert.Equal(t, o.Curves[k].Label, c.Label)
			}
			assert.Equal(t, o.Differences[0].Largest == nil, d.Differences[0].Largest == nil)
		}
		_, err = h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: runs, Over: "load.amps", Half: "points", Less: "much"})
		assert.ErrorContains(t, err, "choose mean, reference")

		o, err = h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: runs[:1], Over: "load.volts"})
		require.NoError(t, err)
		assert.Equal(t, "load.amps", o.YLabel, "over its volts stand its amps, of all frames")
		assert.NotEmpty(t, o.Curves)

		_, err = h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: runs, Half: "points"})
		assert.ErrorContains(t, err, "points are drawn over a column")
		o, err = h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: runs, Over: "meter.volts"})
		require.NoError(t, err)
		require.Len(t, o.Left, 2)
		assert.Contains(t, o.Left[0].Why, "meter.volts")
	})
}

// What is played is drawn from its frames: each way of the triangle is a curve.
func TestWhatIsPlayedDrawsCurves(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 5})
		h.Push(mustText(t, "tern-triangle"))
		doc := h.Ended(h.Start("bay1", "tern-triangle", "TN-2208"))
		require.Equal(t, "done", doc.State, doc.Reason)
		require.GreaterOrEqual(t, len(doc.Played), 6, "12 s of 0.25 Hz go there and back three times")
		for i, c := range doc.Played {
			assert.Equal(t, procedure.Curve{Of: "load.volts", By: "source.volts"}, c.Curve)
			assert.Equal(t, fmt.Sprintf("triangle #%d", i+1), c.Label)
			assert.IsIncreasing(t, c.X)
			for _, y := range c.Y {
				assert.InDelta(t, 15, y, 0.3)
			}
		}
		full := doc.Played[2]
		assert.InDelta(t, 20, full.X[len(full.X)-1]-full.X[0], 2, "from crest to crest")
		var report bytes.Buffer
		require.NoError(t, h.Local.Report(t.Context(), doc.ID, client.Printed{}, &report))
		assert.Contains(t, report.String()[:8], "%PDF")
	})
}
