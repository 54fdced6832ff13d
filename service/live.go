package service

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/live"
)

// tickInterval is how often a quiet stream says that it is alive. A client that hears nothing for three of
// these is cut off.
const tickInterval = 2 * time.Second

// streamPatience is how long a write to a stream may take: who does not read for so long is cut off, and comes back
// with the id it saw last.
const streamPatience = 10 * time.Second

// mostStreams is how many streams one account has open.
const mostStreams = 64

// live streams events as server-sent events. Last-Event-ID (or the parameter after) continues a stream; bay
// limits it to one bay.
func (s *Service) live(c *echo.Context) error {
	text := c.Request().Header.Get("Last-Event-ID")
	if text == "" {
		text = c.QueryParam("after")
	}
	after, err := strconv.ParseUint(text, 10, 64)
	if text != "" && err != nil {
		return badRequest(fmt.Sprintf("%q is not the id of an event", text), "")
	}
	leave, ok := s.streams.enter(who(c))
	if !ok {
		return &api.Problem{Title: "Too many at once", Status: http.StatusTooManyRequests,
			Detail: fmt.Sprintf("%d streams of this account are open", mostStreams), Remedy: "close some of them"}
	}
	defer leave()
	bay := c.QueryParam("bay")
	subscription, missed, known := s.engine.Hub.Subscribe(after, bay)
	defer subscription.Close()
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	flusher := http.NewResponseController(w)
	patience := func() { // a connection without deadlines, as of a test, has endless patience
		_ = flusher.SetWriteDeadline(time.Now().Add(streamPatience))
	}
	send := func(e live.Event) error {
		patience()
		_, err := fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data)
		return err
	}
	if after == 0 || !known {
		// The first event tells where the stream begins, so that a client that is cut off before any other can still
		// continue.
		kind := "tick"
		if !known {
			kind = api.EventReset
		}
		if err := send(live.Event{ID: s.engine.Hub.LastID(), Kind: kind, Data: []byte("{}")}); err != nil {
			return nil
		}
	}
	for _, e := range missed {
		if send(e) != nil {
			return nil
		}
	}
	if err := flusher.Flush(); err != nil {
		return err
	}
	checked := time.Now()
	tick := time.NewTicker(tickInterval)
	defer tick.Stop()
	for {
		select {
		case <-c.Request().Context().Done():
			return nil
		case e, open := <-subscription.C:
			if time.Since(checked) > accessEvery {
				if checked = time.Now(); !s.mayWatch(c) {
					return nil
				}
			}
			if !open || send(e) != nil {
				return nil // too far behind, or gone: the client comes back with the id it saw last
			}
		case <-tick.C:
			if !s.mayWatch(c) {
				return nil
			}
			patience()
			if _, err := fmt.Fprintf(w, "event: tick\ndata: {}\n\n"); err != nil {
				return nil
			}
		}
		if len(subscription.C) > 0 {
			continue // one flush for all that is waiting
		}
		patience()
		if flusher.Flush() != nil {
			return nil
		}
	}
}

// accessEvery is how long somebody goes on being told of events after access was withdrawn or has expired, at most.
const accessEvery = 250 * time.Millisecond

// mayWatch tells whether a stream still belongs to somebody.
func (s *Service) mayWatch(c *echo.Context) bool {
	_, err := s.accounts.of(c.Request())
	return err == nil
}
