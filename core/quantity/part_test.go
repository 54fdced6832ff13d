package quantity

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAPartIsItsQuantityInUnitAndColour(t *testing.T) {
	k, ok := KindOf("amps.2.h5")
	require.True(t, ok)
	whole, _ := KindOf("amps")
	assert.Equal(t, "Amps, phase 2, harmonic 5", k.Title)
	assert.Equal(t, whole.Unit, k.Unit)
	assert.Equal(t, whole.Colour, k.Colour)
	assert.False(t, k.Set, "a part is not set")
	assert.False(t, k.Drawn, "forty harmonics are drawn when somebody asks for them")
	phase, _ := KindOf("amps.2")
	assert.True(t, phase.Drawn)
	assert.Equal(t, "amps", WholeOf("amps.2.h5"))
	k, ok = KindOfColumn("meter.volts.ac")
	require.True(t, ok)
	assert.Equal(t, "Volts, AC", k.Title)
}

func TestWhatIsNoPart(t *testing.T) {
	for _, name := range []string{"volts.", "volts.0", "volts.4", "volts.h0", "volts.h51", "volts.h05", "volts.ac.h3",
		"volts.h3.1",
		"volts.2.1", "volts.ac.dc", "volts.x", "va.h3", "va.ac", "celsius.1", "hertz.ac", "volt.1", ".1", "volts.1.",
		"volts.+1"} {
		_, ok := KindOf(name)
		assert.False(t, ok, name)
	}
}

// Whatever part a quantity has: its name is read as what it was written from.
func TestTheNameOfAPartIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		whole := rapid.SampledFrom(Kinds()).Draw(t, "whole")
		var part Part
		if whole.Parts.Phases != NoPhases {
			part.Phase = rapid.IntRange(0, MostPhases).Draw(t, "phase")
		}
		switch rapid.IntRange(0, 2).Draw(t, "which") {
		case 1:
			if whole.Parts.Sides {
				part.Side = rapid.SampledFrom([]Side{AC, DC}).Draw(t, "side")
			}
		case 2:
			if whole.Parts.Harmonics {
				part.Order = rapid.IntRange(1, MostOrder).Draw(t, "order")
			}
		}
		got, read, ok := Split(whole.Name + part.String())
		require.True(t, ok)
		assert.Equal(t, whole, got)
		assert.Equal(t, part, read)
	})
}

func TestAWholeOfPhases(t *testing.T) {
	for _, c := range []struct {
		name string
		want float64
		ok   bool
	}{{"volts", 231, true}, {"amps", 231, true}, {"watts", 693, true}, {"va", 693, true}, {"factor", 0, false},
		{"celsius", 0, false}} {
		k, _ := KindOf(c.name)
		got, ok := k.Parts.Phases.Whole([]float64{230, 231, 232})
		assert.Equal(t, c.ok, ok, c.name)
		if ok {
			assert.InDelta(t, c.want, got, 1e-12, c.name)
		}
	}
	_, ok := Averaged.Whole(nil)
	assert.False(t, ok)
}

func TestARowOfReadings(t *testing.T) {
	row, err := Expand("amps.1.h1 to h3")
	require.NoError(t, err)
	assert.Equal(t, []string{"amps.1.h1", "amps.1.h2", "amps.1.h3"}, row)
	row, err = Expand("volts.1 to 3")
	require.NoError(t, err)
	assert.Equal(t, []string{"volts.1", "volts.2", "volts.3"}, row)
	row, err = Expand("volts")
	require.NoError(t, err)
	assert.Equal(t, []string{"volts"}, row)
	for _, wrong := range []string{"amps.h3 to h1", "amps.h1 to 40", "amps.h1 to h999999999", "volts.1 to h3",
		"volts to amps",
		" to 3"} {
		_, err := Expand(wrong)
		assert.Error(t, err, wrong)
	}
}
