package thruster_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/thruster"
)

func TestTheForceFollowsTheCommand(t *testing.T) {
	x, err := thruster.Puffin("", plant.Healthy)
	require.NoError(t, err)
	u := &thruster.Unit{Thruster: x}
	at := func(t, command float64) plant.Operating {
		return u.At(t, plant.Joined{Line: plant.Source{On: true, Volts: 24, Amps: 100},
			Drive: plant.Command{On: true, Command: command}})
	}
	at(0, 0.5)
	assert.InDelta(t, x.Force(0.5)*(1-math.Exp(-1)), at(x.Lag, 0.5).Force, 1e-9, "after one lag")
	assert.InDelta(t, x.Force(0.5), at(100, 0.5).Force, 1e-6)
	assert.InDelta(t, 600, at(200, 1).Force, 1)
	back := at(300, 0.5).Force
	assert.InDelta(t, x.Slope*x.Play, back-x.Force(0.5), 1e-6, "the way back lies behind")
	assert.Zero(t, x.Force(0.1))
	gone := u.At(400, plant.Joined{Line: plant.Source{On: true, Volts: 24, Amps: 100}})
	assert.Less(t, gone.Force, 1e-6)
	assert.Zero(t, gone.Line.Amps)
	assert.Zero(t, at(500, 0.5).Force-at(500, 0.5).Force)
}
