package portable_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/portable"
)

// The charge in closed form is what flows, summed up finely.
func TestChargeIsWhatFlows(t *testing.T) {
	d, err := portable.Teal("TL-1501", plant.Healthy)
	require.NoError(t, err)
	const step = 1e-3
	q := 0.0
	for k := range 200_000 {
		q += step * d.Amps((float64(k)+0.5)*step)
	}
	assert.InEpsilon(t, q, d.Charge(200), 1e-6)
}

// What a device has taken stays counted when it is switched off and on, and it begins its round anew.
func TestADeviceBeginsItsRoundWhenItIsSwitchedOn(t *testing.T) {
	d, err := portable.Teal("", plant.Healthy)
	require.NoError(t, err)
	u := &portable.Unit{Device: d}
	on := plant.Joined{Line: plant.Source{On: true, Volts: 3.6, Amps: 1}}
	assert.InDelta(t, 2e-6, u.At(100, on).Line.Amps, 1e-12)
	assert.InDelta(t, 105e-3, u.At(140.5, on).Line.Amps, 1e-12)
	assert.Contains(t, u.Stirred(), 140.0)
	taken := u.Drawn(140.5)
	assert.InDelta(t, d.Charge(40.5), taken, 1e-12)
	assert.Zero(t, u.At(140.5, plant.Joined{}).Line.Amps)
	u.At(150, plant.Joined{})
	assert.InDelta(t, taken, u.Drawn(155), 1e-12)
	on.Line.Volts = 2
	assert.Zero(t, u.At(160, on).Line.Amps, "below what it works from")
	on.Line.Volts = 3.6
	assert.InDelta(t, 20e-3, u.At(200, on).Line.Amps+u.At(205.1, on).Line.Amps, 1e-5)
	assert.InDelta(t, taken+d.Charge(5.1), u.Drawn(205.1), 1e-12)
}
