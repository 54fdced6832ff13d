package converter

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

var (
	line = plant.Source{On: true, Volts: 48, Amps: 5}
	full = plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 8}
)

func tern(t *testing.T, serial string, fault plant.Fault) Converter {
	c, err := Tern(serial, fault)
	require.NoError(t, err)
	return c
}

func TestASerialIsAlwaysTheSameUnit(t *testing.T) {
	assert.Equal(t, tern(t, "TN-1", plant.Healthy), tern(t, "TN-1", plant.Healthy))
	assert.NotEqual(t, tern(t, "TN-1", plant.Healthy), tern(t, "TN-2", plant.Healthy))
	_, err := Tern("TN-1", "cracked")
	assert.ErrorContains(t, err, "weak-regulation")
}

func TestHealthyUnitsMeetTheirData(t *testing.T) {
	for i := range 200 {
		c := tern(t, fmt.Sprintf("TN-%d", i), plant.Healthy)
		o := c.Solve(line, full, true)
		assert.Greater(t, o.Efficiency(), 93.0)
		assert.Less(t, o.Efficiency(), 96.0)
		assert.InDelta(t, 15, o.Output.Volts, 0.09)
		assert.InDelta(t, o.Line.Volts*o.Line.Amps, o.Output.Volts*o.Output.Amps+o.Loss(), 1e-12)
		light := c.Solve(line, plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 0.5}, true)
		assert.Less(t, (light.Output.Volts-o.Output.Volts)/o.Output.Volts, 0.004)
	}
}

func TestFaultsTouchTheirFigure(t *testing.T) {
	weak := tern(t, "TN-1", WeakRegulation)
	light := weak.Solve(line, plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 0.5}, true)
	heavy := weak.Solve(line, full, true)
	assert.Greater(t, (light.Output.Volts-heavy.Output.Volts)/heavy.Output.Volts, 0.006)
	assert.Less(t, tern(t, "TN-1", LowEfficiency).Solve(line, full, true).Efficiency(), 93.0)
	assert.Zero(t, tern(t, "TN-1", plant.DeadUnit).Solve(line, full, true).Output.Volts)
}

func TestLockoutHasHysteresis(t *testing.T) {
	c := tern(t, "TN-1", plant.Healthy)
	between := plant.Source{On: true, Volts: (c.LockoutOn + c.LockoutOff) / 2, Amps: 5}
	assert.Zero(t, c.Solve(between, full, false).Output.Volts)
	assert.Positive(t, c.Solve(between, full, true).Output.Volts)
}

func TestEveryLoadModeIsConsistent(t *testing.T) {
	c := tern(t, "TN-1", plant.Healthy)
	for _, l := range []plant.Load{{On: true, Mode: plant.ConstantCurrent, Level: 4}, {On: true, Mode: plant.ConstantPower,
		Level: 60},
		{On: true, Mode: plant.ConstantResistance, Level: 3.75}} {
		o := c.Solve(line, l, true)
		assert.InDelta(t, l.Takes(o.Output.Volts), o.Output.Amps, 1e-9, l.Mode)
		assert.InDelta(t, 4, o.Output.Amps, 0.05, l.Mode)
	}
	o := c.Solve(line, plant.Load{On: true, Mode: plant.ConstantVoltage, Level: 5}, true)
	assert.InDelta(t, 5, o.Output.Volts, 1e-12)
	assert.InDelta(t, c.CurrentLimit, o.Output.Amps, 1e-12)
}

func TestAWeakSourceIsLimited(t *testing.T) {
	o := tern(t, "TN-1", plant.Healthy).Solve(plant.Source{On: true, Volts: 48, Amps: 1}, full, true)
	assert.True(t, o.Line.Limited)
	assert.Zero(t, o.Output.Volts)
}

func TestTheOutputStartsSoftlyAndRingsAtAStep(t *testing.T) {
	c := tern(t, "TN-1", plant.Healthy)
	var s State
	off := plant.Load{}
	assert.Zero(t, c.At(&s, 0, line, off).Output.Volts)
	assert.InDelta(t, 7.5, c.At(&s, 0.010, line, off).Output.Volts, 0.1)
	steady := c.At(&s, 1, line, off).Output.Volts
	assert.Equal(t, c.Solve(line, off, true).Output.Volts, steady)
	dipped := c.At(&s, 1.001, line, full).Output.Volts
	settled := c.Solve(line, full, true).Output.Volts
	assert.Less(t, dipped, settled-0.1)
	assert.InDelta(t, settled, c.At(&s, 1.1, line, full).Output.Volts, 1e-12, "exact again when the ring has decayed")
}
