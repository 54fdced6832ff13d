package backup_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/backup"
)

func unitOf(t *testing.T, fault plant.Fault) *backup.Unit {
	s, err := backup.Kittiwake("", fault)
	require.NoError(t, err)
	return backup.New(s)
}

// at is what is joined to a unit: the mains, or none, and a load that takes a power.
func at(mains bool, power float64) plant.Joined {
	return plant.Joined{Line: plant.Source{On: mains, Volts: 230, Hertz: 50, Amps: 200},
		Output: plant.Load{On: power > 0, Mode: plant.ConstantPower, Level: power}}
}

func TestWhatFlowsInIsWhatFlowsOutAndTheLoss(t *testing.T) {
	u := unitOf(t, plant.Healthy)
	u.At(0, at(true, 60e3))
	o := u.At(3, at(true, 60e3))
	s := u.Supply
	assert.InDelta(t, 60e3, o.Output.Watts(), 1e-6)
	assert.InDelta(t, 3*(160+0.021*20e3+20e3*20e3/2.4e6), s.Loss(60e3), 1e-9)
	assert.InDelta(t, 60e3+s.Loss(60e3), o.Line.Watts(), 1e-6)
	assert.InDelta(t, o.Output.Watts(), 3*o.Output.Volts*o.Output.Amps, 1e-6, "the mean of three phases")
	assert.InDelta(t, o.Line.Watts()-o.Output.Watts(), o.Heat, 1e-6)
	assert.Zero(t, unitOf(t, plant.Healthy).At(0, at(true, 60e3)).Output.Volts, "it starts only after a while")
}

func TestABusBarWarmsAsItsCurrentSquared(t *testing.T) {
	for fault, rise := range map[plant.Fault]float64{plant.Healthy: 24, backup.HotBar: 2.9 * 24} {
		u := unitOf(t, fault)
		u.At(0, at(true, 60e3))
		u.At(2, at(true, 60e3))
		for s := 3.0; s <= 2+420; s++ {
			u.At(s, at(true, 60e3))
		}
		assert.InDelta(t, plant.Ambient+rise*(1-math.Exp(-1)), u.Bars()[0], 1e-6, "after one time constant")
		assert.InDelta(t, plant.Ambient+rise/4, u.Supply.Settled(30e3)[0], 1e-9)
	}
}

func TestAWeakModuleIsHelpedUntilTheOthersCannot(t *testing.T) {
	u := unitOf(t, backup.WeakModule)
	assert.InDelta(t, 56e3, u.Supply.Limit(), 1e-6)
	u.At(0, at(true, 54e3))
	o := u.At(3, at(true, 54e3))
	assert.Greater(t, o.Output.Volts, 227.0, "the others give what it does not")
	o = u.At(4, at(true, 60e3))
	assert.InDelta(t, 56e3, o.Output.Watts(), 1e-6)
	assert.InDelta(t, 230*56.0/60-2*56.0/60, o.Output.Volts, 1e-6, "volts give way")
}

func TestTheBatteryCarriesTheOutputAsLongAsItHolds(t *testing.T) {
	for fault, share := range map[plant.Fault]float64{plant.Healthy: 1, backup.TiredStore: 1.0 / 3} {
		u := unitOf(t, fault)
		u.At(0, at(true, 60e3))
		u.At(2, at(true, 60e3))
		lasts := share * 3 * 1.3 * 3.6e6 / (60e3 + u.Supply.Loss(60e3))
		o := u.At(2, at(false, 60e3))
		assert.Zero(t, o.Line.Watts())
		assert.InDelta(t, 60e3, o.Output.Watts(), 1e-6)
		o = u.At(2+0.999*lasts, at(false, 60e3))
		assert.Greater(t, o.Output.Volts, 220.0)
		o = u.At(2+1.001*lasts, at(false, 60e3))
		assert.Zero(t, o.Output.Volts)
		o = u.At(3+lasts, at(true, 0))
		assert.Greater(t, o.Line.Watts(), 1200.0, "it is filled again")
	}
}
