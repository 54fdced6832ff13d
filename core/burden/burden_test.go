package burden

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"usherbench/core/uncertainty"
)

var (
	ofVolts = uncertainty.Spec{{To: 600, Burden: 2e6}}
	ofAmps  = uncertainty.Spec{{To: 0.1, Burden: 0.5}, {To: 20, Burden: 0.01}}
)

// At 230 V a voltage input of 2 MΩ takes 26 mW, a fifth of what a good adapter takes in standby; a shunt of 0.5 Ω
// takes nothing of it that anybody could read.
func TestStandbyIsWiredAtTheSupply(t *testing.T) {
	b := Of(230, 0.8e-3, 4, ofVolts, ofAmps)
	assert.Equal(t, 0.1, b.Range)
	unit, ok := b.Error(AtUnit)
	assert.True(t, ok)
	assert.InDelta(t, 26.45e-3, unit, 1e-5)
	supply, ok := b.Error(AtSupply)
	assert.True(t, ok)
	assert.InDelta(t, 0.32e-6, supply, 1e-9)
	best, ok := b.Best()
	assert.True(t, ok)
	assert.Equal(t, AtSupply, best)
	loaded, _ := Of(230, 5, 1.4, ofVolts, ofAmps).Best()
	assert.Equal(t, AtUnit, loaded, "0.25 W in the shunt are more than 26 mW")
	assert.Equal(t, 20.0, Of(230, 0.06, 6, ofVolts, ofAmps).Range, "its peaks need the larger range")
	_, ok = Of(230, 1, 1, nil, ofAmps).Best()
	assert.False(t, ok, "nobody states the resistance across")
	_, ok = Of(230, 30, 1, ofVolts, ofAmps).Error(AtSupply)
	assert.False(t, ok, "beyond every range")
}

// Below the crossover a voltmeter at the supply is better, above it one at the unit.
func TestTheCrossoverPartsTheWirings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := Burden{Volts: rapid.Float64Range(10, 400).Draw(t, "volts"),
			Across: rapid.Float64Range(1e4, 1e8).Draw(t, "across"), Through: rapid.Float64Range(1e-3, 10).Draw(t, "through")}
		share := rapid.Float64Range(0.01, 100).Draw(t, "share")
		b.Amps = share * Crossover(b.Volts, b.Across, b.Through)
		best, ok := b.Best()
		assert.True(t, ok)
		if math.Abs(share-1) > 1e-6 {
			assert.Equal(t, share < 1, best == AtSupply)
		}
		other, _ := b.Error(best.Other())
		least, _ := b.Error(best)
		assert.LessOrEqual(t, least, other)
	})
}
