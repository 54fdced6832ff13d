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
	"usherbench/core/outcome"
	"usherbench/core/record"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// What somebody at the bench may do that ends in an output that is off: the button, and a protection that trips.
var byItself = map[string][]string{
	"reads back as off":                  {"INPut OFF"},
	"a protection of load (channel 1 of": {"POWer:PROTection 5"},
}

const expecting = `procedure: expecting
for: tern
needs: {source: {}, load: {}}
may trip: [load]
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - hold: {for: 1000 s}
`

// An output that goes off without a command ends the run within two seconds, unless the procedure expects it.
func TestAnOutputThatGoesOffByItselfIsNoticed(t *testing.T) {
	for words, messages := range byItself {
		for _, procedure := range []string{"faults", "expecting"} {
			t.Run(procedure+" "+words, func(t *testing.T) {
				servicetest.Simulated(t, func(t *testing.T) {
					h := servicetest.Start(t, servicetest.Options{})
					h.Push(fmt.Sprintf(converterFaults, "", ""))
					h.Push(expecting)
					run := h.Start("bay1", procedure, "TN-1")
					require.Eventually(t, func() bool { return !dark(t, h, "bay1") }, 20*time.Second, 20*time.Millisecond)
					time.Sleep(3 * time.Second)
					doc, err := h.Local.Run(t.Context(), run.ID)
					require.NoError(t, err)
					require.Equal(t, "live", doc.State)
					config, err := h.Local.BenchConfig(t.Context())
					require.NoError(t, err)
					button := h.Dial(config.Bays["bay1"].Seats["load"].Instrument)
					for _, message := range messages {
						_, err := fmt.Fprintf(button, "%s\n", message)
						require.NoError(t, err)
					}
					time.Sleep(2 * time.Second)
					if procedure == "expecting" {
						doc, err = h.Local.Run(t.Context(), run.ID)
						require.NoError(t, err)
						assert.Equal(t, "live", doc.State)
						_, err = h.Local.Stop(t.Context(), "bay1", "")
						require.NoError(t, err)
					} else {
						assert.True(t, dark(t, h, "bay1"))
						doc = h.Ended(run)
						assert.Contains(t, doc.Reason, words)
					}
					doc = h.Ended(run)
					trips := labels(doc, record.MarkTrip)
					require.Len(t, trips, 1)
					assert.Contains(t, trips[0], words)
				})
			})
		}
	}
}

// What the run itself switches is no trip: an output that goes on and off by the procedure.
func TestWhatTheRunSwitchesIsNoTrip(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(`procedure: on-and-off
for: tern
needs: {source: {}, load: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A}}
  - repeat: {times: 20}
    stages:
      - set: {load: {output: on}}
      - hold: {for: 1.4 s}
      - set: {load: {output: off}}
      - hold: {for: 1.3 s}
`)
		doc := h.Ended(h.Start("bay1", "on-and-off", "TN-1"))
		assert.Equal(t, "done", doc.State, doc.Reason)
		assert.Empty(t, labels(doc, record.MarkTrip))
	})
}

// By hand too: the bay is made safe.
func TestByHandATripMakesSafe(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		for _, s := range [][2]string{{"volts", "48 V"}, {"amps", "2 A"}, {"output", "on"}} {
			_, err := h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: s[0], Value: s[1]})
			require.NoError(t, err)
		}
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		button := h.Dial(config.Bays["bay1"].Seats["source"].Instrument)
		time.Sleep(2 * time.Second)
		_, err = fmt.Fprint(button, "OUTPut OFF,(@1)\n")
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			bay, err := h.Local.Bay(t.Context(), "bay1")
			require.NoError(t, err)
			return bay.Held != nil && strings.Contains(bay.Held.Why, "reads back as off")
		}, 5*time.Second, 50*time.Millisecond)
	})
}

// Readings that stay away for a second leave a mark, and what is judged beside it says so.
func TestAGapLeavesAMarkAndIsSaidBesideAPass(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
		h.Push(`procedure: beside
for: tern
needs: {source: {}, load: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - name: before
    hold: {for: 5 s}
  - name: during
    acquire: {quantities: [load.volts], times: 4, every: 5 s, average: 1 s}
  - name: now
    acquire: {quantities: [load.volts], average: 2 s}
figures:
  - {figure: reading, row: now, quantity: load.volts, limit: {min: 10 V}}
  - {figure: reading, row: during, quantity: load.volts, limit: {min: 10 V}}
`)
		run := h.Start("bay1", "beside", "TN-1")
		require.Eventually(t, func() bool {
			doc, err := h.Local.Run(t.Context(), run.ID)
			require.NoError(t, err)
			return slices.Contains(labels(doc, record.MarkStage), "during")
		}, 20*time.Second, 20*time.Millisecond)
		for _, away := range []time.Duration{600 * time.Millisecond, 2 * time.Second} {
			breakOne(t, h, "load", simbench.NotANumber)
			time.Sleep(away)
			breakOne(t, h, "load", simbench.NoFault)
			time.Sleep(2 * time.Second)
		}
		doc := h.Ended(run)
		require.Equal(t, "done", doc.State, doc.Reason)
		gaps := labels(doc, record.MarkGap)
		require.Len(t, gaps, 1)
		require.Len(t, doc.Figures, 2)
		assert.Empty(t, doc.Figures[0].Remarks)
		assert.Contains(t, doc.Figures[1].Remarks, "beside a gap: "+gaps[0])
		assert.Equal(t, outcome.Pass, doc.Figures[1].Outcome)
		assert.Regexp(t, `^no readings of load.volts, load.amps for 2\.?\d* s, from`, gaps[0])
	})
}

func labels(doc api.Run, kind record.MarkKind) (all []string) {
	for _, m := range doc.Marks {
		if m.Kind == kind {
			all = append(all, m.Label)
		}
	}
	return all
}
