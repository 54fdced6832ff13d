package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"usherbench/api"
)

// Event is an event of the live stream.
type Event struct {
	ID   uint64
	Kind string
	Data json.RawMessage
}

// Into reads the event's data.
func (e Event) Into(v any) error { return json.Unmarshal(e.Data, v) }

// heardWithin is how long a stream may be quiet before it counts as lost; the service says something every two seconds.
const heardWithin = 7 * time.Second

// Live calls take for every event, beginning after the given id (0: now), of one bay or ("") of all. When the
// stream is lost it comes back by itself and continues where it was; lost is told of it with the reason, and of
// the return with nil. Live returns when the context ends or take returns an error.
func (c *Client) Live(ctx context.Context, bay string, after uint64, take func(Event) error, lost func(error)) error {
	wait := 200 * time.Millisecond
	broken := false
	for {
		heard := false
		err := c.stream(ctx, bay, &after, func(e Event) error {
			if broken && lost != nil {
				lost(nil)
			}
			heard, broken = true, false
			if e.Kind == "tick" {
				return nil
			}
			if err := take(e); err != nil {
				return &stopped{err}
			}
			return nil
		})
		var stop *stopped
		switch {
		case errors.As(err, &stop):
			return stop.err
		case ctx.Err() != nil:
			return ctx.Err()
		}
		var p *api.Problem
		if errors.As(err, &p) && p.Status < 500 {
			return err // the service answers, but not to this
		}
		if !broken && lost != nil {
			lost(err)
		}
		broken = true
		if heard {
			wait = 200 * time.Millisecond
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

type stopped struct{ err error }

func (s *stopped) Error() string { return s.err.Error() }

// stream reads one connection until it ends.
func (c *Client) stream(ctx context.Context, bay string, after *uint64, take func(Event) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	query, header := url.Values{}, http.Header{}
	if bay != "" {
		query.Set("bay", bay)
	}
	if *after > 0 {
		header.Set("Last-Event-ID", strconv.FormatUint(*after, 10))
	}
	response, err := c.send(ctx, http.MethodGet, one("live"), query, nil, header)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	quiet := time.AfterFunc(heardWithin, cancel)
	defer quiet.Stop()
	lines := bufio.NewReaderSize(response.Body, 64<<10)
	e := Event{Kind: "message"}
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			return err
		}
		quiet.Reset(heardWithin)
		line = strings.TrimRight(line, "\r\n")
		name, value, _ := strings.Cut(line, ": ")
		switch {
		case line == "":
			if e.ID > 0 {
				*after = e.ID
			}
			if err := take(e); err != nil {
				return err
			}
			e = Event{Kind: "message"}
		case name == "id":
			if e.ID, err = strconv.ParseUint(value, 10, 64); err != nil {
				return fmt.Errorf("live stream: %w", err)
			}
		case name == "event":
			e.Kind = value
		case name == "data":
			e.Data = append(e.Data, value...)
		}
	}
}
