package simbench

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"
)

// admin is the bench's own HTTP side: its state, the unit in each bay, faults of instruments. It also plays the
// unit handler: a service that is told a serial number asks here for that unit to be clipped in.
type admin struct {
	url    string
	server *http.Server
}

func startAdmin(b *Bench) (*admin, error) {
	listener, err := b.listener("admin")
	if err != nil {
		return nil, fmt.Errorf("admin route of the simulated bench: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /state", func(w http.ResponseWriter, _ *http.Request) {
		states := []BayState{}
		for _, f := range b.fixtures {
			if s, err := b.State(f.name); err == nil {
				states = append(states, s)
			}
		}
		answer(w, states)
	})
	mux.HandleFunc("PUT /bays/{bay}/unit", func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			Serial, Plant string
			// Fault is left out by whoever does not know of faults, as a bench that says which unit is next: a unit that is
			// in place already stays as it is.
			Fault *string
		}
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4096)).Decode(&body); err != nil || body.Serial == "" {
			refuse(w, fmt.Errorf(`send {"serial": "TN-2201", "fault": ""}`))
			return
		}
		bay, fault := r.PathValue("bay"), ""
		if body.Fault != nil {
			fault = *body.Fault
		} else if state, err := b.State(bay); err == nil && state.Serial == body.Serial {
			fault = state.Fault
		}
		if err := b.ClipModel(bay, body.Plant, body.Serial, fault); err != nil {
			refuse(w, err)
			return
		}
		state, err := b.State(r.PathValue("bay"))
		if err != nil {
			refuse(w, err)
			return
		}
		answer(w, state)
	})
	mux.HandleFunc("PUT /bays/{bay}/charger", func(w http.ResponseWriter, r *http.Request) {
		var body struct{ On bool }
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4096)).Decode(&body); err != nil {
			refuse(w, fmt.Errorf(`send {"on": true}`))
			return
		}
		if err := b.Plug(r.PathValue("bay"), body.On); err != nil {
			refuse(w, err)
			return
		}
		answer(w, map[string]bool{"on": body.On})
	})
	mux.HandleFunc("GET /bays/{bay}/thermal", func(w http.ResponseWriter, r *http.Request) {
		p, err := b.Thermal(r.PathValue("bay"))
		if err != nil {
			refuse(w, err)
			return
		}
		w.Header().Set("Content-Type", "image/png")
		w.Header().Set("Thermal-Scale", fmt.Sprintf("%g..%g", p.Coldest, p.Hottest))
		_, _ = w.Write(p.PNG) // the client went away; nothing can be told to it
	})
	mux.HandleFunc("PUT /instruments/{name}/fault", func(w http.ResponseWriter, r *http.Request) {
		var body struct{ Fault string }
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4096)).Decode(&body); err != nil {
			refuse(w, fmt.Errorf(`send {"fault": "drop"}`))
			return
		}
		if err := b.SetFault(r.PathValue("name"), InstrumentFault(body.Fault)); err != nil {
			refuse(w, err)
			return
		}
		answer(w, map[string]string{"instrument": r.PathValue("name"), "fault": body.Fault})
	})
	a := &admin{url: "http://" + listener.Addr().String(), server: &http.Server{Handler: mux,
		ReadHeaderTimeout: 5 * time.Second}}
	go a.server.Serve(listener) //nolint:errcheck // it returns when the bench is closed
	return a, nil
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	_ = enc.Encode(v) // the client went away; nothing can be told to it
}

func refuse(w http.ResponseWriter, err error) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusBadRequest)
	_ = json.NewEncoder(w).Encode(map[string]any{"title": "The simulated bench cannot do this", "status": 400,
		"detail": err.Error()})
}

func (a *admin) close() error { return a.server.Close() }
