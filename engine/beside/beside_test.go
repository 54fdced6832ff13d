package beside

import (
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What runs is waited for, also what it begins itself while somebody waits.
func TestAllOfItIsWaitedFor(t *testing.T) {
	var g Group
	var done atomic.Int64
	waits := make(chan struct{})
	for range 10 {
		g.Go(func() {
			<-waits
			g.Go(func() { done.Add(1) })
			done.Add(1)
		})
	}
	close(waits)
	g.Wait()
	assert.EqualValues(t, 20, done.Load())
}

// What is begun after the end is done when Go returns, however often somebody waits.
func TestWhatIsBegunAfterTheEndIsDoneAtOnce(t *testing.T) {
	var g Group
	g.Wait()
	done := false
	g.Go(func() { done = true })
	assert.True(t, done)
	g.Wait()
}

// Work may be begun by anybody at the instant in which somebody else waits: it is done, beside or at once.
func TestWorkIsBegunWhileSomebodyWaits(t *testing.T) {
	for range 200 {
		var g Group
		var done atomic.Int64
		var askers sync.WaitGroup
		for range 4 {
			askers.Go(func() { g.Go(func() { done.Add(1) }) })
		}
		g.Wait()
		askers.Wait()
		assert.EqualValues(t, 4, done.Load())
	}
}
