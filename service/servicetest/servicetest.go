// Package servicetest starts a whole house for tests: a simulated bench on real sockets and a service that
// drives it, with clients whose every request and answer is held against the OpenAPI document.
package servicetest

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/demo"
	"usherbench/engine"
	"usherbench/instrument/transport"
	"usherbench/instrument/transport/memory"
	"usherbench/service"
	"usherbench/simbench"
	"usherbench/store"
)

// House is a running bench and service.
type House struct {
	Bench   *simbench.Bench
	Running *service.Running
	// Local is the client of this machine, an admin.
	Local *client.Client
	Data  string
	t     testing.TB
	wire  http.RoundTripper
	// sockets tells that the house is on real ones
	sockets bool
	start   service.Config
	witness witness
}

// Options of a house; the zero value is one bay at ×20 with noise.
type Options struct {
	Bays         int
	Layouts      []simbench.Layout
	TimeFactor   float64
	Ideal        bool
	SharedSupply bool
	SharedScope  bool // of the bays that capture
	// SharedCrosspoint has the bays with a harness share one.
	SharedCrosspoint bool
	// Faulty names units that have a fault beside those of the demo: serial number → fault.
	Faulty map[string]string
	// Sockets has everything on real sockets and serial lines, in real time; otherwise the test must be in a bubble of
	// simulated time ([Simulated]), and the parts of the house are connected in memory.
	Sockets bool
	// Over is how stand-ins that take text messages are reached ([simbench.Ways]); it needs Sockets.
	Over string
	// LoadLeads is the resistance of the leads to every load, Ω.
	LoadLeads float64
	// Announce has them announce themselves by mDNS.
	Announce bool
	// Empty leaves the scenario's nameplates and procedures out.
	Empty bool
	// Change changes the configuration before the service starts.
	Change func(*bench.Config)
}

// patience bounds every wait of a test; it is only reached when something is broken.
const patience = 60 * time.Second

// Start starts a house that is closed with the test.
func Start(t testing.TB, o Options) *House {
	t.Helper()
	if o.Bays == 0 {
		o.Bays = 1
	}
	if o.TimeFactor == 0 {
		o.TimeFactor = 20
	}
	faulty := demo.FaultyUnits()
	maps.Copy(faulty, o.Faulty)
	bench, err := simbench.Start(simbench.Options{Bays: o.Bays, Layouts: o.Layouts, TimeFactor: o.TimeFactor,
		Ideal: o.Ideal, SharedSupply: o.SharedSupply, SharedScope: o.SharedScope,
		SharedCrosspoint: o.SharedCrosspoint, Faulty: faulty,
		Memory: memoryOf(o), Over: o.Over, Announce: o.Announce, LoadLeads: o.LoadLeads})
	require.NoError(t, err)
	t.Cleanup(func() { bench.Close() })
	config := demo.Config(bench, o.TimeFactor)
	if o.Change != nil {
		o.Change(&config)
	}
	h := &House{Bench: bench, Data: t.TempDir(), t: t, wire: http.DefaultTransport, sockets: o.Sockets}
	h.start = service.Config{Data: h.Data, Listen: "127.0.0.1:0", Bench: config,
		HashMemory: 64} // nobody guesses the passwords of tests
	if !o.Sockets {
		wire := &http.Transport{DialContext: memory.NewNetwork().DialHost, DisableCompression: true}
		t.Cleanup(wire.CloseIdleConnections)
		h.wire = wire
	}
	if !o.Empty {
		records, err := scenario()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(h.Data, store.File), records, 0o600))
	}
	h.Open()
	t.Cleanup(h.Close)
	return h
}

// Open starts the service again after it was closed, on the same records.
func (h *House) Open() {
	h.t.Helper()
	var err error
	if !h.sockets {
		h.start.Memory, h.start.Listen = memory.NewNetwork(), ""
	}
	h.Running, err = service.Start(h.start,
		slog.New(slog.NewTextHandler(&h.witness, &slog.HandlerOptions{Level: slog.LevelError})))
	require.NoError(h.t, err)
	text, err := os.ReadFile(filepath.Join(h.Data, service.LocalAccessFile))
	require.NoError(h.t, err)
	var access service.LocalAccess
	require.NoError(h.t, json.Unmarshal(text, &access))
	h.Local = h.Client(access.Token)
}

// Close ends the service; it may be called before the test ends.
func (h *House) Close() {
	if h.Running == nil {
		return
	}
	running := h.Running
	h.Running = nil
	require.NoError(h.t, running.Close())
	require.False(h.t, h.witness.panicked.Load(), "a request met a panic: see the log above")
}

// witness passes on what the service logs, and remembers whether a request met a panic: nothing asked of the service
// may lead to one, whatever the test looks at.
type witness struct{ panicked atomic.Bool }

func (w *witness) Write(line []byte) (int, error) {
	if bytes.Contains(line, []byte("PANIC RECOVER")) {
		w.panicked.Store(true)
	}
	return os.Stderr.Write(line)
}

// Client makes a client with a token whose traffic is validated.
func (h *House) Client(token string) *client.Client {
	return &client.Client{Server: h.Running.URL, Token: token, HTTP: &http.Client{Transport: validating{h.t, h.wire}}}
}

// HTTP is a client whose traffic is not validated.
func (h *House) HTTP() *http.Client { return &http.Client{Transport: h.wire} }

// Dial connects to an instrument as somebody else on the bench would.
func (h *House) Dial(instrument string) transport.Link {
	h.t.Helper()
	config, err := h.Local.BenchConfig(h.t.Context())
	require.NoError(h.t, err)
	address, err := transport.Parse(config.Instruments[instrument].Address)
	require.NoError(h.t, err)
	link, err := transport.Open(h.t.Context(), address)
	require.NoError(h.t, err)
	h.t.Cleanup(func() { link.Close() })
	return link
}

// As makes an account with a role and gives its client.
func (h *House) As(role api.Role) *client.Client {
	h.t.Helper()
	name := "test " + string(role)
	const password = "a lantern in the fog"
	_, err := h.Local.AddAccount(h.t.Context(), api.NewAccount{Name: name, Role: role, Password: password})
	require.NoError(h.t, err)
	account, err := h.Client("").SignIn(h.t.Context(), name, password)
	require.NoError(h.t, err)
	return h.Client(account.Token)
}

// Until watches the live stream until an event satisfies the function.
func (h *House) Until(is func(client.Event) bool) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.t.Context(), patience)
	defer cancel()
	found := false
	err := h.Local.Live(ctx, "", 0, func(e client.Event) error {
		if is(e) {
			found = true
			cancel()
		}
		return nil
	}, nil)
	require.True(h.t, found, "waited in vain: %v", err)
}

// Start starts a run and returns when it is live.
func (h *House) Start(bay, procedure, serial string) api.RunSummary {
	h.t.Helper()
	run, err := h.Local.StartRun(h.t.Context(), api.StartRun{Bay: bay, Procedure: procedure, Serial: serial})
	require.NoError(h.t, err)
	require.Eventually(h.t, func() bool { return h.bay(bay).Status().State != api.BayStarting }, patience,
		20*time.Millisecond)
	return run
}

// Ended waits until a run has ended and its bay is free, and reads it.
func (h *House) Ended(run api.RunSummary) api.Run {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.t.Context(), patience)
	defer cancel()
	h.bay(run.Bay).Await(ctx, run.ID)
	var doc api.Run
	require.Eventually(h.t, func() bool {
		if state := h.bay(run.Bay).Status().State; state == api.BayLive || state == api.BayEnding {
			return false
		}
		var err error
		doc, err = h.Local.Run(h.t.Context(), run.ID)
		require.NoError(h.t, err)
		return doc.State != "live"
	}, patience, 20*time.Millisecond)
	return doc
}

// Asked waits until a bay asks something.
func (h *House) Asked(bay string) {
	h.t.Helper()
	require.Eventually(h.t, func() bool { return h.bay(bay).Status().Prompt != nil }, patience, 20*time.Millisecond)
}

// bay is one of the running service, of which waiting asks nothing by HTTP.
func (h *House) bay(name string) *engine.Bay {
	h.t.Helper()
	bay, err := h.Running.Engine.Bay(name)
	require.NoError(h.t, err)
	return bay
}

// Push stores a procedure.
func (h *House) Push(text string) {
	h.t.Helper()
	_, err := h.Local.PushProcedure(h.t.Context(), text, "")
	require.NoError(h.t, err)
}
