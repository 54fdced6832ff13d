package service_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/record"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/converter"
)

// What happens seldom is captured beside the stages: of seven dips the three worst and the two newest are kept, with
// their samples, and each is a mark that says how deep it was.
func TestWhatIsRareIsCaptured(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}, TimeFactor: 1,
			Ideal: true})
		doc := h.Ended(h.Start("bay1", "tern-watch", "TN-2208"))
		require.Equal(t, "done", doc.State, doc.Reason)
		kept, err := h.Local.Captures(t.Context(), doc.ID)
		require.NoError(t, err)
		require.Len(t, kept, 5)
		unit, err := converter.Tern("TN-2208", plant.Healthy)
		require.NoError(t, err)
		// 7, 5.5, 8, 6, 6.5, 5, 7.5 A: the newest are the last two, and the worst of those before 8, 7 and 6.5 A.
		for i, amps := range []float64{7, 8, 6.5, 5, 7.5} {
			c := kept[i]
			assert.Equal(t, "dips", c.Stage)
			assert.Equal(t, []int{1, 3, 5, 6, 7}[i], c.Of)
			deepest := 14.85 - lowestAt(unit, amps)
			assert.InDelta(t, deepest, c.Beyond, 0.01, "%g A", amps) // the scope's noise
			window, err := h.Local.Capture(t.Context(), doc.ID, c.Index, client.Stretch{From: -1e-3, To: 5e-3}, 400)
			require.NoError(t, err)
			require.Len(t, window.Traces, 2)
		}
		_, err = h.Local.Capture(t.Context(), doc.ID, 1, client.Open(), 10)
		assert.Equal(t, 404, problemOf(t, err).Status, "what is not kept is gone")
		events := marksOf(doc, record.MarkEvent)
		require.Len(t, events, 7, "each leaves a mark")
		for i, c := range kept {
			assert.InDelta(t, c.T, events[c.Of-1].T, 1e-9)
			point := doc.Points[2*c.Of-1]
			assert.InDelta(t, point.T1-0.8, c.T, 0.1, "capture %d is where the load stepped", i)
		}
		require.Nil(t, doc.Figures[0].Undetermined, "%+v", doc.Figures[0].Undetermined)
		assert.Positive(t, doc.Figures[0].Value)
	})
}

// lowestAt is how low the output goes, its ripple included, when the load steps there from 1 A.
func lowestAt(c converter.Converter, amps float64) float64 {
	u := &converter.Unit{Converter: c}
	joined := plant.Joined{Line: plant.Source{On: true, Volts: 48, Amps: 5},
		Output: plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 1}}
	u.At(0, joined)
	u.At(1, joined)
	joined.Output.Level = amps
	u.At(2, joined)
	low := 99.0
	for t := 2.0; t < 2.003; t += 1e-7 {
		low = min(low, u.Wave(t).Output.Volts)
	}
	return low
}

func marksOf(doc api.Run, kind record.MarkKind) []record.Mark {
	return slices.DeleteFunc(slices.Clone(doc.Marks), func(m record.Mark) bool { return m.Kind != kind })
}

// A scope that cannot capture takes no run down, is said once, and is tried again.
func TestAScopeThatWaitsForWhatIsRareEndsNoRun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}, TimeFactor: 1})
		require.NoError(t, h.Bench.SetFault("scope1", simbench.HungFetch))
		doc := h.Ended(h.Start("bay1", "tern-watch", "TN-2208"))
		require.Equal(t, "done", doc.State, doc.Reason)
		kept, err := h.Local.Captures(t.Context(), doc.ID)
		require.NoError(t, err)
		assert.Empty(t, kept)
		told := slices.DeleteFunc(marksOf(doc, record.MarkBench),
			func(m record.Mark) bool { return !strings.HasPrefix(m.Label, "dips: ") })
		require.Len(t, told, 1)
		assert.Contains(t, told[0].Label, "fetch")
	})
}
