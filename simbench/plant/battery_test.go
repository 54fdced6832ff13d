package plant

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestABatteryKeepsItsCharge(t *testing.T) {
	b, err := Gannet("GP-1", Healthy)
	require.NoError(t, err)
	s := BatteryState{Charge: 0.5 * b.Capacity}
	rest := b.At(&s, 0, Source{}, Load{})
	assert.InDelta(t, b.OpenCircuit(0.5), rest.OutputVolts, 1e-9)
	discharge := Load{On: true, Mode: ConstantCurrent, Level: 4.8}
	b.At(&s, 0, Source{}, discharge)
	o := b.At(&s, 600, Source{}, discharge)
	assert.InDelta(t, 0.5*b.Capacity-4.8*600, s.Charge, 1e-6, "charge is current times time")
	assert.Less(t, o.OutputVolts, rest.OutputVolts-4.8*b.Ohmic, "it sags by its resistances")
	assert.Greater(t, o.Celsius, float64(Ambient), "and grows warm")
	sagged := b.At(&s, 600, Source{}, Load{}).OutputVolts
	assert.Greater(t, b.At(&s, 7200, Source{}, Load{}).OutputVolts, sagged, "it recovers at rest")
}

func TestABatteryIsChargedAtConstantCurrentThenVoltage(t *testing.T) {
	b, err := Gannet("GP-1", Healthy)
	require.NoError(t, err)
	s := BatteryState{Charge: 0.9 * b.Capacity}
	charger := Source{On: true, Volts: 29.2, Amps: 4.8}
	first := b.At(&s, 0, charger, Load{})
	assert.InDelta(t, 4.8, first.LineAmps, 1e-9)
	assert.True(t, first.SourceLimited)
	var last Operating
	for at := 0.0; at < 7200; at += 10 {
		last = b.At(&s, at, charger, Load{})
	}
	assert.InDelta(t, 29.2, last.LineVolts, 1e-6, "the voltage is held")
	assert.Less(t, last.LineAmps, 0.5, "while the current tapers")
}

func TestFaultsOfABattery(t *testing.T) {
	b, err := Gannet("GP-1", ReversedLeads)
	require.NoError(t, err)
	s := BatteryState{Charge: 0.5 * b.Capacity}
	assert.Negative(t, b.At(&s, 0, Source{}, Load{}).OutputVolts)
	b, err = Gannet("GP-1", DeadUnit)
	require.NoError(t, err)
	assert.Zero(t, b.At(&s, 1, Source{}, Load{}).OutputVolts)
	_, err = Gannet("GP-1", WeakRegulation)
	assert.ErrorContains(t, err, "is not a fault of a battery")
}
