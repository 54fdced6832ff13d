package live

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A watcher that comes and goes at any time, and comes back with the id it saw last, hears every event once and in
// order, or is told to fetch anew.
func TestWhoeverComesBackMissesNothing(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		first := uint64(rapid.IntRange(1, 1_000_000).Draw(r, "first"))
		hub := NewHub(first)
		next := first     // id of the next event
		last := first - 1 // what the watcher saw last
		subscription, _, _ := hub.Subscribe(0, "")
		defer func() { subscription.Close() }()
		see := func(e Event) {
			require.Equal(r, last+1, e.ID)
			last = e.ID
		}
		for range rapid.IntRange(1, 60).Draw(r, "steps") {
			switch rapid.SampledFrom([]string{"publish", "read", "away"}).Draw(r, "what") {
			case "publish":
				for range rapid.IntRange(1, 300).Draw(r, "events") {
					hub.Publish("frame", "bay1", map[string]int{"n": 1})
					next++
				}
			case "read":
				for len(subscription.C) > 0 {
					if e, open := <-subscription.C; open {
						see(e)
					} else {
						break
					}
				}
			case "away":
				subscription.Close()
				var missed []Event
				var known bool
				subscription, missed, known = hub.Subscribe(last, "")
				if last < first { // it saw nothing yet: it begins with what comes
					last = next - 1
					continue
				}
				if !known {
					require.Greater(r, next-last, uint64(remembered/2), "only what is long ago is forgotten")
					last = next - 1
					continue
				}
				for _, e := range missed {
					see(e)
				}
				require.Equal(r, next-1, last)
			}
		}
	})
}

func TestAnIdFromAnotherLifeIsNotKnown(t *testing.T) {
	hub := NewHub(1000)
	hub.Publish("frame", "bay1", 1)
	_, missed, known := hub.Subscribe(2000, "")
	assert.False(t, known, "an id that was never given")
	assert.Empty(t, missed)
	_, _, known = hub.Subscribe(5, "")
	assert.False(t, known, "an id of a service before this one")
}

func TestWhatIsNoJSONIsNotPublished(t *testing.T) {
	hub := NewHub(1)
	subscription, _, _ := hub.Subscribe(0, "")
	defer subscription.Close()
	hub.Publish("frame", "bay1", make(chan int))
	hub.Publish("frame", "bay1", "said")
	e := <-subscription.C
	assert.Equal(t, Event{1, "frame", "bay1", []byte(`"said"`)}, e)
	assert.Equal(t, uint64(1), hub.LastID())
}

func TestAClosedSubscriptionMayBeClosedAgain(t *testing.T) {
	hub := NewHub(1)
	subscription, _, _ := hub.Subscribe(0, "")
	subscription.Close()
	subscription.Close()
	hub.Publish("frame", "bay1", 1)
	_, open := <-subscription.C
	assert.False(t, open)
}
