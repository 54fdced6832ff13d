package cli_test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3" // the driver of the store, to read a database that a kill left behind
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/cli"
	"usherbench/client"
	"usherbench/demo"
	"usherbench/service"
	"usherbench/simbench"
	"usherbench/store"
)

// binary builds the program once.
var binary = sync.OnceValues(func() (string, error) {
	folder, err := os.MkdirTemp("", "usher-test-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(folder, "usher")
	out, err := exec.Command("go", "build", "-ldflags", "-s -w", "-o", path, "usherbench/cmd/usher").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build: %w: %s", err, out)
	}
	return path, nil
})

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "warden" { // a service of these tests starts its own program as the warden
		os.Exit(cli.Run(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
	}
	code := m.Run()
	if path, err := binary(); err == nil {
		os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

// process is the program in a process of its own.
type process struct {
	cmd    *exec.Cmd
	stdin  io.WriteCloser
	stdout *bufio.Reader
	t      *testing.T
}

func start(t *testing.T, args ...string) *process {
	path, err := binary()
	require.NoError(t, err)
	p := &process{cmd: exec.Command(path, args...), t: t}
	p.cmd.Stderr = os.Stderr
	p.stdin, err = p.cmd.StdinPipe()
	require.NoError(t, err)
	out, err := p.cmd.StdoutPipe()
	require.NoError(t, err)
	p.stdout = bufio.NewReader(out)
	require.NoError(t, p.cmd.Start())
	t.Cleanup(func() { p.kill() })
	return p
}

// line reads lines until one begins so, and returns the rest of it.
func (p *process) line(beginning string) string {
	p.t.Helper()
	for {
		text, err := p.stdout.ReadString('\n')
		require.NoError(p.t, err, "the process ended before it said %q", beginning)
		if rest, ok := strings.CutPrefix(strings.TrimSpace(text), beginning); ok {
			return strings.TrimSpace(rest)
		}
	}
}

func (p *process) kill() {
	if p.cmd.ProcessState == nil {
		_ = p.cmd.Process.Kill() // it may have ended
		_ = p.cmd.Wait()
	}
}

// house is a bench and a service, each in a process of its own.
type house struct {
	t           *testing.T
	data, admin string
	config      string
}

func newHouse(t *testing.T, bays int, more ...string) *house {
	h := &house{t: t, data: t.TempDir()}
	h.config = filepath.Join(h.data, "usher.yaml")
	bench := start(t, append([]string{"simbench", "--port", "0", "--bays", fmt.Sprint(bays), "--write-config", h.config,
		"--until-input-ends"}, more...)...)
	h.admin = strings.TrimSuffix(bench.line("The simulated bench runs; its state is at"), "/state")
	t.Cleanup(func() { // a warden outlives its service until the bench is safe, and the bench is there for that
		assert.Eventually(t, func() bool { return exec.Command("pgrep", "-f", "warden "+h.data).Run() != nil }, time.Minute,
			20*time.Millisecond, "a warden of the house is left")
	})
	return h
}

// serve starts the service and gives a client of it.
func (h *house) serve(more ...string) (*process, *client.Client) {
	h.t.Helper()
	p := start(h.t, append([]string{"serve", "--data", h.data, "--listen", "127.0.0.1:0"}, more...)...)
	p.line("Usher Bench serves")
	text, err := os.ReadFile(filepath.Join(h.data, service.LocalAccessFile))
	require.NoError(h.t, err)
	var access service.LocalAccess
	require.NoError(h.t, json.Unmarshal(text, &access))
	return p, &client.Client{Server: access.Server, Token: access.Token}
}

func (h *house) scenario(cl *client.Client) {
	for _, text := range demo.Nameplates() {
		_, err := cl.PushNameplate(h.t.Context(), text)
		require.NoError(h.t, err)
	}
	for _, text := range demo.Procedures() {
		_, err := cl.PushProcedure(h.t.Context(), text, "")
		require.NoError(h.t, err)
	}
}

// state is what the bench itself knows.
func (h *house) state() []simbench.BayState {
	h.t.Helper()
	answer, err := http.Get(h.admin + "/state")
	require.NoError(h.t, err)
	defer answer.Body.Close()
	var states []simbench.BayState
	require.NoError(h.t, json.NewDecoder(answer.Body).Decode(&states))
	return states
}

func TestAKilledServiceLeavesTheBenchSafeAndTheRecordWhole(t *testing.T) {
	h := newHouse(t, 2)
	p, cl := h.serve("--no-warden")
	h.scenario(cl)
	var runs []api.RunSummary
	for _, bay := range []string{"bay1", "bay2"} {
		run, err := cl.StartRun(t.Context(), api.StartRun{Bay: bay, Procedure: "tern-soak", Serial: "TN-" + bay})
		require.NoError(t, err)
		runs = append(runs, run)
	}
	// Watch until four seconds are recorded, and note the newest frame of each run when the kill comes.
	newest := map[string]float64{}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	err := cl.Live(ctx, "", 0, func(e client.Event) error {
		var f api.Frames
		if e.Kind == api.EventFrames && e.Into(&f) == nil {
			newest[f.Run] = f.T[len(f.T)-1]
		}
		if newest[runs[0].ID] > 4 && newest[runs[1].ID] > 4 {
			require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
			_ = p.cmd.Wait()
			return io.EOF
		}
		return nil
	}, nil)
	require.ErrorIs(t, err, io.EOF)
	for _, s := range h.state() {
		require.True(t, s.SourceOn && s.LoadOn, "nobody was there to switch off")
	}

	// A second kill right at the start must not do more harm.
	again := start(t, "serve", "--data", h.data, "--listen", "127.0.0.1:0", "--no-warden")
	again.kill()
	restarted := time.Now()
	p, cl = h.serve()
	for _, s := range h.state() {
		assert.False(t, s.SourceOn || s.LoadOn, "%s is off before the service takes requests", s.Bay)
		last := s.History[len(s.History)-2:]
		assert.Equal(t, []string{"load", "source"}, []string{last[0].What, last[1].What}, "load first")
		t.Logf("%s off %.0f ms after the restart", s.Bay, last[1].At.Sub(restarted).Seconds()*1e3)
	}
	for _, run := range runs {
		doc, err := cl.Run(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason, "the service was killed")
		w, err := cl.Window(t.Context(), run.ID, []string{"load.volts"}, client.Range{}, 1000)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, w.To, newest[run.ID]-store.FlushInterval.Seconds()-0.15,
			"frames older than one second are on record")
		entries, err := cl.Journal(t.Context(), api.JournalFilter{Run: run.ID, Limit: 20})
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(entries), "left behind by a killed service")
	}
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, p.cmd.Wait())
	db, err := sql.Open("sqlite3", filepath.Join(h.data, "usher.db"))
	require.NoError(t, err)
	defer db.Close()
	var ok string
	require.NoError(t, db.QueryRow("PRAGMA integrity_check").Scan(&ok))
	assert.Equal(t, "ok", ok)
}

func TestAKilledServiceSwitchesOffWhatWasSwitchedOnByHand(t *testing.T) {
	h := newHouse(t, 1)
	p, cl := h.serve("--no-warden")
	_, err := cl.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: "output", Value: "on"})
	require.NoError(t, err)
	p.kill()
	require.True(t, h.state()[0].SourceOn)
	h.serve()
	assert.False(t, h.state()[0].SourceOn, "off before the service takes requests")
}

func TestATerminatedServiceSwitchesOffBeforeItEnds(t *testing.T) {
	h := newHouse(t, 1)
	p, cl := h.serve()
	h.scenario(cl)
	_, err := cl.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "tern-soak", Serial: "TN-1"})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return h.state()[0].LoadOn }, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, p.cmd.Wait(), "a service that was asked to stop ends well")
	assert.False(t, h.state()[0].SourceOn)
	_, cl = h.serve()
	run, err := cl.Run(t.Context(), "last")
	require.NoError(t, err)
	assert.Equal(t, "stopped by the service, which is shutting down", run.Reason)
}

func TestTheBenchIsBrokenAndMendedFromTheCommandLine(t *testing.T) {
	h := newHouse(t, 1)
	path, err := binary()
	require.NoError(t, err)
	run := func(args ...string) (string, error) {
		out, err := exec.Command(path, append([]string{"simbench", "--admin", h.admin}, args...)...).CombinedOutput()
		return string(out), err
	}
	out, err := run("clip", "bay1", "TN-2219", "--fault", "dead")
	require.NoError(t, err, out)
	assert.Contains(t, out, `"fault": "dead"`)
	out, err = run("state")
	require.NoError(t, err, out)
	assert.Contains(t, out, "TN-2219")
	out, err = run("fault", "supply1", "hang")
	require.NoError(t, err, out)
	out, err = run("fault", "supply9", "hang")
	require.Error(t, err)
	assert.Contains(t, out, `no instrument "supply9"`)
	out, err = run("clip", "bay1", "TN-1", "--fault", "cracked")
	require.Error(t, err)
	assert.Contains(t, out, "not a fault of a converter")
}
