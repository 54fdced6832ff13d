package engine

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/nameplate"
	"usherbench/core/trace"
)

// A battery on a supply that reads 0 V when it is off is known by whatever else shows it.
func TestWhoeverShowsTheUnitKnowsWhetherItIsTheSame(t *testing.T) {
	plate, err := nameplate.Parse([]byte("nameplate: pack\nkind: battery\nchemistry: NMC\ncells: {series: 7}\n" +
		"ratings: {rated_capacity: 4.8 Ah}\n"))
	require.NoError(t, err)
	columns := trace.Columns{"source.volts", "load.volts", "meter.volts"}
	back := &comeback{plate: plate, state: runState{Counted: map[string]trace.Counted{
		"source.charge": {Amps: 2, Watts: 2 * 27}, "load.charge": {}}}}
	missing := math.NaN()
	for name, c := range map[string]struct {
		values []float64
		why    string
	}{
		"the load shows it":             {[]float64{0.01, 26.4, missing}, ""},
		"the meter shows it":            {[]float64{0.01, missing, 26.4}, ""},
		"the supply itself":             {[]float64{26.5, missing, missing}, ""},
		"nobody shows it":               {[]float64{0.01, missing, missing}, "no other seat shows the unit"},
		"a meter that looks elsewhere":  {[]float64{0.01, missing, 0.02}, "no other seat shows the unit"},
		"it is gone":                    {[]float64{0.01, 0, missing}, "look whether the unit is still there"},
		"the supply shows another unit": {[]float64{12, 26.4, missing}, "far from the 27 V before"},
	} {
		why := back.implausible(columns, c.values)
		if c.why == "" {
			assert.Empty(t, why, name)
		} else {
			assert.Contains(t, why, c.why, name)
		}
	}
}
