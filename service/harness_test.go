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
