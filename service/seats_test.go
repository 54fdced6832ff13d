package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// One dialect fills two seats of a bay with one channel where the second only reads: the sensor inside a cycler.
func TestASecondSeatOfOneInstrument(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.BatteryPack}, TimeFactor: 1})
		_, err := h.Local.PushDialect(t.Context(), "dialect: two\nfrom: sim-cycler\nseats: [cycler, thermo]\n")
		require.NoError(t, err)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		bay := config.Bays["bay1"]
		name := bay.Seats["cycler"].Instrument
		i := config.Instruments[name]
		i.Dialect = "two"
		_, err = h.Local.PutInstrument(t.Context(), name, i)
		require.NoError(t, err)
		bay.Seats = map[string]api.SeatConfig{"cycler": bay.Seats["cycler"], "thermo": {Instrument: name, Channel: 1}}
		_, err = h.Local.PutBay(t.Context(), "bay1", bay)
		require.NoError(t, err)
		h.Push(`procedure: warm
for: gannet
needs: {cycler: {}, thermo: {}}
stages:
  - charge: {amps: 1 A, time: 5 s}
figures:
  - {figure: charge-returned}
`)
		doc := h.Ended(h.Start("bay1", "warm", "GP-1"))
		require.Equal(t, "done", doc.State, doc.Reason)
		status, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		time.Sleep(time.Second)
		require.NotNil(t, status.Readings["thermo.celsius"])
		assert.InDelta(t, *status.Readings["cycler.celsius"], *status.Readings["thermo.celsius"], 1)
		for text, words := range map[string]string{
			"dialect: cold\nfrom: sim-supply\nseats: [source, thermo]\n": "as a thermo it reads nothing",
		} {
			_, err = h.Local.PushDialect(t.Context(), text)
			assert.ErrorContains(t, err, words)
		}
	})
}
