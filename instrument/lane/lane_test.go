package lane

import (
	"context"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/instrument/messages"
)

// user is somebody who wants the lane at a time, for a time, and gives up after a while.
type user struct {
	at, takes, patience time.Duration
	urgent              bool
}

// served is when each got the lane, and when it gave it back; zero: never.
type served struct{ from, to time.Duration }

// use has users use a lane in simulated time.
func use(t *testing.T, users []user) []served {
	all := make([]served, len(users))
	synctest.Test(t, func(*testing.T) {
		var l Lane
		began := time.Now()
		var wg sync.WaitGroup
		for i, u := range users {
			wg.Go(func() {
				time.Sleep(u.at)
				ctx, cancel := context.WithTimeout(context.Background(), u.patience)
				defer cancel()
				if u.urgent {
					ctx = messages.Urgent(ctx)
				}
				release, err := l.Take(ctx)
				if err != nil {
					return
				}
				all[i].from = time.Since(began)
				time.Sleep(u.takes)
				all[i].to = time.Since(began)
				release()
			})
		}
		wg.Wait()
		release, err := l.Take(context.Background()) // it is free in the end
		require.NoError(t, err)
		release()
	})
	return all
}

func TestWhatMakesSafeGoesFirst(t *testing.T) {
	users := []user{{0, 10, time.Hour, false}}
	for k := range 60 { // many who only look
		users = append(users, user{time.Duration(1 + k), 80, time.Hour, false})
	}
	users = append(users, user{100, 5, time.Hour, true})
	got := use(t, users)
	assert.LessOrEqual(t, got[len(got)-1].from, time.Duration(100+80), "it waits for one at most")
}

func TestNobodyWaitsLongerThanTheyWant(t *testing.T) {
	got := use(t, []user{{0, time.Second, time.Hour, false}, {1, 1, 100 * time.Millisecond, true},
		{2, 1, time.Hour, false}})
	assert.Zero(t, got[1].to)
	assert.Equal(t, time.Second, got[2].from, "who gave up holds nobody up")
}

// One at a time; an urgent one waits for nobody but who is in the lane and the urgent ones before it; each kind in the
// order in which it came.
func TestALaneServesOneAtATimeAndTheUrgentFirst(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var users []user
		for k := range rapid.IntRange(1, 12).Draw(rt, "users") {
			users = append(users, user{time.Duration(rapid.IntRange(0, 200).Draw(rt, "at")*1000 + k),
				time.Duration(rapid.IntRange(1, 50).Draw(rt, "takes")*1000 + 100), time.Hour, rapid.Bool().Draw(rt, "urgent")})
		}
		got := use(t, users)
		order := make([]int, len(users))
		for i := range order {
			order[i] = i
		}
		slices.SortFunc(order, func(a, b int) int { return int(got[a].from - got[b].from) })
		for k := 1; k < len(order); k++ {
			before, now := order[k-1], order[k]
			require.GreaterOrEqual(rt, got[now].from, got[before].to, "one at a time")
			for _, later := range order[k+1:] {
				waited := users[later].at < got[before].to && users[now].at < got[before].to
				if waited && users[later].urgent && !users[now].urgent {
					rt.Fatalf("%d went before %d, which is urgent", now, later)
				}
				if waited && users[later].urgent == users[now].urgent {
					require.LessOrEqual(rt, users[now].at, users[later].at, "in the order in which they came")
				}
			}
		}
	})
}
