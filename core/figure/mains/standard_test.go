package mains

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/record"
)

func TestWhatTheStandardAsksIsSaidInItsOrder(t *testing.T) {
	figures := map[string]figure.Result{
		"standby-power":            {Value: 0.128, U: 0.001, Unit: "W"},
		"supply-voltage-deviation": {Value: 1.4, U: 0.1, Unit: "%"}, "supply-frequency-deviation": {Value: 0.01, Unit: "%"},
		"supply-voltage-thd":     {Undetermined: record.Because(record.NoData, "no harmonics were read")},
		"power-stability":        {Value: 2e-3, Unit: "W/h"},
		"permitted-uncertainty":  {Value: 0.02, Unit: "W"},
		"burden-corrected-power": {Value: 0.1279, U: 0.001, Unit: "W"},
	}
	of := func(id string) (figure.Result, bool) {
		r, ok := figures[id]
		return r, ok
	}
	all := Standard(of)
	require.Len(t, all, 8)
	met := map[string]any{}
	for _, q := range all {
		met[q.Asked] = nil
		if q.Met != nil {
			met[q.Asked] = *q.Met
		}
	}
	assert.Equal(t, map[string]any{"supply volts within 1 % of nominal": false,
		"supply frequency within 1 % of nominal": true, "harmonics of the supply up to 2 %": nil,
		"crest factor of the supply 1.34 to 1.49": nil, "power steady while it is measured": true,
		"no bursts between the readings": nil, "uncertainty within what is permitted": true,
		"the meter's own power taken off": true}, met)
	assert.Equal(t, "1.40 ± 0.10 %", all[0].Found)
	assert.Contains(t, all[2].Found, "no harmonics were read")
	assert.Contains(t, all[3].Found, "not asked for")
	assert.Contains(t, all[6].Found, "U is 1 mW; 20 mW are permitted")
	delete(figures, "standby-power")
	assert.Nil(t, Standard(of), "no low power was measured")
}
