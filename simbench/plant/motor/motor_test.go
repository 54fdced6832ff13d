package motor_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/motor"
)

func made(t *testing.T, fault plant.Fault) motor.Motor {
	m, err := motor.Cormorant("", fault)
	require.NoError(t, err)
	return m
}

func TestAMotorIsWhatItIsRatedFor(t *testing.T) {
	m := made(t, plant.Healthy)
	l := m.At(400/math.Sqrt(3), 50, 14.7, 90)
	assert.InDelta(t, 2250, l.Output, 80)
	assert.InDelta(t, 24.4, l.Speed, 0.3)
	assert.InDelta(t, 5, l.Amps, 1)
	sum := l.Winding + l.Iron + l.Slip + l.Friction + l.Additional
	assert.InDelta(t, l.Input, l.Output+sum, 1e-6, "nothing is lost of the books")
	assert.InDelta(t, 0.85, l.Output/l.Input, 0.05)

	idle := m.At(400/math.Sqrt(3), 50, 0, 25)
	assert.InDelta(t, 25, idle.Speed, 0.05)
	assert.InDelta(t, 60, idle.Friction, 1)
	locked := m.At(400/math.Sqrt(3), 50, 500, 25)
	assert.Zero(t, locked.Speed)
	assert.Greater(t, locked.Amps, 5*l.Amps)
	assert.Zero(t, m.At(0, 50, 1, 25))
}

func TestItWarmsAndCoolsAsTwoBodies(t *testing.T) {
	u := motor.New(made(t, plant.Healthy))
	on := plant.Joined{Line: plant.Source{On: true, Volts: 231, Hertz: 50, Amps: 100},
		Shaft: plant.Brake{On: true, Torque: 14.7}}
	cold := u.At(0, plant.Joined{}).Winding
	assert.InDelta(t, 2*(235+23)/260.0, cold, 1e-9)
	for s := 10.0; s < 5*3600; s += 10 {
		u.At(s, on)
	}
	hot := u.Winding
	assert.InDelta(t, 90, hot, 25)
	assert.Less(t, u.Frame, hot)
	o := u.At(5*3600, plant.Joined{})
	assert.Greater(t, o.Winding, cold)
	o = u.At(5*3600+60, plant.Joined{})
	fast := hot - u.Winding
	u.At(5*3600+120, plant.Joined{})
	assert.Greater(t, fast, 0.5, "the winding gives its heat to the frame")
	assert.Greater(t, made(t, motor.WornBearing).At(231, 50, 0, 25).Friction, 2*60.0*0.9)
}

func TestABrakeHoldsASpeed(t *testing.T) {
	m := made(t, plant.Healthy)
	for _, speed := range []float64{24, 15, 5, 0} {
		l := m.HeldAt(115, 50, speed, 25)
		assert.InDelta(t, speed, l.Speed, 1e-9)
		assert.InDelta(t, m.At(115, 50, l.Torque, 25).Torque, l.Torque, 0.02*l.Torque+0.02)
	}
	assert.InEpsilon(t, m.HeldAt(115, 50, 0, 25).Torque, m.HeldAt(115, 50, 0.1, 25).Torque, 0.02, "down to a locked rotor")
	free := m.At(115, 50, 0, 25)
	assert.Equal(t, free, m.HeldAt(115, 50, 40, 25), "a brake drives nothing")
	locked := m.HeldAt(115, 50, 0, 25)
	assert.InDelta(t, 0, locked.Output, 1e-9)
	assert.InDelta(t, 4, m.HeldAt(230, 50, 0, 25).Torque/locked.Torque, 1e-9, "with the square of the volts")
	assert.Greater(t, made(t, motor.BrokenBar).HeldAt(115, 50, 0, 25).Torque, 1.2*locked.Torque)
	u := motor.New(m)
	held := plant.Joined{Line: plant.Source{On: true, Volts: 115, Hertz: 50}, Shaft: plant.Brake{On: true, Held: true,
		Speed: 12}}
	u.At(0, held)
	assert.InDelta(t, 12, u.At(0.1, held).Shaft.Speed, 1e-9)
}

func TestAnInsulationAbsorbsStandsAndGivesWay(t *testing.T) {
	m := made(t, plant.Healthy)
	u, fed := motor.New(m), plant.Joined{Line: plant.Source{On: true, Volts: 500, Amps: 1e-3}}
	u.At(0, fed)
	for s := 0.5; s <= 600; s += 0.5 {
		amps := u.At(s, fed).Line.Amps
		if s == 60 || s == 600 {
			assert.InEpsilon(t, m.Insulation.Amps(500, s), amps, 0.01)
		}
	}
	assert.Greater(t, m.Insulation.Amps(500, 60)/m.Insulation.Amps(500, 600), 2.0)
	off := u.At(600.1, plant.Joined{})
	assert.Greater(t, off.Line.Volts, 300.0, "its charge stays for a while")
	assert.Less(t, u.At(610, plant.Joined{}).Line.Volts, 1.0)

	weak := motor.New(made(t, motor.Punctured))
	fed.Line.Volts = 1390
	assert.False(t, weak.At(0, fed).Line.Limited)
	fed.Line.Volts = 1410
	o := weak.At(1, fed)
	assert.True(t, o.Line.Limited)
	assert.InDelta(t, 1e-3, o.Line.Amps, 1e-12)
	assert.Less(t, o.Line.Volts, 100.0)

	o = u.At(700, plant.Joined{})
	require.Len(t, o.Accessories, 3)
	assert.InDelta(t, 96*(235+o.Celsius)/260, o.Accessories[0], 1e-9)
	assert.InDelta(t, 580, o.Accessories[1], 1e-9)
	assert.InDelta(t, 108.96, o.Accessories[2], 0.01, "23 °C after IEC 60751")
}
