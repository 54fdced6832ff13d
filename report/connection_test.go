package report

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The voltmeter stands before the ammeter, or behind it.
func TestAConnectionIsDrawn(t *testing.T) {
	drawings := map[string]string{}
	for _, w := range Wirings() {
		svg, err := Connection(w)
		require.NoError(t, err)
		for _, sign := range []string{">V</text>", ">A</text>", ">unit</text>"} {
			assert.Contains(t, string(svg), sign)
		}
		drawings[w] = string(svg)
	}
	assert.NotEqual(t, drawings["voltmeter-at-supply"], drawings["voltmeter-at-unit"])
	_, err := Connection("anywhere")
	assert.ErrorContains(t, err, "say voltmeter-at-supply or voltmeter-at-unit")
}
