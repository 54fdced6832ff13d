package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// A test begins when the unit shows itself, and once for each unit.
func TestATestBeginsByContact(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1, Layouts: []simbench.Layout{simbench.BatteryPack}})
		h.Push("procedure: look\nfor: gannet\nneeds: {cycler: {}}\nstages: [{hold: {for: 2 s}}]\n")
		_, err := h.Local.SetUpPlace(t.Context(), "bay1", api.PlaceSetup{Procedures: []string{"look"},
			Begins: api.BeginsByContact, When: "cycler.watts > 3 V"})
		assert.ErrorContains(t, err, "when")
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"look"}, Begins: api.BeginsByContact,
			When: "cycler.volts > 30 V"})
		_, err = h.Local.Scan(t.Context(), "bay1", "GP-306")
		require.NoError(t, err)
		time.Sleep(5 * time.Second)
		p, err := h.Local.Place(t.Context(), "bay1")
		require.NoError(t, err)
		require.NotNil(t, p.Unit, "25.9 V are no contact by this condition")
		assert.Empty(t, p.Unit.Run)
		_, err = h.Local.TakeBack(t.Context(), "bay1")
		require.NoError(t, err)
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"look"}, Begins: api.BeginsByContact,
			When: "cycler.volts < 30 V for 0.5 s"})
		time.Sleep(5 * time.Second)
		_, err = h.Local.Scan(t.Context(), "bay1", "GP-306")
		require.NoError(t, err)
		time.Sleep(20 * time.Second)
		runs, err := h.Local.Runs(t.Context(), api.RunFilter{Serial: "GP-306"})
		require.NoError(t, err)
		assert.Empty(t, runs, "the unit was there before, and must be gone first")
		for _, i := range h.Bench.Instruments() {
			require.NoError(t, h.Bench.SetFault(i.Name, simbench.NotANumber))
			time.Sleep(20 * time.Second)
			require.NoError(t, h.Bench.SetFault(i.Name, simbench.NoFault))
		}
		time.Sleep(time.Minute)
		runs, err = h.Local.Runs(t.Context(), api.RunFilter{Serial: "GP-306"})
		require.NoError(t, err)
		assert.Empty(t, runs, "a reading that was missing is no unit that was gone")
	})
}

// What shows a unit here is a voltage that somebody switches on by hand.
func TestAVoltageThatAppearsBeginsATest(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
		h.Push("procedure: look\nfor: tern\nneeds: {load: {}}\nstages: [{hold: {for: 2 s}}]\n")
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"look"}, Make: true, Begins: api.BeginsByContact,
			When: "source.volts > 10 V for 300 ms"})
		appears := func() {
			for _, set := range []api.ManualSet{{Seat: "source", Quantity: "volts", Value: "12 V"},
				{Seat: "source", Quantity: "output", Value: "on"}} {
				_, err := h.Local.Set(t.Context(), "bay1", set)
				require.NoError(t, err)
			}
			time.Sleep(10 * time.Second)
		}
		time.Sleep(3 * time.Second)
		for n := 1; n <= 2; n++ {
			appears()
			runs, err := h.Local.Runs(t.Context(), api.RunFilter{})
			require.NoError(t, err)
			require.Len(t, runs, n)
			assert.Equal(t, fmt.Sprintf("TN-%d", n), runs[0].Serial, "it is made by the nameplate")
			assert.Equal(t, "contact", runs[0].Operator)
		}
	})
}

// After a stop a contact begins nothing; a scan is the word of a person, for its bay and not for the house.
func TestAContactLiftsNoLatch(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
		h.Push("procedure: look\nfor: tern\nneeds: {load: {}}\nstages: [{hold: {for: 2 s}}]\n")
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"look"}, Make: true, Begins: api.BeginsByContact,
			When: "source.volts > 10 V for 300 ms"})
		require.Error(t, func() error { _, err := h.Local.Stop(t.Context(), "bay1", "look"); return err }())
		_, err := h.Local.StopAll(t.Context(), "look")
		require.NoError(t, err)
		time.Sleep(3 * time.Second)
		placed, err := h.Local.Scan(t.Context(), "bay1", "TN-7")
		require.NoError(t, err)
		assert.Empty(t, placed.Unit.Run, "it begins by contact")
		placed, err = h.Local.BeginPlace(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Contains(t, placed.Unit.Problem, "go on for the whole house", "a key lifts no latch of the house")
		assert.NotEmpty(t, placed.Held)
		_, err = h.Local.GoOn(t.Context())
		require.NoError(t, err)
		placed, err = h.Local.BeginPlace(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Empty(t, placed.Unit.Problem)
		assert.NotEmpty(t, placed.Unit.Run)
		operated(t, h, "bay1")

		_, err = h.Local.Scan(t.Context(), "bay1", "TN-8")
		require.NoError(t, err)
		run, err := h.Local.BeginPlace(t.Context(), "bay1")
		require.NoError(t, err)
		require.NotEmpty(t, run.Unit.Run)
		_, err = h.Local.Stop(t.Context(), "bay1", "enough")
		require.NoError(t, err)
		stopped := operated(t, h, "bay1")
		assert.Equal(t, api.VerdictAttention, stopped.Last.Verdict)
		assert.NotEmpty(t, stopped.Held, "its bay is held")
		for _, set := range []api.ManualSet{{Seat: "source", Quantity: "volts", Value: "12 V"},
			{Seat: "source", Quantity: "output", Value: "on"}} {
			_, err := h.Local.Set(t.Context(), "bay1", set)
			require.NoError(t, err)
		}
		time.Sleep(5 * time.Second)
		runs, err := h.Local.Runs(t.Context(), api.RunFilter{})
		require.NoError(t, err)
		assert.Len(t, runs, 2, "the voltage appeared, and began nothing")
	})
}
