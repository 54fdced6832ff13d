package simbench

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

// A source in its current limit has its volts give way, until the adapter gives up; with more current it is back.
func TestASourceHoldsItsLimit(t *testing.T) {
	b, err := Start(Options{Layouts: []Layout{Mains}, Memory: "limit "})
	require.NoError(t, err)
	defer b.Close()
	f := b.fixtures[0]
	line := plant.Source{On: true, Volts: 230, Amps: 8, Hertz: 50}
	f.feeds[0].set(line)
	f.drains[0].set(plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 5})
	whole := f.operating()
	assert.Greater(t, whole.Output.Volts, 23.0)
	assert.False(t, whole.Line.Limited)
	line.Amps = whole.Line.Amps / 2
	f.feeds[0].set(line)
	held := f.operating()
	assert.True(t, held.Line.Limited)
	assert.LessOrEqual(t, held.Line.Amps, line.Amps)
	assert.Less(t, held.Line.Volts, 81.0, "what takes the more the lower its volts are gives up")
	assert.Zero(t, held.Output.Volts)
	f.drains[0].set(plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 1})
	assert.Greater(t, f.operating().Output.Volts, 23.0, "a lesser load is fed again")
}

func TestASourceDrifts(t *testing.T) {
	b, err := Start(Options{Layouts: []Layout{Mains}, Memory: "drift ", TimeFactor: 3600})
	require.NoError(t, err)
	defer b.Close()
	f := b.fixtures[0]
	f.feeds[0].set(plant.Source{On: true, Volts: 230, Amps: 8, Hertz: 50})
	require.NoError(t, b.SetFault("acsource1", Drifting))
	low, high := 230.0, 230.0
	require.Eventually(t, func() bool {
		v := f.operating().Line.Volts
		low, high = min(low, v), max(high, v)
		return low < 227 && high > 233
	}, 10*time.Second, time.Millisecond)
	assert.InDelta(t, 225.4, low, 2)
	assert.InDelta(t, 234.6, high, 2)
}
