package bars

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service"
	"usherbench/store"
)

// rudeFor is how long the rude viewer is borne, unless RUDE says so.
const rudeFor = time.Minute

// gigabyte is what memory the service gets.
const gigabyte = 1 << 30

// process is the service as a process of its own, whose memory is bounded.
func process(b *testing.B, data, config string) (cl *client.Client, pid int) {
	bound := strconv.Itoa(gigabyte)
	cmd := exec.Command("prlimit", "--data="+bound, "../bin/usher", "serve", "--data", data, "--config", config,
		"--listen", "127.0.0.1:0")
	cmd.Stderr = os.Stderr
	require.NoError(b, cmd.Start())
	b.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	var access service.LocalAccess
	for access.Server == "" {
		text, err := os.ReadFile(filepath.Join(data, service.LocalAccessFile))
		if err != nil || json.Unmarshal(text, &access) != nil {
			time.Sleep(10 * time.Millisecond)
		}
	}
	return &client.Client{Server: access.Server, Token: access.Token}, cmd.Process.Pid
}

// resident is how much memory a process had at most, MB.
func resident(b *testing.B, pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(b, err, "the service is there")
	_, line, _ := strings.Cut(string(text), "VmHWM:")
	kilobytes, err := strconv.ParseFloat(strings.Fields(line)[0], 64)
	require.NoError(b, err)
	return kilobytes / 1e3
}

// wide is a workbook with one cell, in its last column.
func wide() ([]byte, error) {
	book := excelize.NewFile()
	var file bytes.Buffer
	err := errors.Join(book.SetCellValue("Sheet1", "A1", "time [s]"), book.SetCellValue("Sheet1", "XFD1048576", 1),
		book.Write(&file))
	return file.Bytes(), err
}

// nested is a procedure of loops in loops.
func nested() string {
	var text strings.Builder
	text.WriteString("procedure: nested\nfor: any\nneeds: {source: {volts: 60 V}, load: {volts: 20 V}}\nstages:\n")
	indent := "  "
	for range 6 {
		text.WriteString(indent + "- repeat:\n" + indent + "    times: 1000\n" + indent + "    stages:\n")
		indent += "      "
	}
	text.WriteString(indent + "- hold: {for: 1 s}\n")
	return text.String()
}

// unknown is a procedure of keys that there are not.
func unknown() string {
	var text strings.Builder
	text.WriteString("procedure: unknown\n")
	for k := range 20_000 {
		fmt.Fprintf(&text, "key%d: 1\n", k)
	}
	return text.String()
}

// rude is the argument with which this program is the viewer, whose computer is another one: what it costs here comes
// after the bench.
const rude = "rude"

// rudely asks a server for what takes most, again and again, each by many at a time, until its input ends. It prints
// how often it asked.
func rudely(server, token, long string) error {
	ctx, leave := context.WithCancel(context.Background())
	defer leave()
	viewer := &client.Client{Server: server, Token: token}
	book, err := wide()
	if err != nil {
		return err
	}
	var asked atomic.Int64
	var all sync.WaitGroup
	for _, ask := range []struct {
		atOnce int
		do     func() error
	}{
		{2, func() error { _, err := viewer.Rehearse(ctx, api.Draft{Text: nested()}); return err }},
		{2, func() error { _, err := viewer.LookAtLog(ctx, api.ImportLog{Name: "a.xlsx", Data: book}); return err }},
		{16, func() error { return viewer.Report(ctx, long, client.Printed{}, io.Discard) }},
		{2, func() error { _, err := viewer.CheckProcedure(ctx, unknown()); return err }},
	} {
		for range ask.atOnce {
			all.Go(func() {
				for ctx.Err() == nil {
					_ = ask.do() // most are refused
					asked.Add(1)
				}
			})
		}
	}
	_, err = io.Copy(io.Discard, os.Stdin)
	leave()
	all.Wait()
	fmt.Println(asked.Load())
	return err
}

// BenchmarkRude has a viewer ask the most that one can, of a service that has a gigabyte and runs in four bays.
func BenchmarkRude(b *testing.B) {
	const bays = 4
	lasts := rudeFor
	if text := os.Getenv("RUDE"); text != "" {
		var err error
		lasts, err = time.ParseDuration(text)
		require.NoError(b, err)
	}
	loads := make([]stoppable, bays)
	data := b.TempDir()
	config, err := yaml.Marshal(converters(b, bays, func(i int) func(string) string { return loads[i].load }))
	require.NoError(b, err)
	file := filepath.Join(b.TempDir(), "usher.yaml")
	require.NoError(b, os.WriteFile(file, config, 0o600))
	cl, pid := process(b, data, file)
	ctx := b.Context()
	_, err = cl.AddAccount(ctx, api.NewAccount{Name: "vera", Role: api.Viewer, Password: "nobody bears her"})
	require.NoError(b, err)
	account, err := cl.SignIn(ctx, "vera", "nobody bears her")
	require.NoError(b, err)
	long, err := cl.Import(ctx, api.ImportLog{Name: "log.csv", Text: foreign(1_000_000), Serial: "GP-1",
		Mapping: api.Mapping{Separator: ";", Time: api.MappedColumn{Column: "time [s]", Unit: "s"},
			Volts: api.MappedColumn{Column: "volts [V]", Unit: "V"}, Amps: api.MappedColumn{Column: "amps [A]", Unit: "A"}}})
	require.NoError(b, err)
	_, err = cl.PushProcedure(ctx, guarded, "")
	require.NoError(b, err)
	runs := make([]string, bays)
	for i := range runs {
		run, err := cl.StartRun(ctx, api.StartRun{Bay: fmt.Sprintf("bay%d", i), Procedure: "guarded", Serial: "X"})
		require.NoError(b, err)
		runs[i] = run.ID
	}

	self, err := os.Executable()
	require.NoError(b, err)
	viewer := exec.Command("nice", "-n", "19", self, rude, cl.Server, account.Token, long.ID)
	var asked bytes.Buffer
	viewer.Stdout, viewer.Stderr = &asked, os.Stderr
	going, err := viewer.StdinPipe()
	require.NoError(b, err)
	require.NoError(b, viewer.Start())
	time.Sleep(lasts)
	var off time.Duration
	for i, id := range runs { // while she still asks
		run, err := cl.Run(ctx, id)
		require.NoError(b, err)
		require.Equal(b, store.Live, run.State, run.Reason)
		began := time.Now()
		_, err = cl.Stop(ctx, fmt.Sprintf("bay%d", i), "")
		require.NoError(b, err)
		off = max(off, time.Unix(0, loads[i].off.Load()).Sub(began))
		require.Positive(b, off, "it was switched off after the request")
	}
	require.NoError(b, going.Close())
	require.NoError(b, viewer.Wait())
	rate := 50.0
	for _, id := range runs {
		run, err := cl.Run(ctx, id)
		require.NoError(b, err)
		for run.State == "live" {
			time.Sleep(10 * time.Millisecond)
			run, err = cl.Run(ctx, id)
			require.NoError(b, err)
		}
		require.Greater(b, run.Duration, lasts.Seconds()-5, "%s: %s", run.State, run.Reason)
		rate = min(rate, float64(run.Frames)/run.Duration)
	}
	times, err := strconv.ParseFloat(strings.TrimSpace(asked.String()), 64)
	require.NoError(b, err)
	b.ReportMetric(times/lasts.Seconds(), "requests/s")
	atLeast("rude viewer, 1 GB: frames a second", rate, 48, "%.1f")
	atMost("rude viewer, 1 GB: stop, worst of 4 (ms)", off.Seconds()*1e3, 50, "%.1f")
	atMost("rude viewer, 1 GB: memory of the service (MB)", resident(b, pid), gigabyte/1e6, "%.0f")
}
