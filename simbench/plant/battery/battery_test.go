package battery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

func TestABatteryKeepsItsCharge(t *testing.T) {
	b, err := Gannet("GP-1", plant.Healthy)
	require.NoError(t, err)
	s := State{Charge: 0.5 * b.Capacity}
	rest := b.At(&s, 0, plant.Source{}, plant.Load{})
	assert.InDelta(t, b.OpenCircuit(0.5), rest.Output.Volts, 1e-9)
	discharge := plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 4.8}
	b.At(&s, 0, plant.Source{}, discharge)
	o := b.At(&s, 600, plant.Source{}, discharge)
	assert.InDelta(t, 0.5*b.Capacity-4.8*600, s.Charge, 0.1,
		"charge is current times time, but for what it loses by itself")
	assert.Less(t, o.Output.Volts, rest.Output.Volts-4.8*b.Ohmic, "it sags by its resistances")
	assert.Greater(t, o.Celsius, float64(plant.Ambient), "and grows warm")
	sagged := b.At(&s, 600, plant.Source{}, plant.Load{}).Output.Volts
	assert.Greater(t, b.At(&s, 7200, plant.Source{}, plant.Load{}).Output.Volts, sagged, "it recovers at rest")
}

func TestABatteryIsChargedAtConstantCurrentThenVoltage(t *testing.T) {
	b, err := Gannet("GP-1", plant.Healthy)
	require.NoError(t, err)
	s := State{Charge: 0.9 * b.Capacity}
	charger := plant.Source{On: true, Volts: 29.2, Amps: 4.8}
	first := b.At(&s, 0, charger, plant.Load{})
	assert.InDelta(t, 4.8, first.Line.Amps, 1e-9)
	assert.True(t, first.Line.Limited)
	var last plant.Operating
	for at := 0.0; at < 7200; at += 10 {
		last = b.At(&s, at, charger, plant.Load{})
	}
	assert.InDelta(t, 29.2, last.Line.Volts, 1e-6, "the voltage is held")
	assert.Less(t, last.Line.Amps, 0.5, "while the current tapers")
}

func TestFaultsOfABattery(t *testing.T) {
	b, err := Gannet("GP-1", ReversedLeads)
	require.NoError(t, err)
	s := State{Charge: 0.5 * b.Capacity}
	assert.Negative(t, b.At(&s, 0, plant.Source{}, plant.Load{}).Output.Volts)
	b, err = Gannet("GP-1", plant.DeadUnit)
	require.NoError(t, err)
	assert.Zero(t, b.At(&s, 1, plant.Source{}, plant.Load{}).Output.Volts)
	_, err = Gannet("GP-1", plant.Fault("weak-regulation"))
	assert.ErrorContains(t, err, "is not a fault of a battery")
}

func TestABatteryKnowsTheTruthOfADischarge(t *testing.T) {
	b, err := Gannet("GP-1", plant.Healthy)
	require.NoError(t, err)
	u := NewUnit(b, 1)
	seconds, charge := b.ToCutoff(u.State, 1.92, 21)
	require.InDelta(t, 5*3600, seconds, 900, "five hours at 0.2 C")
	assert.InDelta(t, 1.92*seconds, charge, 1e-6)
	drain := plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 1.92}
	for at := 0.0; at < seconds-1; at++ {
		require.Greater(t, u.At(at, plant.Joined{Output: drain}).Output.Volts, 21.0)
	}
	assert.Less(t, u.At(seconds+1, plant.Joined{Output: drain}).Output.Volts, 21.0)
}

func TestANickelCellShowsThatItIsFull(t *testing.T) {
	b, err := fromRatings(plant.Asked{Chemistry: "NiMH", Series: 10, Rating: func(name string) (float64, bool) {
		return map[string]float64{"rated_volts": 12, "rated_capacity": 2 * 3600}[name], true
	}})
	require.NoError(t, err)
	u := NewUnit(b, 0.8)
	most, fallen, warmest := 0.0, 0.0, 0.0
	for at := 0.0; at < 3600; at += 10 {
		o := u.At(at, plant.Joined{Line: plant.Source{On: true, Volts: 20, Amps: 1}})
		most = max(most, o.Line.Volts)
		fallen = max(fallen, most-o.Line.Volts)
		warmest = max(warmest, o.Celsius)
	}
	assert.Greater(t, fallen, 10*5e-3, "its voltage falls again when it is full")
	assert.Greater(t, warmest, plant.Ambient+5.0, "since the charge becomes heat")
}

func TestDormantCapacityWakes(t *testing.T) {
	b, err := Gannet("GP-1", SleepyPack)
	require.NoError(t, err)
	var charges []float64
	u := NewUnit(b, 1)
	u.At(0, plant.Joined{})
	for range 4 {
		_, charge := b.ToCutoff(u.State, 4.8, 21)
		charges = append(charges, charge)
		end := u.State.t + charge/4.8
		u.At(end, plant.Joined{Output: plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 4.8}})
		for at := 0.0; at < 4*3600; at += 60 {
			u.At(end+at, plant.Joined{Line: plant.Source{On: true, Volts: 29.2, Amps: 4.8}})
		}
	}
	assert.Greater(t, charges[1], charges[0]*1.02)
	assert.Greater(t, charges[2], charges[1])
	assert.Less(t, charges[3]/charges[2], 1.02, "each time less")
}

// A pack of ratings alone has the resistance that is rated, by a pulse of 10 s.
func TestARatedResistanceIsThatOfThePulse(t *testing.T) {
	ratings := map[string]float64{"rated_volts": 25.2, "rated_capacity": 4 * 3600, "rated_resistance": 0.2}
	b, err := fromRatings(plant.Asked{Rating: func(name string) (float64, bool) { x, ok := ratings[name]; return x, ok }})
	require.NoError(t, err)
	s := State{Charge: 0.5 * b.Capacity}
	rest := b.At(&s, 0, plant.Source{}, plant.Load{}).Output.Volts
	pulse := plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 2}
	b.At(&s, 0, plant.Source{}, pulse)
	sagged := b.At(&s, 10, plant.Source{}, pulse).Output.Volts
	assert.InEpsilon(t, 0.2, (rest-sagged)/2, 0.02)
}
