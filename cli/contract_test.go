package cli_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a charger offers is read without a service, and what is odd about it stands below.
func TestSourceObjectsAreRead(t *testing.T) {
	code, out, errOut := usher(t, "", "contract", "0x0801912C", "64145", "0xC0DC2164", "E004B0E1", "0", "--cable", "3A")
	require.Equal(t, 0, code, errOut)
	for _, words := range []string{"fixed", "5.00 V", "unconstrained power", "20.00 V", "3.25 A", "exceeds-cable",
		"3.30 to 11.00 V", "3.00 A to 15 V, 2.25 A to 20 V", "empty"} {
		assert.Contains(t, out, words)
	}
	assert.NotContains(t, out, "place ", "nothing is odd about it")
	code, out, _ = usher(t, "", "contract", "0x4FC2D078", "--json")
	require.Equal(t, 0, code)
	var all struct {
		Objects  []struct{ Need string }
		Findings []struct{ Words string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	assert.Equal(t, "needs-5A-cable", all.Objects[0].Need)
	assert.Equal(t, "the first object must be fixed, 5 V", all.Findings[0].Words)
	for _, wrong := range [][]string{{"0x1FFFFFFFF"}, {"five volts"}, {"0", "--cable", "3V"}, {"0", "--cable", "-3A"}} {
		code, _, errOut = usher(t, "", append([]string{"contract"}, wrong...)...)
		assert.Equal(t, 2, code, wrong)
		assert.NotEmpty(t, errOut)
	}
}
