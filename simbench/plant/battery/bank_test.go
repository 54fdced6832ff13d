package battery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

func sum(cells []plant.Seen) (all float64) {
	for _, c := range cells {
		all += c.Amps
	}
	return all
}

func TestCellsSideBySideEvenOut(t *testing.T) {
	b, err := GannetBank("GB-41", plant.Healthy, 0.5)
	require.NoError(t, err)
	apart, full := b.Spread(), b.StateOfCharge()
	assert.Greater(t, apart, 0.05, "as they come from the shelf")
	o := b.At(0, plant.Joined{})
	assert.InDelta(t, 0, sum(o.Further), 1e-9, "what one takes another gives")
	flows := 0.0
	for _, c := range o.Further {
		flows = max(flows, c.Amps)
	}
	assert.Greater(t, flows, 0.2)
	b.At(4*3600, plant.Joined{})
	assert.Less(t, b.Spread(), apart/3)
	assert.InDelta(t, full, b.StateOfCharge(), 5e-4, "no charge is lost on the way but their own self-discharge")
}

// Equal cells at one state of charge share a current by their conductances.
func TestCellsSideBySideShareByTheirConductances(t *testing.T) {
	b, err := GannetBank("", WeakPack, 0.5)
	require.NoError(t, err)
	charger := plant.Source{On: true, Volts: 4.2, Amps: 6}
	o := b.At(0, plant.Joined{Line: charger})
	assert.InDelta(t, 6, sum(o.Further), 1e-9)
	good, weak := b.Cells[0].Battery.Ohmic, b.Cells[6].Battery.Ohmic
	assert.InDelta(t, good/weak, o.Further[6].Amps/o.Further[0].Amps, 1e-9)
	assert.InDelta(t, 6/(6+good/weak), o.Further[0].Amps, 1e-9)
	assert.InDelta(t, b.Cells[0].Battery.OpenCircuit(0.5)+o.Further[0].Amps*good, o.Line.Volts, 1e-9)
}

func TestABalanceAtTheTopMakesCellsEquallyFull(t *testing.T) {
	b, err := GannetBank("GB-2", plant.Healthy, 0.4)
	require.NoError(t, err)
	charger := plant.Source{On: true, Volts: 4.17, Amps: 6.72}
	var o plant.Operating
	for at := 0.0; at < 12*3600; at += 10 {
		o = b.At(at, plant.Joined{Line: charger})
	}
	assert.InDelta(t, 4.17, o.Line.Volts, 1e-6)
	for k, c := range b.Cells {
		assert.Less(t, o.Further[k].Amps, 0.03)
		assert.InDelta(t, b.Cells[0].StateOfCharge(), c.StateOfCharge(), 0.002)
	}
}

func TestFaultsOfCellsSideBySide(t *testing.T) {
	charger := plant.Source{On: true, Volts: 4.2, Amps: 6}
	blown, err := GannetBank("", BlownFuse, 0.5)
	require.NoError(t, err)
	o := blown.At(0, plant.Joined{Line: charger})
	assert.Zero(t, o.Further[6].Amps)
	assert.InDelta(t, 1, o.Further[0].Amps, 1e-9)

	reversed, err := GannetBank("", ReversedLeads, 0.5)
	require.NoError(t, err)
	o = reversed.At(0, plant.Joined{Line: charger})
	assert.Less(t, o.Output.Volts, -3.0)
	assert.Zero(t, o.Line.Amps)

	dead, err := GannetBank("", plant.DeadUnit, 0.5)
	require.NoError(t, err)
	assert.InDelta(t, 4.2, dead.At(0, plant.Joined{Line: charger}).Line.Volts, 1e-12)

	_, err = GannetBank("", ShortOfCells, 0.5)
	assert.ErrorContains(t, err, "blown-fuse")

	charge := blown.Cells[6].State.Charge
	mended, err := GannetBank("", plant.Healthy, 0.2)
	require.NoError(t, err)
	blown.Remake(mended)
	assert.False(t, blown.Cells[6].Battery.Open, "the fuse is new")
	assert.Equal(t, charge, blown.Cells[6].State.Charge, "and the charge the old one")
}
