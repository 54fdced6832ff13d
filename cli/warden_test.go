package cli_test

import (
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/simbench"
)

// bound is within which everything is off: a second, as docs/safety.md promises, and what processes wait for one
// another on a busy computer. The promise itself is held in simulated time.
const bound = 3 * time.Second

// offAfter waits until a bay is off by the stand-ins' own record, and tells how long after a time the last
// output went off.
func (h *house) offAfter(bay int, since time.Time) time.Duration {
	h.t.Helper()
	var s simbench.BayState
	require.Eventually(h.t, func() bool { s = h.state()[bay]; return !s.SourceOn && !s.LoadOn }, 10*time.Second,
		5*time.Millisecond, "nobody switched off")
	last := s.History[len(s.History)-2:]
	assert.Equal(h.t, []string{"load", "source"}, []string{last[0].What, last[1].What}, "load first")
	took := last[1].At.Sub(since)
	h.t.Logf("%s off after %s", s.Bay, took.Round(time.Millisecond))
	return took
}

func (h *house) soak(cl *client.Client, bay string) api.RunSummary {
	h.t.Helper()
	run, err := cl.StartRun(h.t.Context(), api.StartRun{Bay: bay, Procedure: "tern-soak", Serial: "TN-" + bay})
	require.NoError(h.t, err)
	require.Eventually(h.t, func() bool {
		for _, s := range h.state() {
			if s.Bay == bay {
				return s.SourceOn && s.LoadOn
			}
		}
		return false
	}, 10*time.Second, 10*time.Millisecond)
	return run
}

func TestTheWardenSwitchesOffWhenTheServiceIsKilled(t *testing.T) {
	h := newHouse(t, 2)
	p, cl := h.serve()
	h.scenario(cl)
	runs := []api.RunSummary{h.soak(cl, "bay1"), h.soak(cl, "bay2")}
	killed := time.Now()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
	for bay := range runs {
		assert.Less(t, h.offAfter(bay, killed), bound)
	}
	_, cl = h.serve()
	for _, run := range runs {
		doc, err := cl.Run(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason, "the warden made the outputs safe at", "the next service finds it so and says so")
	}
	entries, err := cl.Journal(t.Context(), api.JournalFilter{Bay: "bay1", Limit: 20})
	require.NoError(t, err)
	assert.True(t, journalHas(entries, "made safe by the warden", "the service died"), "%v", entries)
}

func journalHas(entries []api.JournalEntry, what, detail string) bool {
	for _, e := range entries {
		if e.What == what && strings.Contains(e.Detail, detail) {
			return true
		}
	}
	return false
}

func TestTheWardenSwitchesOffWhenTheServiceStandsStill(t *testing.T) {
	h := newHouse(t, 1)
	p, cl := h.serve()
	h.scenario(cl)
	run := h.soak(cl, "bay1")
	stopped := time.Now()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGSTOP))
	assert.Less(t, h.offAfter(0, stopped), bound)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGCONT))
	require.Eventually(t, func() bool {
		doc, err := cl.Run(t.Context(), run.ID)
		return err == nil && doc.State == "aborted"
	}, 10*time.Second, 20*time.Millisecond, "a service that wakes again does not go on as if nothing had been")
	doc, err := cl.Run(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Contains(t, doc.Reason, "the warden")
	state := h.state()[0]
	assert.False(t, state.SourceOn || state.LoadOn)
	require.Eventually(t, func() bool { // the run is on record before its bay is free
		bays, err := cl.Bays(t.Context())
		return err == nil && bays[0].State == api.BayIdle
	}, 10*time.Second, 20*time.Millisecond)
	again := h.soak(cl, "bay1")
	_, err = cl.Stop(t.Context(), again.Bay, "")
	require.NoError(t, err, "and the bay can be used again")
}

func TestADrillShowsThatTheWardenActs(t *testing.T) {
	h := newHouse(t, 2)
	_, cl := h.serve()
	h.scenario(cl)
	_, err := cl.Drill(t.Context(), "bay1")
	assert.ErrorContains(t, err, "nothing is energised")
	run := h.soak(cl, "bay1")
	other := h.soak(cl, "bay2")
	began := time.Now()
	drill, err := cl.Drill(t.Context(), "bay1")
	require.NoError(t, err)
	assert.Less(t, drill.OffAfter, bound.Seconds())
	assert.Less(t, h.offAfter(0, began), bound)
	assert.Equal(t, []string{"load (channel 1 of load1)", "source (channel 1 of supply1)"}, drill.Off)
	require.Eventually(t, func() bool {
		doc, err := cl.Run(t.Context(), run.ID)
		return err == nil && strings.Contains(doc.Reason, "the warden")
	}, 10*time.Second, 20*time.Millisecond)
	doc, err := cl.Run(t.Context(), other.ID)
	require.NoError(t, err)
	assert.Equal(t, "live", doc.State, "the other bay goes on")
	_, err = cl.StopAll(t.Context(), "")
	require.NoError(t, err)
}

// A whole service that gives no sign of life is drilled too, and the drill is remembered.
func TestADrillOfTheWholeHouse(t *testing.T) {
	h := newHouse(t, 2)
	_, cl := h.serve()
	h.scenario(cl)
	last, err := cl.LastDrill(t.Context())
	require.NoError(t, err)
	assert.Nil(t, last.At)
	_, err = cl.DrillHouse(t.Context())
	assert.ErrorContains(t, err, "nothing is energised")
	for _, bay := range []string{"bay1", "bay2"} {
		h.soak(cl, bay)
	}
	drill, err := cl.DrillHouse(t.Context())
	require.NoError(t, err)
	require.Len(t, drill.Bays, 2)
	for k, d := range drill.Bays {
		assert.Less(t, d.OffAfter, bound.Seconds(), d.Bay)
		assert.False(t, h.state()[k].SourceOn || h.state()[k].LoadOn)
	}
	last, err = cl.LastDrill(t.Context())
	require.NoError(t, err)
	require.NotNil(t, last.At)
	assert.Contains(t, last.Words, "bay1 off after")
}

// A stall is survived like a kill: what the warden switched off goes on after a rest, where the procedure allows it.
func TestAStallIsSurvivedLikeAKill(t *testing.T) {
	h := newHouse(t, 1)
	_, cl := h.serve()
	h.scenario(cl)
	_, err := cl.PushProcedure(t.Context(), `procedure: endless
for: tern
resume: {rest: 1 s, within: 1 h}
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - hold: {for: 100 h}
`, "")
	require.NoError(t, err)
	run, err := cl.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "endless", Serial: "TN-1"})
	require.NoError(t, err)
	on := func() bool { s := h.state()[0]; return s.SourceOn && s.LoadOn }
	require.Eventually(t, on, 20*time.Second, 20*time.Millisecond)
	drill, err := cl.Drill(t.Context(), "bay1")
	require.NoError(t, err)
	assert.Less(t, drill.OffAfter, bound.Seconds())
	require.Eventually(t, on, 20*time.Second, 20*time.Millisecond, "it goes on")
	var doc api.Run
	require.Eventually(t, func() bool {
		doc, err = cl.Run(t.Context(), run.ID)
		return err == nil && doc.State == "live" && len(doc.Breaks) == 1
	}, 20*time.Second, 20*time.Millisecond)
	assert.Greater(t, doc.Breaks[0].T1, doc.Breaks[0].T0)
	bay, err := cl.Bay(t.Context(), "bay1")
	require.NoError(t, err)
	assert.Nil(t, bay.Held, "nobody has to say go on")
	_, err = cl.Stop(t.Context(), "bay1", "")
	require.NoError(t, err)
	doc, err = cl.Run(t.Context(), run.ID)
	require.NoError(t, err)
	words := ""
	for _, m := range doc.Marks {
		words += m.Label + "\n"
	}
	assert.Contains(t, words, "nobody looked after the run")
	assert.Contains(t, words, "goes on after")
}

func TestAnInstrumentThatTakesOneConnectionOnlyIsTakenOver(t *testing.T) {
	h := newHouse(t, 1, "--one-connection")
	p, cl := h.serve()
	h.scenario(cl)
	h.soak(cl, "bay1")
	stopped := time.Now()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGSTOP), "a stopped service holds its sockets")
	assert.Less(t, h.offAfter(0, stopped), bound, "the warden ends it to get at the instruments")
	state, err := p.cmd.Process.Wait()
	require.NoError(t, err)
	assert.Equal(t, syscall.SIGKILL, state.Sys().(syscall.WaitStatus).Signal())
}

func TestAWardenThatDiesIsStartedAgain(t *testing.T) {
	h := newHouse(t, 1)
	p, cl := h.serve()
	h.scenario(cl)
	h.soak(cl, "bay1")
	first := wardenOf(t, p.cmd.Process.Pid)
	require.NoError(t, syscall.Kill(first, syscall.SIGKILL))
	require.Eventually(t, func() bool {
		pid := wardenOf(t, p.cmd.Process.Pid)
		return pid != 0 && pid != first
	}, 10*time.Second, 20*time.Millisecond)
	killed := time.Now()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
	assert.Less(t, h.offAfter(0, killed), bound, "the new one knows what is energised")
}

// wardenOf is the process of a service's warden; 0 if there is none.
func wardenOf(t *testing.T, service int) int {
	out, err := exec.Command("pgrep", "-P", strconv.Itoa(service)).Output()
	if err != nil {
		return 0
	}
	pid, err := strconv.Atoi(strings.Fields(string(out))[0])
	require.NoError(t, err)
	return pid
}

func TestTheInstrumentsOwnWatchdogIsTheLastResort(t *testing.T) {
	h := newHouse(t, 1)
	p, cl := h.serve()
	h.scenario(cl)
	h.soak(cl, "bay1")
	killed := time.Now()
	warden := wardenOf(t, p.cmd.Process.Pid)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGSTOP), "so that it does not start the warden again")
	require.NoError(t, syscall.Kill(warden, syscall.SIGKILL))
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
	var s simbench.BayState
	require.Eventually(t, func() bool { s = h.state()[0]; return !s.SourceOn && !s.LoadOn }, 20*time.Second,
		20*time.Millisecond, "armed and fed while the output was on")
	took := s.History[len(s.History)-1].At.Sub(killed)
	assert.Greater(t, took, time.Second, "nobody else was there")
	assert.Less(t, took, 7*time.Second)
}
