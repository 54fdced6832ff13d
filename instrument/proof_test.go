package instrument_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/simbench"
)

// proved plays with the load of a bench in simulated time.
func proved(t *testing.T, play func(t *testing.T, b *simbench.Bench, load *instrument.Channel)) {
	library, err := dialect.Load("")
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		b, err := simbench.Start(simbench.Options{Memory: t.Name()})
		require.NoError(t, err)
		defer b.Close()
		for _, i := range b.Instruments() {
			if i.Name == "load1" {
				opened, err := instrument.Open(i.Name, i.Address, library["sim-load"])
				require.NoError(t, err)
				defer opened.Close()
				play(t, b, opened.Channel(1, "load"))
			}
		}
	})
}

// An instrument that answers the question before gives readings that look like readings.
func TestAnInstrumentOutOfStepIsNoticed(t *testing.T) {
	proved(t, func(t *testing.T, b *simbench.Bench, load *instrument.Channel) {
		values := make([]float64, 2)
		require.NoError(t, load.Read(t.Context(), values))
		require.NoError(t, b.SetFault("load1", simbench.Behind))
		began := time.Now()
		for load.Read(t.Context(), values) == nil {
			time.Sleep(20 * time.Millisecond)
		}
		assert.LessOrEqual(t, time.Since(began), 2100*time.Millisecond)
		for range 50 {
			time.Sleep(300 * time.Millisecond) // after each pause it is tried again
			assert.Error(t, load.Read(t.Context(), values), "asked twice who it is, it seems to know")
		}
		require.NoError(t, b.SetFault("load1", simbench.NoFault))
		time.Sleep(300 * time.Millisecond)
		assert.NoError(t, load.Read(t.Context(), values))
	})
}

// Whoever answers after a loss must first say who it is; what makes safe does not wait for that.
func TestAfterALossTheInstrumentMustSayWhoItIs(t *testing.T) {
	proved(t, func(t *testing.T, b *simbench.Bench, load *instrument.Channel) {
		values := make([]float64, 2)
		require.NoError(t, load.Read(t.Context(), values))
		require.NoError(t, b.SetFault("load1", simbench.Drop))
		require.Error(t, load.Read(t.Context(), values))
		require.NoError(t, b.SetFault("load1", simbench.WrongIdentity))
		time.Sleep(time.Second)
		assert.ErrorAs(t, load.SetWord(t.Context(), "output", "on"), new(*instrument.WrongIdentity))
		state, err := b.State("bay1")
		require.NoError(t, err)
		assert.False(t, state.LoadOn)
		assert.NoError(t, load.SwitchOff(messages.Urgent(context.Background())))
	})
}
