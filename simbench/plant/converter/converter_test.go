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

// What one output is asked for moves the others, energy is kept, and each fault shows where it should.
func TestASupplyWithSeveralOutputs(t *testing.T) {
	line := plant.Source{On: true, Volts: 24, Amps: 5}
	load := func(amps float64) plant.Load {
		return plant.Load{On: amps > 0, Mode: plant.ConstantCurrent, Level: amps}
	}
	at := func(fault plant.Fault, amps ...float64) plant.Operating {
		s, err := Dunlin("DN-7", fault)
		require.NoError(t, err)
		return s.Solve(plant.Joined{Line: line, Output: load(amps[0]),
			Further: []plant.Joint{{Load: load(amps[1])}, {Load: load(amps[2])}}}, true)
	}
	full, light := at(plant.Healthy, 2, 3, 2), at(plant.Healthy, 0.2, 3, 2)
	assert.InDelta(t, 12, full.Output.Volts, 0.05)
	assert.InDelta(t, 5, full.Further[0].Volts, 0.06)
	assert.InDelta(t, 3.3, full.Further[1].Volts, 0.04)
	assert.Equal(t, -3.0, full.Further[0].Amps, "what it gives flows out")
	assert.InDelta(t, 1.8*14e-3, full.Further[0].Volts-light.Further[0].Volts, 5e-3, "the first output moves the second")
	assert.InDelta(t, full.Line.Watts(), full.Gives()+full.Loss(), 1e-12)
	assert.InDelta(t, 89, full.Efficiency(), 4)

	weak := at(WeakCoupling, 2, 3, 2).Further[0].Volts - at(WeakCoupling, 0.2, 3, 2).Further[0].Volts
	assert.InDelta(t, 4*(full.Further[0].Volts-light.Further[0].Volts), weak, 1e-12)
	assert.Less(t, at(LowEfficiency, 2, 3, 2).Efficiency(), full.Efficiency()-2)
	assert.Less(t, at(WeakRegulation, 2, 3, 2).Output.Volts, full.Output.Volts-0.03)
	assert.Zero(t, at(LostOutput, 2, 3, 2).Further[1])
	assert.Zero(t, at(plant.DeadUnit, 2, 3, 2).Output)
	assert.Zero(t, at(plant.Healthy, 4, 0, 0).Output, "too much for one output takes all down")

	// It starts softly, and settles to its truth.
	u := &SeveralUnit{}
	var err error
	u.Supply, err = Dunlin("DN-7", plant.Healthy)
	require.NoError(t, err)
	joined := plant.Joined{Line: line, Output: load(1), Further: []plant.Joint{{Load: load(1)}}}
	u.At(0, joined)
	half := u.At(u.Supply.SoftStart/2, joined)
	truth := u.Steady(joined)
	assert.InDelta(t, truth.Output.Volts/2, half.Output.Volts, 1e-9)
	assert.InDelta(t, truth.Further[0].Volts/2, half.Further[0].Volts, 1e-9)
	assert.Equal(t, truth.Further, u.At(1, joined).Further)
}
