package panel_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/panel"
)

func made(t *testing.T, fault plant.Fault) panel.Panel {
	p, err := panel.Fulmar("", fault)
	require.NoError(t, err)
	return p
}

func TestAPanelIsWhatItIsRated(t *testing.T) {
	p := made(t, plant.Healthy)
	assert.InDelta(t, 22, p.Volts(0, panel.Usual), 1e-6)
	assert.InDelta(t, 1.9, p.Amps(0, panel.Usual), 0.005)
	watts, volts, amps := p.Top(panel.Usual)
	assert.InDelta(t, watts, volts*amps, 1e-9)
	for _, v := range []float64{volts - 0.01, volts + 0.01} {
		assert.Less(t, v*p.Amps(v, panel.Usual), watts)
	}
	fill := watts / (22 * p.Amps(0, panel.Usual))
	assert.InDelta(t, 0.74, fill, 0.03)
	// Half the light makes half the amps, warmth takes volts.
	assert.InDelta(t, 0.95, p.Amps(0, panel.Sun{Irradiance: 500, Celsius: 25}), 0.003)
	assert.InDelta(t, 22*(1-0.0031*20), p.Volts(0, panel.Sun{Irradiance: 1000, Celsius: 45}), 0.02)
}

func TestACrackedCellLeavesAStep(t *testing.T) {
	sound, cracked := made(t, plant.Healthy), made(t, panel.CrackedCell)
	assert.InDelta(t, sound.Volts(0, panel.Usual), cracked.Volts(0, panel.Usual), 0.3)
	assert.InDelta(t, sound.Amps(0, panel.Usual), cracked.Amps(0, panel.Usual), 0.02, "the bypass carries the rest")
	assert.Less(t, cracked.Amps(17, panel.Usual), 0.65*sound.Amps(17, panel.Usual))
}

func TestALoadSettlesWhereThePanelGivesWhatItTakes(t *testing.T) {
	u := panel.New(made(t, plant.Healthy))
	at := func(mode plant.Mode, level float64) plant.Operating {
		return u.At(0, plant.Joined{Output: plant.Load{On: true, Mode: mode, Level: level}})
	}
	for mode, level := range map[plant.Mode]float64{plant.ConstantCurrent: 1.5, plant.ConstantVoltage: 15,
		plant.ConstantPower: 20, plant.ConstantResistance: 12} {
		o := at(mode, level)
		assert.InDelta(t, o.Output.Amps, u.Panel.Amps(o.Output.Volts, panel.Usual), 1e-6, mode)
		assert.InDelta(t, level, map[plant.Mode]float64{plant.ConstantCurrent: o.Output.Amps,
			plant.ConstantVoltage: o.Output.Volts, plant.ConstantPower: o.Output.Watts(),
			plant.ConstantResistance: o.Output.Volts / o.Output.Amps}[mode], 1e-5, mode)
	}
	assert.InDelta(t, 1.9, at(plant.ConstantCurrent, 3).Output.Amps, 0.01, "more than it has")
	assert.Less(t, at(plant.ConstantCurrent, 3).Output.Volts, 0.05)
	assert.Zero(t, at(plant.ConstantVoltage, 30).Output.Amps)
}
