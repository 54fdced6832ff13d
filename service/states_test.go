package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/service/servicetest"
)

const inStates = `procedure: in-states
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A}}
parameters: {level: {value: 1 A, adjustable: yes, max: 8 A}}
record: {every: 20 ms}
stages:
  - name: runs
    set: {source: {volts: 48 V, amps: 4 A, output: on}, load: {mode: current, amps: level, output: on}}
  - name: hour
    hold: {for: 20 s}
figures:
  - {figure: state-duration, state: transmit}
  - {figure: state-mean-current, state: listen, quantity: load.amps}
  - {figure: state-mean-current, state: transmit, quantity: load.amps}
  - {figure: profile-mean-current, quantity: load.amps, profile: {listen: 9 s, transmit: 1 s}}
`

// A program that drives a device says in which state it is, with a clock of its own that is an hour wrong: its times
// are taken as they were.
func TestAProgramSaysInWhichStateTheUnitIs(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
		h.Push(inStates)
		run := h.Start("bay1", "in-states", "TN-2208")
		do := func(i api.Intervention) error {
			_, err := h.Local.Intervene(t.Context(), "bay1", i)
			return err
		}
		time.Sleep(2 * time.Second)
		require.NoError(t, do(api.Intervention{Do: api.DoLabel, Text: "listen"}))
		time.Sleep(3 * time.Second)
		require.NoError(t, do(api.Intervention{Do: api.DoAdjust, Parameter: "level", Value: "5 A"}))
		wrong := func() *time.Time { x := time.Now().Add(-time.Hour); return &x }
		began := wrong()
		time.Sleep(4 * time.Second)
		require.NoError(t, do(api.Intervention{Do: api.DoAdjust, Parameter: "level", Value: "1 A"}))
		ended := wrong()
		time.Sleep(time.Second)
		require.NoError(t, do(api.Intervention{Do: api.DoLabel, Text: "transmit", At: began, Clock: wrong()}))
		require.NoError(t, do(api.Intervention{Do: api.DoLabel, Text: "listen", At: ended, Clock: wrong()}))
		ahead := time.Now().Add(time.Hour)
		require.ErrorContains(t, do(api.Intervention{Do: api.DoLabel, Text: "sleep", At: &ahead, Clock: wrong()}),
			"ahead of your clock")
		require.ErrorContains(t, do(api.Intervention{Do: api.DoLabel, Text: "sleep", At: began}), "what your clock shows")
		require.ErrorContains(t, do(api.Intervention{Do: api.DoLabel, Text: "\x1b[2J"}), "a state is called by")

		doc := h.Ended(run)
		require.Equal(t, "done", doc.State, doc.Reason)
		states := 0
		for _, m := range doc.Marks {
			if _, is := m.About.(record.State); is {
				states++
			}
		}
		assert.Equal(t, 3, states)
		require.Len(t, doc.Figures, 4)
		for _, f := range doc.Figures {
			require.Nil(t, f.Undetermined, f.ID)
		}
		assert.InDelta(t, 4, doc.Figures[0].Value, 0.1)
		assert.InDelta(t, 1, doc.Figures[1].Value, 0.06, "the command takes a moment to be in force")
		assert.InDelta(t, 5, doc.Figures[2].Value, 0.15)
		assert.InDelta(t, 1.4, doc.Figures[3].Value, 0.08)
	})
}
