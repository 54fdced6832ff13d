package vxi11

import (
	"bufio"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// An instrument that has no device clear, or cannot do it, is reached again all the same.
func TestWhoHasNoDeviceClearCanBeUsed(t *testing.T) {
	for _, known := range []bool{true, false} {
		here, there := net.Pipe()
		defer here.Close()
		go serveCalls(there, func(asked) (results writer, ok bool) {
			results.number(errorUnknown)
			return results, known
		})
		l := &Link{conn: here, reader: bufio.NewReader(here)}
		require.NoError(t, l.Clear())
	}
}
