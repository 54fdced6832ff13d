package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/service/servicetest"
)

// It sets no mode and no limit of the source: both were left to chance, which is to whoever was here before.
const leavesOpen = `procedure: leaves-open
for: any
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 4 A}}
stages:
  - set: {source: {volts: 48 V, output: on}}
    until: load.volts > 14 V for 50 ms
    within: 2 s
  - set: {load: {amps: 2 A, output: on}}
  - name: loaded
    hold: {for: 500 ms}
  - {name: row, acquire: {average: 100 ms}}
figures:
  - {figure: reading, row: row, quantity: load.amps}
`

// What somebody set by hand at the instruments decides nothing about a run, and preflight tells what it was.
func TestARunBeginsFromAStatedState(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(leavesOpen)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		load := config.Bays["bay1"].Seats["load"].Instrument
		supply := config.Bays["bay1"].Seats["source"].Instrument
		byHand := func() {
			ask(t, h, load, "FUNC RES;:RES 3;:CURR 7")
			ask(t, h, supply, "CURR 0.05,(@1)")
		}
		byHand()
		flight, err := h.Local.Preflight(t.Context(), api.StartRun{Bay: "bay1", Procedure: "leaves-open", Serial: "TN-1"})
		require.NoError(t, err)
		require.False(t, flight.Blocked, "%+v", flight.Findings)
		said := settingsOf(flight.Findings)
		assert.Contains(t, said, "load begins with mode current, volts 15 V, amps 0 A, watts 0 W, ohms 10 kΩ, in place of "+
			"mode resistance")
		assert.Contains(t, said, "amps 7 A")
		assert.Contains(t, said, "source begins with volts 0 V, amps 5 A, in place of amps 50 mA, which is in force now")

		byHand()
		doc := h.Ended(h.Start("bay1", "leaves-open", "TN-1"))
		require.Equal(t, "done", doc.State, doc.Reason)
		require.Nil(t, doc.Figures[0].Undetermined, "%+v", doc.Figures[0].Undetermined)
		assert.InDelta(t, 2, doc.Figures[0].Value, 0.01)
		assert.Contains(t, settingsOf(doc.Preflight), "load begins with mode current", "the record says what it began with")
	})
}

func settingsOf(findings []api.PreflightFinding) string {
	var words []string
	for _, f := range findings {
		if f.Check == "settings" {
			words = append(words, f.What)
		}
	}
	return strings.Join(words, "\n")
}
