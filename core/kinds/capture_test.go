package kinds_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/kinds"
)

func TestATriggerIsWaitedForWithinWhatTheStageSays(t *testing.T) {
	for within, want := range map[string]float64{"": 5, "    within: 2 min\n": 120} {
		p, err := catalogue.Parse([]byte(fmt.Sprintf(`
procedure: test
for: any
needs: {source: {volts: 60 V}, scope: {}}
stages:
  - capture: {channels: {output: {range: 1 V}}, span: 1 ms, trigger: {channel: output, level: 0.5 V}}
%s`, within)), nil, nil, nil)
		require.NoError(t, err)
		assert.Equal(t, want, p.Stages[0].Action.(*kinds.Capture).Setup().Within)
	}
}
