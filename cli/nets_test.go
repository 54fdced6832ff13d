package cli_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// Nets come from a list, or from a lead that is known to be good.
func TestTheNetsOfAHarness(t *testing.T) {
	list := write(t, "lead.csv", []byte("from,to\nA1,B1\nA2,B2\nB2,S\n"))
	code, out, _ := usher(t, "", "nameplate", "nets", list)
	require.Equal(t, 0, code)
	assert.Equal(t, "nets:\n  - [A1, B1]\n  - [A2, B2, S]\n", out)
	code, _, errOut := usher(t, "", "nameplate", "nets", write(t, "none.csv", []byte("A1\n")))
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "none.csv: the list joins no two pins")
	code, _, _ = usher(t, "", "nameplate", "nets")
	assert.Equal(t, 2, code)

	h := servicetest.Start(t, servicetest.Options{Sockets: true, Layouts: []simbench.Layout{simbench.Harness}})
	h.Ended(h.Start("bay1", "lantern-lead-wiring", "LL-1401"))
	code, out, errOut = usher(t, "", "--data", h.Data, "nameplate", "nets", "--run", "last")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "  - [A7, B7]\n")
}
