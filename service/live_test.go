package service_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/live"
	"usherbench/service/servicetest"
)

var errEnough = errors.New("enough")

// collect takes events until it has n of them.
func collect(t *testing.T, h *servicetest.House, after uint64, n int) []client.Event {
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	var events []client.Event
	err := h.Local.Live(ctx, "", after, func(e client.Event) error {
		events = append(events, e)
		if len(events) == n {
			return errEnough
		}
		return nil
	}, nil)
	require.ErrorIs(t, err, errEnough)
	return events
}

func TestAStreamThatComesBackMissesNothing(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		h.Start("bay1", "long", "TN-1")
		first := collect(t, h, 0, 20)
		// While nobody listens, events go on.
		h.Until(func(e client.Event) bool { return e.ID > first[19].ID+20 })
		second := collect(t, h, first[19].ID, 40)
		for i, e := range append(first[1:], second...) {
			assert.Equal(t, first[0].ID+1+uint64(i), e.ID, "ids go on without a gap")
		}
		var frames api.Frames
		for _, e := range second {
			if e.Kind == api.EventFrames {
				require.NoError(t, e.Into(&frames))
			}
		}
		assert.NotEmpty(t, frames.T)
	})
}

func TestAStreamFromLongAgoIsToldToFetchAnew(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		events := collect(t, h, 17, 1)
		assert.Equal(t, api.EventReset, events[0].Kind)
		r, err := http.NewRequest(http.MethodGet, h.Running.URL+"/api/v1/live?after=x", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+h.Local.Token)
		answer, err := h.HTTP().Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, http.StatusBadRequest, answer.StatusCode)
	})
}

func TestASlowWatcherIsCutOffAndNothingElse(t *testing.T) {
	hub := live.NewHub(100)
	slow, _, _ := hub.Subscribe(0, "")
	quick, _, _ := hub.Subscribe(0, "")
	got := 0
	for range 5000 {
		hub.Publish("mark", "bay1", map[string]int{})
		<-quick.C
		got++
	}
	assert.Equal(t, 5000, got)
	last := uint64(0)
	for e := range slow.C {
		last = e.ID
	}
	assert.Less(t, last, hub.LastID())
	_, missed, known := hub.Subscribe(last, "")
	require.True(t, known)
	assert.Equal(t, last+1, missed[0].ID, "it comes back and continues where it was")
	assert.Equal(t, hub.LastID(), missed[len(missed)-1].ID)
}

func TestMetricsAndHealth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		r, err := http.NewRequest(http.MethodGet, h.Running.URL+"/metrics", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+h.Local.Token)
		answer, err := h.HTTP().Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		var text strings.Builder
		_, err = io.Copy(&text, answer.Body)
		require.NoError(t, err)
		assert.Contains(t, text.String(), `usher_bay_live{bay="bay1"} 0`)
		assert.Contains(t, text.String(), "usher_instrument_messages_total")
		health, err := h.Client("").Health(t.Context())
		require.NoError(t, err)
		assert.Equal(t, "ok", health.Status)
		instruments, err := h.Local.Instruments(t.Context())
		require.NoError(t, err)
		require.Len(t, instruments, 2)
		assert.True(t, instruments[0].Healthy)
		assert.Equal(t, []string{"bay1.load"}, instruments[0].Fills)
	})
}
