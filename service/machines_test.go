package service_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/demo"
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

// What is measured of a motor at rest is its truth, and every fault that shows at rest is found.
func TestTheInsulationOfAMotorIsItsTruth(t *testing.T) {
	faulty := map[string]string{"CM-1301": "", "CM-11": string(motor.Damp), "CM-12": string(motor.Punctured),
		"CM-13": string(motor.BurntHeater), "CM-14": string(motor.ShortedTurn)}
	fails := map[string]string{"CM-11": "insulation-resistance", "CM-12": "withstand-voltage", "CM-13": "reading",
		"CM-14": "winding-resistance"}
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20, Layouts: []simbench.Layout{simbench.Insulation},
			Faulty: faulty})
		for serial, fault := range faulty {
			m, err := motor.Cormorant(serial, plant.Fault(fault))
			require.NoError(t, err)
			run := h.Ended(h.Start("bay1", "cormorant-insulation", serial))
			require.Equal(t, "done", run.State, run.Reason)
			f := figuresOf(run)
			amps := m.Insulation.Amps(500, 60)
			ir := f["insulation-resistance"]
			require.Nil(t, ir.Undetermined, "%s: %v", serial, ir.Undetermined)
			assert.InDelta(t, 500/amps, ir.Value, ir.U+0.02*ir.Value, "%s: the mean over its window", serial)
			pi := f["polarization-index"]
			assert.InDelta(t, amps/m.Insulation.Amps(500, 600), pi.Value, pi.U+0.03*pi.Value, serial)
			stood := f["withstand-voltage"]
			require.Nil(t, stood.Undetermined, "%s: %v", serial, stood.Undetermined)
			assert.InDelta(t, min(1800, m.Insulation.Breaks), stood.Value, stood.U+12, "%s: to a step of the rise", serial)
			if fault == "" {
				assert.Equal(t, "pass", run.Outcome)
				continue
			}
			assert.Equal(t, "fail", run.Outcome, "%s: %s", serial, fault)
			found := false
			for _, r := range run.Figures {
				found = found || r.ID == fails[serial] && r.Outcome == "fail"
			}
			assert.True(t, found, "%s fails by %s", serial, fails[serial])
		}
		// Of the one that gave way the output was off with the reading that showed it, and stayed off.
		s, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, s.SourceOn)
	})
}

// Torque over speed and the locked rotor are the truth of the motor, and of one with a broken bar they are not those of
// a good one.
func TestTheTorqueOfAMotorIsItsTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Machine},
			Faulty: map[string]string{"CM-8": string(motor.BrokenBar)}})
		for serial, fault := range map[string]plant.Fault{"CM-1101": plant.Healthy, "CM-8": motor.BrokenBar} {
			m, err := motor.Cormorant(serial, fault)
			require.NoError(t, err)
			run := h.Ended(h.Start("bay1", "cormorant-torque", serial))
			require.Equal(t, "done", run.State, run.Reason)
			assert.Equal(t, map[plant.Fault]string{plant.Healthy: "pass", motor.BrokenBar: "fail"}[fault], run.Outcome)
			for _, p := range run.Points {
				if p.Stage != "torque over speed" {
					continue
				}
				// In SI: its winding warms by some kelvins meanwhile.
				volts, speed := p.Averages["mains.volts"].Mean, p.Averages["shaft.speed"].Mean
				truth := m.HeldAt(volts, 50, speed, 40).Torque
				assert.InDelta(t, truth, p.Averages["shaft.torque"].Mean, 0.06*truth+0.1, "%s at %.1f r/s", serial, speed)
			}
		}
	})
}

// A heat run takes readings until its frame is stable, and says so: somebody has it shut down.
func TestAHeatRunIsShutDownByAPerson(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 120, Layouts: []simbench.Layout{simbench.Machine}})
		answering(t, h)
		run := h.Ended(h.Start("bay1", "cormorant-heat-run", "CM-1101"))
		require.Equal(t, "done", run.State, run.Reason)
		assert.Equal(t, "pass", run.Outcome)
		warm := 0
		for _, p := range run.Points {
			if p.Row == "warm" {
				warm++
				assert.InDelta(t, 46, p.Averages["climate.humidity"].Mean, 3)
				assert.InDelta(t, 0.78, p.Averages["vibration.vibration"].Mean, 0.1)
			}
		}
		assert.GreaterOrEqual(t, warm, 6, "every ten minutes")
		assert.Contains(t, labels(run, record.MarkCondition), "thermo.celsius is stable")
		assert.Contains(t, labels(run, record.MarkAnswer)[1], "answered stable: yes")
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
		assert.InDelta(t, 100*x.Dead, f["dead-zone"].Value, f["dead-zone"].U+0.05)
		lag := f["response-hysteresis"]
		assert.InDelta(t, 100*x.Slope*x.Play/x.Force(0.4), lag.Value, lag.U+0.3, "the play of its command")
		force := x.Force(0.4)
		assert.InDelta(t, force/(x.Idle+x.Watts*force), f["response-yield"].Value, f["response-yield"].U+0.02)
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

// A report has the parts that its procedure names, in that order, and no other.
func TestAReportIsInTheOrderThatItsCustomerWants(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Machine}})
		text, err := demo.Library("cormorant-torque")
		require.NoError(t, err)
		plain := "report: {curves: [shaft.torque by shaft.speed, meter.amps by shaft.speed]}"
		require.Contains(t, text, plain)
		text = strings.Replace(text, plain, "report:\n  curves: [shaft.torque by shaft.speed]\n"+
			"  sections: [instruments, points, figures, curves]", 1)
		h.Push(strings.Replace(text, "procedure: cormorant-torque", "procedure: customers-torque", 1))
		run := h.Ended(h.Start("bay1", "customers-torque", "CM-1101"))
		require.Equal(t, "done", run.State, run.Reason)
		var page strings.Builder
		require.NoError(t, h.Local.Report(t.Context(), run.ID, client.Printed{Format: "html"}, &page))
		at := -1
		for _, heading := range []string{">Instruments<", ">Points<", ">Figures<", ">Curves<"} {
			next := strings.Index(page.String(), heading)
			assert.Greater(t, next, at, heading)
			at = next
		}
		assert.NotContains(t, page.String(), ">Marks<")
		assert.Contains(t, page.String(), "<svg", "with the torque over the speed")
	})
}
