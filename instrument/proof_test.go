package instrument_test

import (
	"bufio"
	"context"
	"math"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/transport/memory"
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

// What no instrument can read is no reading, whatever the form of the answer; what it says it cannot measure neither.
func TestNothingAbsurdIsRead(t *testing.T) {
	library, err := dialect.Load("")
	require.NoError(t, err)
	d, err := library.Read(dialect.Source{File: "mine.yaml", Text: `dialect: mine
seats: [meter]
measures: dc
read: {message: "READ?", gives: [volts, skip, amps, watts], overload: {amps: OVLD}}
ranges: {read: {volts: [{to: 60 V, reading: 0.1 %}]}}
`})
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		listener, err := memory.Listen(t.Name())
		require.NoError(t, err)
		defer listener.Close()
		answers := make(chan string, 1)
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			defer conn.Close()
			for lines := bufio.NewScanner(conn); lines.Scan(); {
				_, _ = conn.Write([]byte(<-answers + "\n")) // who asked is there
			}
		}()
		i, err := instrument.Open("meter", "memory://"+t.Name(), d)
		require.NoError(t, err)
		defer i.Close()
		read := func(answer string) []float64 {
			values := make([]float64, 3)
			answers <- answer
			require.NoError(t, i.Channel(1, "meter").Read(t.Context(), values))
			return values
		}
		assert.Equal(t, []float64{59, 2, 118}, read("59,1e30,2,118"))
		assert.Equal(t, []float64{65, 2, 118}, read("65,0,2,118"), "a little beyond the range it is a reading")
		assert.Equal(t, []float64{math.Inf(1), math.Inf(1), math.Inf(-1)}, read("4294967.295,0,OVLD,-1e13"))
		assert.True(t, math.IsNaN(read("9.91E37,0,2,118")[0]))
	})
}
