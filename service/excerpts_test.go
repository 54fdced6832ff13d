package service_test

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/trace"
	"usherbench/service/servicetest"
	"usherbench/store"
)

// sixHours puts a log of six hours on record, ten frames a second, with a dip of one frame after four hours and a
// lesser spike after one.
func sixHours(t *testing.T, s *store.Store) store.Run {
	run := store.Run{ID: "01NIGHT", Bay: "bay1", Serial: "TN-2208", State: "done", StartedAt: s.Now(),
		Columns: trace.Columns{"source.volts", "source.amps", "load.volts"}, ProcedureText: anyText, Procedure: "night"}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, run.Columns)
	rng := rand.New(rand.NewPCG(6, 20))
	const frames = 6 * 36_000
	for k := range frames {
		noise := func(sd float64) float64 { return sd * rng.NormFloat64() }
		f := trace.Frame{T: float64(k) / 10, Values: []float64{48 + noise(2e-3), 0.7 + 1e-6*float64(k) + noise(1e-4),
			15 + noise(1e-3)}}
		switch k {
		case dipAt:
			f.Values[2] = 14.2
		case 36_000:
			f.Values[0] = 48.1
		}
		r.Frame(f)
	}
	ended := s.Now().Add(6 * time.Hour)
	require.NoError(t, r.Finish(map[string]any{"state": "done", "duration": 21600.0, "ended_at": &ended}))
	return run
}

const dipAt = 4*36_000 + 1234

const anyText = `procedure: night
for: any
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A}}
stages: [{hold: {for: 6 h}}]
`

// Out of six hours one frame is found from the overview in one call, kept as an excerpt, and exported alone.
func TestTheSecondThatMatters(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		run := sixHours(t, h.Running.Store)
		found, err := h.Local.Excursions(t.Context(), run.ID, nil, client.Open(), 10)
		require.NoError(t, err)
		require.Len(t, found, 2)
		dip := found[0]
		assert.Equal(t, "load.volts", dip.Column)
		assert.Equal(t, dipAt/10.0, dip.T, "the very frame")
		assert.Equal(t, "V", dip.Unit)
		assert.InDelta(t, 14.2, dip.Value, 1e-9)
		assert.InDelta(t, 15, dip.Usual, 1e-3)
		assert.Equal(t, "source.volts", found[1].Column)
		assert.Equal(t, 3600.0, found[1].T)
		none, err := h.Local.Excursions(t.Context(), run.ID, []string{"load.volts"}, client.Stretch{From: 0, To: 3000}, 5)
		require.NoError(t, err)
		assert.Empty(t, none, "noise is none")
		_, err = h.Local.Excursions(t.Context(), run.ID, []string{"load.voltz"}, client.Open(), 5)
		assert.Equal(t, 400, problemOf(t, err).Status)

		operator := h.As(api.Operator)
		kept, err := operator.PutExcerpt(t.Context(), run.ID, "the dip", api.ExcerptRequest{From: dip.T - 0.5,
			To: dip.T + 0.5, Note: "somebody opened a door"})
		require.NoError(t, err)
		assert.Equal(t, "test operator", kept.By)
		listed, err := h.Local.Excerpts(t.Context(), run.ID)
		require.NoError(t, err)
		require.Len(t, listed, 1)
		assert.Equal(t, "somebody opened a door", listed[0].Note)
		for _, format := range []string{"csv", "parquet", "xlsx", "json"} {
			var out bytes.Buffer
			require.NoError(t, operator.Export(t.Context(), run.ID, format, client.Range{From: kept.From, To: kept.To}, &out))
			assert.Less(t, out.Len(), 20_000, format)
			if format == "csv" {
				lines := strings.Split(strings.TrimSpace(out.String()), "\n")
				assert.Len(t, lines, 12, "eleven frames, and their names")
				assert.Contains(t, out.String(), "14.2")
			}
		}
		_, err = operator.PutExcerpt(t.Context(), run.ID, "before it", api.ExcerptRequest{From: dip.T - 60.5,
			To: dip.T - 59.5})
		require.NoError(t, err)
		laid, err := operator.Overlay(t.Context(), api.OverlayRequest{Runs: []string{run.ID}, Half: "excerpts",
			Quantity: "load.volts", Over: api.OverTime})
		require.NoError(t, err)
		require.Len(t, laid.Curves, 2)
		assert.Equal(t, []string{"before it", "the dip"}, []string{laid.Curves[0].Excerpt, laid.Curves[1].Excerpt})
		assert.Contains(t, laid.Curves[1].Label, "the dip", "excerpts of a run are told apart by their names")
		assert.Len(t, laid.Curves[1].X, 11, "every frame, from the begin of the excerpt")
		assert.InDelta(t, 0.5, laid.Curves[1].X[slices.Index(laid.Curves[1].Y, slices.Min(laid.Curves[1].Y))], 1e-6)
		require.Len(t, laid.Differences, 1)
		assert.InDelta(t, -0.8, *laid.Differences[0].Largest, 0.02)
		one, err := operator.Overlay(t.Context(), api.OverlayRequest{Runs: []string{run.ID}, Excerpt: "the dip",
			Quantity: "load.volts"})
		require.NoError(t, err)
		assert.Len(t, one.Curves, 1)
		_, err = operator.Overlay(t.Context(), api.OverlayRequest{Runs: []string{run.ID}, Excerpt: "the dip", Half: "charge"})
		assert.Equal(t, 400, problemOf(t, err).Status)
		require.NoError(t, operator.DropExcerpt(t.Context(), run.ID, "before it"))
		for _, wrong := range []api.ExcerptRequest{{From: 5, To: 5}, {From: 30_000, To: 30_001}, {From: -3, To: 2},
			{From: 1, To: 2, Note: strings.Repeat("x", 2001)}} {
			_, err := operator.PutExcerpt(t.Context(), run.ID, "wrong", wrong)
			assert.Equal(t, 400, problemOf(t, err).Status, "%v", wrong)
		}
		_, err = h.As(api.Viewer).PutExcerpt(t.Context(), run.ID, "mine", api.ExcerptRequest{From: 1, To: 2})
		assert.Equal(t, 403, problemOf(t, err).Status)
		require.NoError(t, operator.DropExcerpt(t.Context(), run.ID, "the dip"))
		assert.Equal(t, 404, problemOf(t, operator.DropExcerpt(t.Context(), run.ID, "the dip")).Status)
	})
}
