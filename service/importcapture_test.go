package service_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
)

// tableOf writes rows of time, µs, and volts, as another bench's digitiser does.
func tableOf(from, step float64, n int, volts func(t float64) float64) string {
	rng := rand.New(rand.NewPCG(16, 5))
	var b strings.Builder
	b.WriteString("time [us];output [V]\n")
	for k := range n {
		t := from + float64(k)*step
		fmt.Fprintf(&b, "%.4f;%.6f\n", t*1e6, volts(t)+2e-4*rng.NormFloat64())
	}
	return b.String()
}

// A recorded capture of another bench gets the figures of ripple and of transients, its own time base and samples, and
// the limits of a procedure for the stage that it stands for.
func TestACaptureIsImported(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		look := func(text string) api.Mapping {
			l, err := h.Local.LookAtLog(t.Context(), api.ImportLog{Text: text, Mapping: api.Mapping{}})
			require.NoError(t, err)
			return l.Mapping
		}
		// A triangle of 40 mV at 200 kHz, 100 ns a sample.
		ripple := tableOf(-100e-6, 1e-7, 4000, func(t float64) float64 {
			turn := math.Mod(t*200e3+100, 1)
			return 15 + 0.04*(2*math.Abs(turn-0.5)-0.5)
		})
		m := look(ripple)
		assert.Equal(t, "us", m.Time.Unit)
		assert.Empty(t, m.Amps.Column)
		run, err := h.Local.Import(t.Context(), api.ImportLog{Name: "ripple.csv", Text: ripple, Mapping: m,
			Serial: "TN-2208", Nameplate: "tern", Capture: true, Accuracy: map[string]string{"volts": "0.5 %"}})
		require.NoError(t, err)
		doc, err := h.Local.Run(t.Context(), run.ID)
		require.NoError(t, err)
		frames, err := h.Local.Window(t.Context(), run.ID, nil, client.Range{}, 100)
		require.NoError(t, err, "a run without frames has an empty window")
		assert.Empty(t, frames.Traces)
		pp := figureOf(t, doc, "ripple-pp")
		require.Nil(t, pp.Undetermined, "%+v", pp.Undetermined)
		assert.InDelta(t, 0.040, pp.Value, 0.0015)
		assert.Positive(t, pp.U)
		rms := figureOf(t, doc, "ripple-rms")
		assert.InDelta(t, 0.02/math.Sqrt(3), rms.Value, 2e-4)
		assert.InDelta(t, 200e3, figureOf(t, doc, "dominant-frequency").Value, 300)
		window, err := h.Local.Capture(t.Context(), run.ID, 0, client.Stretch{From: -1e-5, To: 1e-5}, 400)
		require.NoError(t, err)
		assert.InDelta(t, 1e-7, window.Channels[0].Step, 1e-12, "its own time base")
		assert.InDelta(t, -100e-6, window.Channels[0].T0, 1e-12)

		// A step that dips and comes back, judged by what a procedure asks of its stage.
		deepest := 0.0
		dip := tableOf(-1e-3, 1e-6, 10_000, func(t float64) float64 {
			if t < 0 {
				return 15
			}
			deviation := 0.35 * math.Exp(-t/4e-4) * math.Cos(4000*t) * (1 - math.Exp(-t/1e-5))
			deepest = max(deepest, deviation)
			return 15 - deviation
		})
		run, err = h.Local.Import(t.Context(), api.ImportLog{Name: "step.csv", Text: dip, Mapping: look(dip),
			Serial: "TN-2208", Procedure: "tern-validation", Capture: true, Stage: "load step up"})
		require.NoError(t, err)
		doc, err = h.Local.Run(t.Context(), run.ID)
		require.NoError(t, err)
		under := figureOf(t, doc, "transient-undershoot-percent")
		require.Nil(t, under.Undetermined, "%+v", under.Undetermined)
		assert.InDelta(t, 100*deepest/15, under.Value, 0.02)
		assert.Equal(t, "pass", string(under.Outcome), "the limit of the procedure")
		assert.Nil(t, figureOf(t, doc, "recovery-time").Undetermined)

		for words, wrong := range map[string]api.ImportLog{
			`has no capture "nowhere"`: {Procedure: "tern-validation", Stage: "nowhere"},
			"takes no capture":         {Procedure: "tern-line-load"},
		} {
			wrong.Name, wrong.Text, wrong.Mapping, wrong.Serial, wrong.Capture = "x", dip, look(dip), "TN-1", true
			_, err := h.Local.Import(t.Context(), wrong)
			require.Error(t, err)
			assert.Contains(t, problemOf(t, err).Detail, words)
		}
		uneven := strings.Replace(dip, "\n5.0000;", "\n5.7000;", 1)
		_, err = h.Local.Import(t.Context(), api.ImportLog{Name: "x", Text: uneven, Mapping: look(dip), Serial: "TN-1",
			Capture: true})
		assert.Contains(t, problemOf(t, err).Detail, "a capture has equal steps")
	})
}
