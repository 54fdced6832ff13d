package service_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/motor"
	"usherbench/simbench/plant/thruster"
)

// What the type test says of a motor is its truth.
func TestTheTypeTestOfAMotorIsItsTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 120, Layouts: []simbench.Layout{simbench.Machine},
			Faulty: map[string]string{"CM-7": string(motor.WornBearing)}})
		for serial, fault := range map[string]plant.Fault{"CM-1101": plant.Healthy, "CM-7": motor.WornBearing} {
			m, err := motor.Cormorant(serial, fault)
			require.NoError(t, err)
			run := h.Ended(h.Start("bay1", "cormorant-type", serial))
			require.Equal(t, "done", run.State, run.Reason)
			f := figuresOf(run)
			for id, r := range f {
				require.Nil(t, r.Undetermined, "%s: %v", id, r.Undetermined)
			}
			assert.InDelta(t, m.Ohms(25), f["winding-resistance"].Value, 2*f["winding-resistance"].U)
			// The winding while it is warm: its truth at the end of the stage, from its own warmth.
			hot := f["hot-resistance"].Value
			celsius := hot/m.Ohms(25)*260 - 235
			truth := m.At(231, 50, 14.7, celsius)
			assert.InDelta(t, truth.Friction, f["friction-windage-loss"].Value, f["friction-windage-loss"].U+4)
			assert.InDelta(t, truth.Iron, f["iron-loss"].Value, f["iron-loss"].U+6)
			assert.InDelta(t, truth.Slip, f["slip-loss"].Value, f["slip-loss"].U+2)
			assert.InDelta(t, truth.Additional, f["additional-load-loss"].Value, f["additional-load-loss"].U+8,
				"the winding cools while the load curve is taken")
			sum := truth.Winding + truth.Iron + truth.Slip + truth.Friction + truth.Additional
			assert.InDelta(t, sum, f["summed-loss"].Value, f["summed-loss"].U+8)
			require.NotNil(t, f["summed-loss"].Table)
			assert.Len(t, f["summed-loss"].Table.Rows, 6)
			assert.Equal(t, fault == plant.Healthy, run.Outcome == "pass", "%s is %s", serial, run.Outcome)
			// Its curve is drawn.
			drawn := map[string]int{}
			for _, c := range run.Played {
				drawn[c.Title]++
			}
			assert.Equal(t, 2, drawn["Resistance after switch-off"])
			assert.Equal(t, 2, drawn["Residual loss over the square of the torque"])
		}
	})
}

// The response of a thruster is linear from where its dead zone ends.
func TestTheResponseOfAThrusterIsItsTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.ThrustStand}})
		answering(t, h)
		run := h.Ended(h.Start("bay1", "puffin-thrust", "PF-1201"))
		require.Equal(t, "done", run.State, run.Reason)
		x, err := thruster.Puffin("PF-1201", plant.Healthy)
		require.NoError(t, err)
		f := figuresOf(run)
		assert.InDelta(t, x.Slope/100, f["linear-range-slope"].Value, f["linear-range-slope"].U)
		assert.InDelta(t, 100*x.Dead, f["linear-range-low"].Value, f["linear-range-low"].U)
		assert.Equal(t, "N/%", f["linear-range-slope"].Unit)
	})
}

// Readings are taken by a person, one more at another voltage without leaving the stage, and a kill in between loses
// none.
func TestReadingsTakenByAPerson(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Machine}})
		run := h.Start("bay1", "cormorant-routine", "CM-1101")
		asked := func(form stage.AskForm, taken int) *stage.Ask {
			var p *stage.Ask
			require.Eventually(t, func() bool {
				b, err := h.Local.Bay(t.Context(), "bay1")
				require.NoError(t, err)
				p = b.Prompt
				return p != nil && p.Form == form && p.Take.Taken == taken
			}, 60*time.Second, 20*time.Millisecond, "%s %d", form, taken)
			return p
		}
		say := func(i api.Intervention) error {
			_, err := h.Local.Intervene(t.Context(), "bay1", i)
			return err
		}
		asked(stage.AskConfirm, 0)
		require.NoError(t, say(api.Intervention{Do: api.DoAnswer, Text: "yes"}))
		p := asked(stage.AskTake, 0)
		assert.Equal(t, "no load", p.Take.Row)
		assert.Contains(t, p.Take.Columns, "meter.amps")
		assert.InDelta(t, 24.5, *p.Take.Limits["shaft.speed"].Min, 1e-9)
		require.ErrorContains(t, say(api.Intervention{Do: api.DoAnswer, Text: "done"}), "0 of 3 readings were taken")
		for k, volts := range []string{"231 V", "150 V", "90 V", "60 V"} {
			require.NoError(t, say(api.Intervention{Do: api.DoAdjust, Parameter: "volts", Value: volts}))
			asked(stage.AskTake, k)
			require.Eventually(t, func() bool {
				b, err := h.Local.Bay(t.Context(), "bay1")
				require.NoError(t, err)
				x := b.Readings["meter.volts"]
				return x != nil && math.Abs(*x-[]float64{231, 150, 90, 60}[k]) < 2
			}, 10*time.Second, 20*time.Millisecond)
			require.NoError(t, say(api.Intervention{Do: api.DoAnswer, Text: "take"}))
			asked(stage.AskTake, k+1)
		}
		require.NoError(t, say(api.Intervention{Do: api.DoAnswer, Text: "done"}))
		doc := h.Ended(run)
		require.Equal(t, "done", doc.State, doc.Reason)
		var volts []float64
		for _, p := range doc.Points {
			if p.Row == "no load" {
				volts = append(volts, math.Round(p.Averages["meter.volts"].Mean/10)*10)
			}
		}
		assert.Equal(t, []float64{230, 150, 90, 60}, volts)
		assert.Contains(t, labels(doc, record.MarkPointDone), "no load, reading 4, taken by this machine")
		require.NotEmpty(t, doc.Figures)
	})
}
