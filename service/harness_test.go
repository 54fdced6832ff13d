package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/harness"
)

// Leads are judged as they are made, and every fault is found by the figure that is for it.
func TestALeadIsJudgedAsItIsWired(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		faulty := map[string]string{"LL-11": string(harness.BrokenWire), "LL-12": string(harness.Swapped),
			"LL-13": string(harness.Touching), "LL-14": string(harness.Chafed), "LL-15": string(harness.BadCrimp)}
		fails := map[string]map[string]float64{"LL-10": {},
			"LL-11": {"wiring-nets": 8, "wiring-opens": 1}, "LL-12": {"wiring-miswires": 2, "wiring-isolation": 34e-3},
			"LL-13": {"wiring-nets": 6, "wiring-shorts": 1, "wiring-isolation": 0.417},
			"LL-14": {"wiring-isolation": 2.7e6}, "LL-15": {"contact-resistance": 86e-3}}
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Harness}, Faulty: faulty})
		for serial, wrong := range fails {
			run := h.Ended(h.Start("bay1", "lantern-lead-wiring", serial))
			require.Equal(t, "done", run.State, run.Reason)
			found := map[string]float64{}
			for _, f := range run.Figures {
				if f.Outcome == "fail" {
					found[f.ID] = f.Value
				}
			}
			require.Len(t, found, len(wrong), "%s: %v", serial, found)
			for id, value := range wrong {
				assert.InEpsilon(t, value, found[id], 0.1, "%s: %s", serial, id)
			}
			truth, err := harness.LanternLead(serial, plant.Fault(faulty[serial]))
			require.NoError(t, err)
			f := figuresOf(run)
			if r := f["contact-resistance"]; serial == "LL-10" || serial == "LL-15" {
				largest := 0.0
				for _, j := range truth.Joints {
					largest = max(largest, j.Ohms-27.58e-3)
				}
				assert.InDelta(t, largest, r.Value, r.U+40e-6)
			}
		}
	})
}

// A crosspoint that breaks ends the run with its name, and gives no harness a verdict; when it is mended the next lead
// is judged.
func TestACrosspointThatBreaksJudgesNoLead(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Harness}})
		broken := h.Bench.Instruments()[0]
		require.Equal(t, "crosspoint", broken.Kind)
		ends := map[simbench.InstrumentFault]string{simbench.Drop: "crosspoint1", simbench.Hang: "crosspoint1",
			simbench.Garbage: "crosspoint1", simbench.NotANumber: "no resistance", simbench.Behind: "crosspoint1"}
		h.Push("procedure: again-and-again\nfor: lantern-lead\nneeds: {crosspoint: {}}\nstages:\n" +
			"  - repeat: {times: 10000}\n    stages: [{wiring: {pairs: all}}, {hold: {for: 300 ms}}]\n" +
			"figures: [{figure: wiring-opens, limit: {max: 0}}]\n")
		for fault, words := range ends {
			run := h.Start("bay1", "again-and-again", "LL-10")
			time.Sleep(time.Second)
			require.NoError(t, h.Bench.SetFault(broken.Name, fault))
			doc := h.Ended(run)
			assert.Equal(t, "aborted", doc.State, fault)
			assert.Contains(t, doc.Reason, words, fault)
			assert.Equal(t, "aborted", doc.Outcome, fault)
			require.NoError(t, h.Bench.SetFault(broken.Name, simbench.NoFault))
			require.Eventually(t, func() bool {
				p, err := h.Local.Preflight(t.Context(), api.StartRun{Bay: "bay1", Procedure: "lantern-lead-wiring",
					Serial: "LL-10"})
				return err == nil && !p.Blocked
			}, 20*time.Second, 50*time.Millisecond, fault)
			assert.Equal(t, "pass", h.Ended(h.Start("bay1", "lantern-lead-wiring", "LL-10")).Outcome, fault)
		}
	})
}

// How a lead is joined is drawn, with its faults by word.
func TestALeadIsDrawnAsItIsWired(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Harness},
			Faulty: map[string]string{"LL-12": string(harness.Swapped), "LL-13": string(harness.Touching)}})
		for serial, words := range map[string][]string{"LL-10": nil, "LL-12": {"miswire"}, "LL-13": {"short"}} {
			run := h.Ended(h.Start("bay1", "lantern-lead-wiring", serial))
			var drawing strings.Builder
			require.NoError(t, h.Local.Wiring(t.Context(), run.ID, 0, &drawing))
			for _, word := range []string{"open", "miswire", "short"} {
				assert.Equal(t, slices.Contains(words, word), strings.Contains(drawing.String(), word), "%s: %s", serial, word)
			}
			for way := range 7 {
				assert.Contains(t, drawing.String(), fmt.Sprintf("A%d", way+1), serial)
				assert.Contains(t, drawing.String(), fmt.Sprintf("B%d", way+1), serial)
			}
			require.ErrorContains(t, h.Local.Wiring(t.Context(), run.ID, 2, &drawing), "no such scan")
		}
	})
}

// Whoever bends a lead finds the contact that opens for moments, each time with its instant; what is shorter than asked
// for does not count, and a broken wire is open all the time.
func TestALeadIsWatchedWhileItIsBent(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		faulty := map[string]string{"LL-11": string(harness.LooseCrimp), "LL-12": string(harness.BrokenWire)}
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Harness}, TimeFactor: 1,
			Faulty: faulty})
		for serial, least := range map[string]int{"LL-10": 0, "LL-11": 6, "LL-12": 1} {
			run := h.Ended(h.Start("bay1", "lantern-lead-bend", serial))
			require.Equal(t, "done", run.State, run.Reason)
			f := figuresOf(run)["wiring-interruptions"]
			require.Nil(t, f.Undetermined, serial)
			var seen []record.Opening
			for _, m := range run.Marks {
				if o, is := m.About.(record.Opening); is {
					seen = append(seen, o)
					assert.InDelta(t, m.T, o.At, 1e-9)
				}
			}
			require.Len(t, seen, int(f.Value), serial)
			assert.InDelta(t, least, f.Value, float64(min(least, 1))/2+0.5, "%s: %v", serial, f)
			switch serial {
			case "LL-11":
				for k, o := range seen {
					assert.Equal(t, "A3 to B3", o.From+" to "+o.To)
					assert.InDelta(t, 4e-3, o.Lasted, 1e-5)
					if k > 0 {
						assert.InDelta(t, 3.1, o.At-seen[k-1].At, 2e-3, "each with its instant")
					}
				}
				assert.Contains(t, f.Remarks[0], "of 1 ms or longer, in 20")
				assert.Equal(t, "fail", run.Outcome)
			case "LL-12":
				assert.InDelta(t, 20, seen[0].Lasted, 0.3)
			}
		}
		_, err := h.Local.PushProcedure(t.Context(), "procedure: short\nfor: lantern-lead\nneeds: {crosspoint: {}}\n"+
			"stages: [{watch: {for: 1 s, opens: 10 µs}}]\n", "")
		require.NoError(t, err)
		_, err = h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "short", Serial: "LL-10"})
		assert.ErrorContains(t, err, "sees openings of 100 µs or longer")
	})
}

// Two bays with one crosspoint take turns: each scan is whole, and who watches has it until he is done.
func TestBaysTakeTurnsWithACrosspoint(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, TimeFactor: 1,
			Layouts: []simbench.Layout{simbench.Harness, simbench.Harness}, SharedCrosspoint: true,
			Faulty: map[string]string{"LL-21": string(harness.Swapped)}})
		require.Len(t, h.Bench.Instruments(), 1)
		h.Push("procedure: often\nfor: lantern-lead\nneeds: {crosspoint: {}}\nstages:\n" +
			"  - repeat: {times: 40}\n    stages: [{wiring: {pairs: all}}, {hold: {for: 50 ms}}]\n" +
			"figures: [{figure: wiring-opens, limit: {max: 0}}]\n")
		first, second := h.Start("bay1", "often", "LL-10"), h.Start("bay2", "often", "LL-20")
		for _, run := range []api.Run{h.Ended(first), h.Ended(second)} {
			assert.Equal(t, "done", run.State, run.Reason)
			assert.Equal(t, "pass", run.Outcome)
		}
		crossed := h.Ended(h.Start("bay2", "lantern-lead-wiring", "LL-21"))
		assert.Equal(t, 2.0, figuresOf(crossed)["wiring-miswires"].Value, "each has terminals of its own")
		bent := h.Start("bay1", "lantern-lead-bend", "LL-10")
		time.Sleep(2 * time.Second)
		waits := h.Ended(h.Start("bay2", "lantern-lead-wiring", "LL-20"))
		assert.Equal(t, "pass", waits.Outcome, waits.Reason)
		assert.Greater(t, waits.Duration, 10.0, "it waits until the other lead was bent enough")
		run := h.Ended(bent)
		assert.Equal(t, "pass", run.Outcome, run.Reason)
	})
}
