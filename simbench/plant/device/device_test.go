package device_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/device"
)

func made(t *testing.T, fault plant.Fault) device.Switch {
	s, err := device.Skua("", fault)
	require.NoError(t, err)
	return s
}

func fed(volts, limit float64) plant.Joined {
	return plant.Joined{Line: plant.Source{On: true, Volts: volts, Amps: limit}}
}

func TestASwitchBlocksUntilItBreaksDown(t *testing.T) {
	s := made(t, plant.Healthy)
	breaks := s.At(1e-6, 25)
	assert.InDelta(t, 1848, breaks, 3)
	assert.InDelta(t, 1e-6, s.Amps(breaks, 25), 1e-12)
	assert.Less(t, s.Amps(1700, 25), 60e-9)
	assert.Greater(t, s.At(20e-6, 85), s.At(20e-6, 25), "an avalanche comes later when it is warm")
	assert.InDelta(t, 2, s.Amps(1000, 35)/s.Amps(1000, 25), 0.05, "leakage doubles")
	assert.Less(t, made(t, device.EarlyAvalanche).At(1e-6, 25), 1500.0)
	assert.InDelta(t, 1000/2e12, made(t, device.EmptyFixture).Amps(1000, 25), 1e-15)
	assert.Negative(t, s.Amps(-1, 25))
}

func TestItsLimitHoldsTheVolts(t *testing.T) {
	u := device.New(made(t, plant.Healthy))
	o := u.At(0, fed(1500, 1e-3))
	assert.Equal(t, 1500.0, o.Line.Volts)
	assert.False(t, o.Line.Limited)
	o = u.At(1, fed(2500, 1e-3))
	assert.True(t, o.Line.Limited)
	assert.InDelta(t, 1e-3, o.Line.Amps, 1e-12)
	assert.InDelta(t, u.Switch.At(1e-3, plant.Ambient), o.Line.Volts, 1e-6)
	assert.InDelta(t, -1e-3, u.At(2, fed(-100, 1e-3)).Line.Amps, 1e-12)
}

func TestItsChargeStaysForAWhile(t *testing.T) {
	u := device.New(made(t, plant.Healthy))
	u.At(0, fed(1500, 1e-3))
	assert.InDelta(t, 1500*math.Exp(-1), u.At(u.Switch.Holds, plant.Joined{}).Line.Volts, 1e-6)
	assert.Less(t, u.At(10, plant.Joined{}).Line.Volts, 1.0)
}
