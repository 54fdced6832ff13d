package cli_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/store"
)

// desks lists the processes in which a service does heavy work.
func desks(t *testing.T, service int) (pids []int) {
	children, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", service))
	require.NoError(t, err)
	for _, file := range children {
		text, err := os.ReadFile(file)
		if err != nil {
			continue // a thread that has ended
		}
		for _, word := range strings.Fields(string(text)) {
			pid, err := strconv.Atoi(word)
			require.NoError(t, err)
			command, err := os.ReadFile("/proc/" + word + "/cmdline")
			if err == nil && bytes.Contains(command, []byte("\x00desk\x00")) {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// Heavy work is done beside the service, after whatever else the computer does, and ends with it.
func TestHeavyWorkIsDoneInAProcessOfItsOwn(t *testing.T) {
	h := newHouse(t, 1, "--time-factor", "20")
	p, cl := h.serve()
	h.scenario(cl)
	run, err := cl.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "tern-line-load", Serial: "TN-2208"})
	require.NoError(t, err)
	awaitRun(t, cl, run.ID, time.Minute)
	service := p.cmd.Process.Pid
	require.Empty(t, desks(t, service), "none is there before it is needed")
	for range 2 {
		var report bytes.Buffer
		require.NoError(t, cl.Report(t.Context(), run.ID, client.Printed{}, &report))
		assert.True(t, bytes.HasPrefix(report.Bytes(), []byte("%PDF")))
		require.Len(t, desks(t, service), 1, "one answers one after another")
	}
	pid := desks(t, service)[0]
	nice, err := syscall.Getpriority(syscall.PRIO_PROCESS, pid)
	require.NoError(t, err)
	assert.Equal(t, 20-10, nice, "the kernel counts from 20 downwards")
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool { return len(desks(t, service)) == 0 }, time.Minute, 10*time.Millisecond)
	var report bytes.Buffer
	require.NoError(t, cl.Report(t.Context(), run.ID, client.Printed{}, &report), "another one answers")
	h.bringIn(cl, service)
	pid = desks(t, service)[0]
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
	_ = p.cmd.Wait()
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, time.Minute, 10*time.Millisecond,
		"it ends with the service")
}

// bringIn brings in a log, at first with the process killed that reads it: nothing of it is on record then.
func (h *house) bringIn(cl *client.Client, service int) {
	h.t.Helper()
	var text strings.Builder
	text.WriteString("seconds;volts;amps\n")
	for k := range 300_000 {
		fmt.Fprintf(&text, "%d;%.4f;-2\n", k, 25-1e-5*float64(k))
	}
	request := api.ImportLog{Name: "log.csv", Text: text.String(), Serial: "GP-7", Mapping: api.Mapping{Source: "cellar",
		Separator: ";", Time: api.MappedColumn{Column: "seconds", Unit: "s"},
		Volts: api.MappedColumn{Column: "volts", Unit: "V"}, Amps: api.MappedColumn{Column: "amps", Unit: "A"}}}
	before, err := cl.Runs(h.t.Context(), api.RunFilter{})
	require.NoError(h.t, err)
	answered := make(chan error)
	go func() {
		_, err := cl.Import(h.t.Context(), request)
		answered <- err
	}()
	made := filepath.Join(h.data, "making-*", store.File)
	require.Eventually(h.t, func() bool {
		found, err := filepath.Glob(made)
		return err == nil && len(found) == 1
	}, time.Minute, time.Millisecond)
	for _, pid := range desks(h.t, service) {
		require.NoError(h.t, syscall.Kill(pid, syscall.SIGKILL))
	}
	var refused *api.Problem
	require.ErrorAs(h.t, <-answered, &refused)
	assert.Equal(h.t, http.StatusServiceUnavailable, refused.Status)
	after, err := cl.Runs(h.t.Context(), api.RunFilter{})
	require.NoError(h.t, err)
	assert.Equal(h.t, before, after)
	left, err := filepath.Glob(made)
	require.NoError(h.t, err)
	assert.Empty(h.t, left)
	run, err := cl.Import(h.t.Context(), request)
	require.NoError(h.t, err)
	assert.Equal(h.t, "done", run.State)
	assert.InDelta(h.t, 299_999, run.Duration, 1e-6)
	sources, err := cl.Sources(h.t.Context())
	require.NoError(h.t, err)
	assert.Contains(h.t, sources, "cellar")
}
