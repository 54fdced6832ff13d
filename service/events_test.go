package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/record"
	"usherbench/service/servicetest"
)

const night = `procedure: night
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A}}
record: {every: 60 s}
guards:
  - {when: "source.volts < 44 V and elapsed > 10 s", do: record, past: 1 s, for: 2 s, note: the line dips}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - hold: {for: 2 min}
  - name: dip
    play:
      source.volts: [hold 100 ms at 40 V, hold 1 s at 48 V]
  - hold: {for: 2 min}
`

// Of a night that is recorded once a minute, every frame about a dip of a tenth of a second is on record, with its
// past, and a mark leads there.
func TestADipInTheNight(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 5})
		h.Push(night)
		doc := h.Ended(h.Start("bay1", "night", "TN-1"))
		require.Equal(t, "done", doc.State, doc.Reason)
		var events []record.Mark
		for _, m := range doc.Marks {
			if m.Kind == record.MarkEvent {
				events = append(events, m)
			}
		}
		require.Len(t, events, 1)
		assert.Contains(t, events[0].Label, "the line dips")
		at := events[0].T
		run, err := h.Running.Store.Run(doc.ID)
		require.NoError(t, err)
		volts, err := h.Running.Store.NewReader(run).Trace(t.Context(), "source.volts", 0, 1e9)
		require.NoError(t, err)
		interval := 0.1 // the bay's, by the bench's clock
		about := volts.Between(at-1, at+2)
		assert.Greater(t, about.Len(), int(0.8*3/interval), "every frame about it")
		least := about.X[0]
		for _, x := range about.X {
			least = min(least, x)
		}
		assert.InDelta(t, 40, least, 0.5)
		assert.Less(t, volts.Len(), 150, "and little else")
	})
}
