package outputs

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/seats"
)

// A trip that nobody has asked for before the output was switched off says nothing about the next time that it is on.
func TestATripOfBeforeIsNoTripOfNow(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t, []string{"source"})
		ctx, cancel := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		s := NewSampler(ctx, wg.Go, b.board.Seats())
		watch := func(seconds int) {
			for range seconds * 10 {
				s.Sample(t.Context(), nil, 100*time.Millisecond, nil)
				time.Sleep(100 * time.Millisecond)
			}
		}
		require.NoError(t, b.output(t, "source", seats.On))
		watch(2)
		assert.Empty(t, s.Trips())
		b.fakes["source"].on = false
		watch(2) // it is found, and nobody asks
		require.NoError(t, b.board.MakeSafe("test", ""))
		require.NoError(t, b.output(t, "source", seats.On))
		assert.Empty(t, s.Trips())
		watch(2)
		assert.Empty(t, s.Trips())
		b.fakes["source"].on = false
		watch(2)
		found := s.Trips()
		require.Len(t, found, 1)
		assert.Contains(t, found[0].Words, "reads back as off")
		assert.Empty(t, s.Trips(), "it is told once")
		cancel()
		wg.Wait()
	})
}
