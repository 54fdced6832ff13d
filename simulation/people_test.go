package simulation

import (
	"context"
	"errors"
	"net/http"
	"time"

	"usherbench/api"
	"usherbench/client"
)

// act is something that a person asked for.
type act struct {
	kind, bay      string // the bay is empty for the house
	sent, answered time.Time
	err            error
	// refused tells that the service answered that it does not do it, failed that it could not.
	refused, failed bool
}

// patience is how long people wait for an answer.
const patience = 15 * time.Second

// ask has a person ask for something, without waiting for it.
func (h *house) ask(kind, bay string, what func(ctx context.Context, c *client.Client) error) {
	c := h.client()
	if c == nil {
		h.tell("people", "%s %s: there is no service", kind, bay)
		return
	}
	h.tell("people", "%s %s", kind, bay)
	sent := time.Now()
	h.busy.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		err := what(ctx, c)
		var p *api.Problem
		a := act{kind: kind, bay: bay, sent: sent, answered: time.Now(), err: err,
			refused: errors.As(err, &p) && p.Status < http.StatusInternalServerError}
		a.failed = p != nil && !a.refused
		h.mu.Lock()
		h.acts = append(h.acts, a)
		h.mu.Unlock()
		if err != nil {
			h.tell("people", "%s %s: answered: %v", kind, bay, err)
		} else {
			h.tell("people", "%s %s: done", kind, bay)
		}
	})
}

// at draws an event in some bay.
func at(name string) func(d draw, s Scenario, _ []instrument) []Event {
	return func(d draw, s Scenario, _ []instrument) []Event {
		return []Event{{At: d.between(began, s.Troubled), Kind: name, Bay: d.bay(s).Name}}
	}
}

// anywhere draws an event of the house.
func anywhere(name string) func(d draw, s Scenario, _ []instrument) []Event {
	return func(d draw, s Scenario, _ []instrument) []Event {
		return []Event{{At: d.between(began, s.Troubled), Kind: name}}
	}
}

// people lists what people do.
func people() []kind {
	intervene := func(do api.Doing) func(h *house, e Event) {
		return func(h *house, e Event) {
			h.ask(string(do), e.Bay, func(ctx context.Context, c *client.Client) error {
				_, err := c.Intervene(ctx, e.Bay, api.Intervention{Do: do, Text: "seen by the window"})
				return err
			})
		}
	}
	start := func(h *house, e Event) {
		h.ask("start", e.Bay, func(ctx context.Context, c *client.Client) error {
			_, err := c.StartRun(ctx, api.StartRun{Bay: e.Bay, Procedure: e.Words, Serial: serialOf(h, e.Bay)})
			return err
		})
	}
	return []kind{
		{"start", 6, func(d draw, s Scenario, _ []instrument) []Event {
			bay := d.bay(s)
			e := Event{At: d.between(began, s.Troubled), Kind: "start", Bay: bay.Name, Words: of(d, proceduresOf(bay.Layout))}
			if d.chance(0.2) { // by two people at once
				return []Event{e, e}
			}
			return []Event{e}
		}, start},
		{"stop", 6, at("stop"), func(h *house, e Event) {
			h.ask("stop", e.Bay, func(ctx context.Context, c *client.Client) error {
				_, err := c.Stop(ctx, e.Bay, "")
				return err
			})
		}},
		{"safe", 4, at("safe"), func(h *house, e Event) {
			h.ask("safe", e.Bay, func(ctx context.Context, c *client.Client) error {
				_, err := c.MakeSafe(ctx, e.Bay, "")
				return err
			})
		}},
		{"stop all", 3, anywhere("stop all"), func(h *house, _ Event) {
			h.ask("stop all", "", func(ctx context.Context, c *client.Client) error {
				_, err := c.StopAll(ctx, "")
				return err
			})
		}},
		{"go on", 2, anywhere("go on"), func(h *house, _ Event) {
			h.ask("go on", "", func(ctx context.Context, c *client.Client) error {
				_, err := c.GoOn(ctx)
				return err
			})
		}},
		{"go on in bay", 1, at("go on in bay"), func(h *house, e Event) {
			h.ask("go on in bay", e.Bay, func(ctx context.Context, c *client.Client) error {
				_, err := c.GoOnBay(ctx, e.Bay)
				return err
			})
		}},
		{"pause", 2, at("pause"), intervene(api.DoPause)},
		{"resume", 2, at("resume"), intervene(api.DoResume)},
		{"skip", 2, at("skip"), intervene(api.DoSkip)},
		{"note", 1, at("note"), intervene(api.DoNote)},
		{"set by hand", 7, func(d draw, s Scenario, _ []instrument) []Event {
			bay := d.bay(s)
			return []Event{{At: d.between(began, s.Troubled), Kind: "set by hand", Bay: bay.Name, Words: of(d, []string{
				"on", "on", "off", "level"})}}
		}, byHand},
		{"look on", 0, nil, func(h *house, e Event) { // for some seconds, as a page does that is open
			for range 30 {
				h.ask("look on", e.Bay, func(ctx context.Context, c *client.Client) error {
					_, err := c.Instruments(ctx)
					return err
				})
			}
		}},
		{"line up", 2, func(d draw, s Scenario, _ []instrument) []Event {
			bay := d.bay(s)
			return []Event{{At: d.between(began, s.Troubled), Kind: "line up", Bay: bay.Name, Words: beginningOf(bay.Layout) +
				"-brief"}}
		}, func(h *house, e Event) {
			h.ask("line up", e.Bay, func(ctx context.Context, c *client.Client) error {
				serial := serialOf(h, e.Bay)
				_, err := c.Enqueue(ctx, api.Enqueue{Bays: []string{e.Bay}, Serials: []string{serial, serial + "9"},
					Procedures: []string{e.Words, e.Words}})
				return err
			})
		}},
		{"configure", 2, at("configure"), func(h *house, e Event) {
			h.ask("configure", e.Bay, func(ctx context.Context, c *client.Client) error {
				if e.Words == "looked" { // at outputs of which nobody knows whether they are off
					if _, err := c.Looked(ctx, e.Bay); err != nil {
						return err
					}
				}
				config, err := c.BenchConfig(ctx)
				if err != nil {
					return err
				}
				b := config.Bays[e.Bay]
				b.Title += " by the window"
				_, err = c.PutBay(ctx, e.Bay, b)
				return err
			})
		}},
	}
}

// byHand sets something by hand.
func byHand(h *house, e Event) {
	seat := handSeat(h.layout(e.Bay))
	level := api.ManualSet{Seat: seat, Quantity: "amps", Value: "0.5 A"}
	setting := map[string]api.ManualSet{"level": level, "on": {Seat: seat, Quantity: "output", Value: "on"},
		"off": {Seat: seat, Quantity: "output", Value: "off"}}[e.Words]
	h.ask("set "+e.Words+" by hand", e.Bay, func(ctx context.Context, c *client.Client) error {
		_, err := c.Set(ctx, e.Bay, setting)
		return err
	})
}

// serialOf is the unit that is in a bay.
func serialOf(h *house, bay string) string {
	s, err := h.bench.State(bay)
	if err != nil {
		return "TN-1"
	}
	return s.Serial
}
