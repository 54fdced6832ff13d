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
