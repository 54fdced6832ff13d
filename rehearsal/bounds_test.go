package rehearsal_test

import (
	"context"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/demo"
	"usherbench/rehearsal"
)

// nested are loops within loops, each pass of which takes a moment.
const nested = `procedure: nested
for: tern
needs: {source: {}, load: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}}
  - repeat: {times: 200}
    stages:
      - repeat: {times: 200}
        stages:
          - repeat: {times: 200}
            stages: [{hold: {for: 2 ms}}]
`

func tern(t *testing.T) *nameplate.Nameplate {
	for _, text := range demo.Nameplates() {
		if strings.Contains(text, "nameplate: tern\n") {
			plate, err := nameplate.Parse([]byte(text))
			require.NoError(t, err)
			return plate
		}
	}
	require.Fail(t, "there is no tern")
	return nil
}

// Whatever somebody asks to be rehearsed, it comes to an end in bounded memory, and nobody waits for what nobody wants
// to know any longer.
func TestARehearsalIsBounded(t *testing.T) {
	plate := tern(t)
	program, err := catalogue.Parse([]byte(nested), plate, nil, nil)
	require.NoError(t, err)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	r, err := rehearsal.Run(t.Context(), program, plate, rehearsal.Options{})
	require.NoError(t, err)
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Contains(t, r.Reason, "goes on and on")
	assert.LessOrEqual(t, len(r.Marks), 60_000)
	assert.Less(t, after.HeapAlloc-before.HeapAlloc, uint64(200<<20))

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	began := time.Now()
	_, err = rehearsal.Run(ctx, program, plate, rehearsal.Options{})
	require.ErrorIs(t, err, context.Canceled)
	assert.Less(t, time.Since(began), 5*time.Second)
}
