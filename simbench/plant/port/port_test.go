package port

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

// at is what the charger sees at a time, with a sink that asks for a place and a load that takes amps.
func at(u *Unit, t float64, position int, amps float64, mains bool) plant.Operating {
	return u.At(t, plant.Joined{Line: plant.Source{On: mains, Volts: 230, Hertz: 50, Amps: 2},
		Sink: plant.Sink{On: true, Position: position}, Output: plant.Load{On: true, Mode: plant.ConstantCurrent,
			Level: amps}})
}

func made(t *testing.T, fault plant.Fault) *Unit {
	c, err := Petrel("", fault)
	require.NoError(t, err)
	return &Unit{Charger: c}
}

func TestAContractIsKeptUpToItsTrip(t *testing.T) {
	u := made(t, plant.Healthy)
	assert.Zero(t, u.At(0, plant.Joined{Line: plant.Source{On: true, Volts: 230, Hertz: 50}}).Output.Volts,
		"nothing comes out that nobody is attached to")
	o := at(u, 1, 4, 3.25, true)
	assert.InDelta(t, 20-0.038*3.25, o.Output.Volts, 1e-9)
	assert.Equal(t, plant.Terms{Position: 4, Volts: 20, Amps: 3.25}, o.Contract.Terms)
	assert.Len(t, o.Contract.Offer, 5)
	assert.Greater(t, o.Line.Watts(), o.Output.Watts(), "it takes more than it gives")
	assert.NotZero(t, at(u, 2, 4, 3.83, true).Output.Volts)
	assert.Zero(t, at(u, 3, 4, 3.84, true).Output.Volts, "above 1.18 of what it advertises it gives up")
	refused := at(u, 4, 7, 0, true).Contract
	assert.True(t, refused.Refused)
	assert.Equal(t, 4, refused.Terms.Position, "the contract in force stays")
}

// How each of them comes back, once nothing is taken, and after its mains were off.
func TestAChargerComesBackInItsWay(t *testing.T) {
	for _, c := range []struct {
		fault                   plant.Fault
		loaded, relieved, mains bool
	}{{plant.Healthy, false, true, true}, {Hiccup, true, true, true}, {Latching, false, false, true}} {
		u := made(t, c.fault)
		at(u, 0, 1, 3, true)
		require.Zero(t, at(u, 1, 1, 4, true).Output.Volts, "%s", c.fault)
		assert.Equal(t, c.loaded, at(u, 3.2, 1, 4, true).Output.Volts > 0, "%s: it tries again under load", c.fault)
		at(u, 4, 1, 0, true)
		assert.Equal(t, c.relieved, at(u, 6.5, 1, 0, true).Output.Volts > 0, "%s: relieved", c.fault)
		at(u, 7, 1, 0, false)
		assert.Equal(t, c.mains, at(u, 9, 1, 0, true).Output.Volts > 0, "%s: after its mains were off", c.fault)
	}
}
