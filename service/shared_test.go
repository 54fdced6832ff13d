package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// Two bays with one scope take turns: each capture is whole, and none begins before the other has ended, also while
// one of the two waits all night for what is rare.
func TestBaysTakeTurnsWithAScope(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, TimeFactor: 1,
			Layouts: []simbench.Layout{simbench.Scoped, simbench.Scoped}, Change: func(c *bench.Config) {
				shared := c.Bays["bay1"].Seats["scope"]
				shared.Channel = 2 // probes say which inputs it has there
				c.Bays["bay2"].Seats["scope"] = shared
			}})
		const head = "for: tern\nneeds: {source: {}, load: {}, scope: {}}\n"
		h.Push("procedure: shot\n" + head +
			"stages:\n  - {name: taken, capture: {channels: {output: {range: 20 V}}, span: 10 s}}\n")
		h.Push("procedure: night\n" + head + `triggers:
  - name: dips
    capture:
      channels: {output: {range: 20 V}}
      span: 10 ms
      trigger: {channel: output, level: 14 V, slope: falling}
stages: [{hold: {for: 60 s}}]
`)
		first, second := h.Start("bay1", "shot", "TN-1"), h.Start("bay2", "shot", "TN-2")
		one, two := h.Ended(first), h.Ended(second)
		for _, run := range []api.Run{one, two} {
			assert.Equal(t, "done", run.State, run.Reason)
			captures, err := h.Local.Captures(t.Context(), run.ID)
			require.NoError(t, err)
			require.Len(t, captures, 1)
		}
		assert.Less(t, one.Duration, 12.0)
		assert.Greater(t, two.Duration, 19.0, "it waits for its turn, and then for its span")
		said := ""
		for _, f := range two.Preflight {
			said += f.What + "\n"
		}
		assert.Contains(t, said, "is used by bay1 too: captures take turns")

		night := h.Start("bay1", "night", "TN-1")
		time.Sleep(5 * time.Second)
		shot := h.Ended(h.Start("bay2", "shot", "TN-2"))
		assert.Equal(t, "done", shot.State, shot.Reason)
		assert.Less(t, shot.Duration, 12.0, "what waits for something rare steps back")
		ended := h.Ended(night)
		assert.Equal(t, "done", ended.State)
		for _, m := range ended.Marks {
			assert.NotContains(t, strings.ToLower(m.Label), "fail", "%v", m)
		}
	})
}
