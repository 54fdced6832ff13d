package instrument_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/scpi"
	"usherbench/simbench"
)

func bench(t *testing.T) (b *simbench.Bench, supply, load *instrument.Channel) {
	b, err := simbench.Start(simbench.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	library, err := dialect.Load("")
	require.NoError(t, err)
	for _, i := range b.Instruments() {
		opened, err := instrument.Open(i.Name, i.Address, library["sim-"+i.Kind])
		require.NoError(t, err)
		t.Cleanup(func() { opened.Close() })
		if i.Kind == "supply" {
			supply = opened.Channel(1, "source")
		} else {
			load = opened.Channel(1, "load")
		}
	}
	return b, supply, load
}

func TestAUnitIsDrivenThroughItsInstruments(t *testing.T) {
	ctx := context.Background()
	b, supply, load := bench(t)
	identity, err := supply.Identify(ctx)
	require.NoError(t, err)
	assert.Contains(t, identity, "SIM-S2")

	require.NoError(t, supply.Set(ctx, "volts", 48))
	require.NoError(t, supply.Set(ctx, "amps", 4))
	require.NoError(t, supply.SetWord(ctx, "output", "on"))
	require.NoError(t, load.SetWord(ctx, "mode", "current"))
	require.NoError(t, load.Set(ctx, "amps", 2))
	require.NoError(t, load.SetWord(ctx, "output", "on"))
	on, err := supply.OutputOn(ctx)
	require.NoError(t, err)
	assert.True(t, on)

	values := make([]float64, 3)
	require.Eventually(t, func() bool { return load.Read(ctx, values[:2]) == nil && values[0] > 14.8 }, 2e9, 5e6)
	require.NoError(t, load.Read(ctx, values[:2]))
	assert.InDelta(t, 15, values[0], 0.05)
	assert.InDelta(t, 2, values[1], 0.01)
	require.NoError(t, supply.Read(ctx, values))
	assert.InDelta(t, 48, values[0], 0.1)
	assert.Zero(t, values[2], "not in its limit")
	require.NoError(t, supply.Instrument.Channel(2, "source").Read(ctx, values))
	assert.InDelta(t, 0, values[0], 0.02, "the second channel is off")

	state, err := b.State("bay1")
	require.NoError(t, err)
	assert.True(t, state.SourceOn && state.LoadOn)
	require.NoError(t, load.SetWord(ctx, "output", "off"))
	on, err = load.OutputOn(ctx)
	require.NoError(t, err)
	assert.False(t, on)
}

func TestWhatAnInstrumentRefusesIsAnErrorWithItsWords(t *testing.T) {
	ctx := context.Background()
	_, supply, load := bench(t)
	err := supply.Set(ctx, "volts", 500)
	var refused *scpi.InstrumentError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Queue[0], "-222")
	assert.ErrorContains(t, supply.Instrument.Channel(3, "source").Set(ctx, "volts", 5), "-222",
		"there is no third channel")
	assert.ErrorContains(t, supply.Set(ctx, "ohms", 5), "has no message for it")
	assert.ErrorContains(t, load.SetWord(ctx, "mode", "dreaming"), "no message for mode dreaming")

	queue, err := supply.Errors(ctx)
	require.NoError(t, err)
	assert.Empty(t, queue, "every error was fetched with its command")

	stranger, err := instrument.Open("x", supply.Address.String(), load.Dialect)
	require.NoError(t, err)
	defer stranger.Close()
	_, err = stranger.Identify(ctx)
	assert.ErrorAs(t, err, new(*instrument.WrongIdentity))
	assert.ErrorContains(t, err, "choose another dialect")
}

func TestAConnectionIsRestoredAfterALoss(t *testing.T) {
	ctx := context.Background()
	b, supply, _ := bench(t)
	values := make([]float64, 3)
	require.NoError(t, supply.Read(ctx, values))
	require.NoError(t, b.SetFault("supply1", simbench.Drop))
	require.Error(t, supply.Read(ctx, values))
	require.NoError(t, b.SetFault("supply1", simbench.NoFault))
	require.Eventually(t, func() bool { return supply.Read(ctx, values) == nil }, 3e9, 20e6)
	assert.EqualValues(t, 2, supply.Trace().Statistics().Connects)
}

func TestALateAnswerIsNeverTakenForTheNext(t *testing.T) {
	ctx := context.Background()
	b, supply, _ := bench(t)
	values := make([]float64, 3)
	require.NoError(t, supply.Set(ctx, "volts", 12))
	require.NoError(t, b.SetFault("supply1", simbench.Hang))
	require.Error(t, supply.Read(ctx, values), "a hang ends with the deadline")
	require.NoError(t, b.SetFault("supply1", simbench.NoFault))
	require.Eventually(t, func() bool {
		identity, err := supply.Identify(ctx)
		return err == nil && assert.Contains(t, identity, "SIM-S2")
	}, 3e9, 20e6)
}

// Bays that share an instrument share its watchdog: it goes on until the last of them needs it no longer.
func TestAWatchdogIsDisarmedByItsLastUser(t *testing.T) {
	_, supply, _ := bench(t)
	ctx := t.Context()
	other := supply.Instrument.Channel(2, "source")
	said := func() (words []string) {
		for _, x := range supply.Trace().Last(0) {
			if message, _, _ := strings.Cut(x.Message, ";"); strings.HasPrefix(message, "SYST:WATC ") {
				words = append(words, message)
			}
		}
		return words
	}
	require.NoError(t, supply.ArmWatchdog(ctx))
	require.NoError(t, other.ArmWatchdog(ctx))
	require.NoError(t, supply.DisarmWatchdog(ctx))
	assert.Equal(t, []string{"SYST:WATC 5.0000", "SYST:WATC 5.0000"}, said(), "the other bay needs it")
	require.NoError(t, other.DisarmWatchdog(ctx))
	assert.Equal(t, []string{"SYST:WATC 5.0000", "SYST:WATC 5.0000", "SYST:WATC 0"}, said())
}
