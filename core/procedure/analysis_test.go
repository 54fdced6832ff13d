package procedure_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
)

// How far frames may lie apart is what the stage says, else what the procedure says; of only changes it is the time
// after which a frame is kept all the same.
func TestAProgramKnowsHowFarItsFramesLieApart(t *testing.T) {
	const stages = `
stages:
  - {name: quick, hold: {for: 10 s}}
  - {name: slow, hold: {for: 1 h}, record: {every: 1 min}}
  - {name: changes, hold: {for: 1 h}, record: {on change: {load.volts: 10 mV}, at least: 5 min}}
  - {name: slow, hold: {for: 1 h}, record: {every: 2 min}}
  - {name: slow, acquire: {quantities: [load.volts], average: 1 s}, record: {every: 10 s}}
`
	p, err := catalogue.Parse([]byte("procedure: test\nfor: any\nneeds: {load: {volts: 20 V, amps: 1 A}}\n"+
		"record: {every: 500 ms}"+stages), nil, nil, nil)
	require.NoError(t, err)
	for _, c := range []struct {
		name, kind string
		want       float64
	}{
		{"quick", "hold", 0.5}, {"slow", "hold", 120}, {"slow", "acquire", 10}, {"slow", "", 120},
		{"changes", "hold", 300}, {"nothing of that name", "hold", 0.5},
	} {
		assert.Equal(t, c.want, p.Interval(c.name, c.kind), "%s %s", c.kind, c.name)
	}
	assert.Equal(t, 0.5, p.Fastest())
	p, err = catalogue.Parse([]byte("procedure: test\nfor: any\nneeds: {load: {volts: 20 V, amps: 1 A}}"+stages), nil, nil,
		nil)
	require.NoError(t, err)
	assert.Positive(t, p.Interval("quick", "hold"), "there is always a rule")
}

// A figure of a quantity is asked for in another unit, and its limit is one in that unit: here the speed that a
// tachometer tells in volts.
func TestALimitIsInTheUnitThatIsAskedFor(t *testing.T) {
	text := func(in string) []byte {
		return []byte("procedure: test\nfor: any\nneeds: {meter: {}}\n" +
			"derived: {unit.speed: \"meter.volts / 1 V * 10 r/s\"}\nstages:\n" +
			"  - {name: runs, acquire: {average: 1 s}}\nfigures:\n" +
			"  - {figure: reading, row: runs, quantity: unit.speed, " + in + "}\n")
	}
	p, err := catalogue.Parse(text("in: r/min, limit: {min: 24 r/s, max: 1560 r/min}"), nil, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "r/min", p.Figures[0].In)
	assert.InDelta(t, 1440, p.Figures[0].Limit.Min, 1e-9)
	assert.InDelta(t, 1560, p.Figures[0].Limit.Max, 1e-9)
	p, err = catalogue.Parse(text("limit: {min: 1500 rpm}"), nil, nil, nil)
	require.NoError(t, err)
	assert.InDelta(t, 25, p.Figures[0].Limit.Min, 1e-9, "in r/s if nothing else is asked for")
	_, err = catalogue.Parse(text("in: Hz"), nil, nil, nil)
	assert.ErrorContains(t, err, "8:60: unit.speed is in r/s, which cannot be told in Hz")
}
