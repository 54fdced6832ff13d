package bars

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
)

// benchOutside starts a simulated bench in a process of its own and gives its configuration.
func benchOutside(b *testing.B, bays int, more ...string) bench.Config {
	b.Helper()
	file := filepath.Join(b.TempDir(), "usher.yaml")
	cmd := exec.Command("../bin/usher", append([]string{"simbench", "--port", "0", "--bays", fmt.Sprint(bays),
		"--write-config", file, "--until-input-ends"}, more...)...)
	input, err := cmd.StdinPipe()
	require.NoError(b, err)
	out, err := cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start(), "run make build")
	b.Cleanup(func() { _ = input.Close(); _ = cmd.Wait() })
	_, err = bufio.NewReader(out).ReadString('\n')
	require.NoError(b, err)
	go io.Copy(io.Discard, out) //nolint:errcheck // nobody reads the rest
	text, err := os.ReadFile(file)
	require.NoError(b, err)
	var config bench.Config
	require.NoError(b, yaml.Unmarshal(text, &config))
	for name, bay := range config.Bays {
		bay.Handler = "" // all units are good ones
		config.Bays[name] = bay
	}
	return config
}

func cpuSeconds() float64 {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u) // it does not fail for oneself
	return float64(u.Utime.Sec+u.Stime.Sec) + float64(u.Utime.Usec+u.Stime.Usec)/1e6
}

// residentMB is the memory of this process.
func residentMB() float64 {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	pages, _ := strconv.ParseFloat(strings.Fields(string(text))[1], 64)
	return pages * float64(os.Getpagesize()) / 1e6
}

// running starts a run in every bay and measures the engine for a while: the share of a core and the frames a
// second of a bay.
func running(b *testing.B, bays int, procedure string, more ...string) (cores, rate, memory float64) {
	b.Helper()
	e, stop := conducting(b, benchOutside(b, bays, more...))
	defer stop()
	var wg sync.WaitGroup
	for _, bay := range e.Bays() {
		wg.Add(1)
		go func() {
			defer wg.Done()
			if _, err := bay.StartRun(context.Background(), "bars", api.StartRun{Procedure: procedure,
				Serial: "TN-1"}); err != nil {
				b.Error(err)
			}
		}()
	}
	wg.Wait()
	time.Sleep(2 * time.Second)
	const seconds = 8
	before, began := cpuSeconds(), time.Now()
	for range seconds {
		time.Sleep(time.Second)
		for _, bay := range e.Bays() {
			rate += bay.Status().FrameRate / float64(bays) / seconds
		}
	}
	cores = (cpuSeconds() - before) / time.Since(began).Seconds()
	return cores, rate, residentMB()
}

// BenchmarkScale measures what 256 bays at 50 frames a second cost: supply and load with eight quantities read
// over sockets from another process, guarded, recorded and published.
func BenchmarkScale(b *testing.B) {
	few, _, _ := running(b, 8, "guarded")
	many, rate, memory := running(b, 256, "guarded")
	b.ReportMetric(many, "cores")
	b.ReportMetric(rate, "frames/s")
	atLeast("scale, frames a second of each of 256 bays", rate, 48, "%.1f")
	atMost("scale, cores of 256 bays × 50 Hz", many, 1.5, "%.2f")
	atMost("scale, memory (MB)", memory, 400, "%.0f")
	atMost("scale, cost of a bay among 256 against 8", (many/256)/(few/8), 1.2, "%.2f")
}

// BenchmarkCells measures what 64 batteries that are cycled at once cost: a cycler, a meter and a thermometer
// each, a frame a second on record.
func BenchmarkCells(b *testing.B) {
	cores, _, memory := running(b, 64, "gannet-cycle", "--layouts", strings.TrimSuffix(strings.Repeat("battery,", 64),
		","))
	b.ReportMetric(cores, "cores")
	atMost("cells, cores of 64 batteries cycled at once", cores, 0.8, "%.2f")
	atMost("cells, memory (MB)", memory, 250, "%.0f")
}

// BenchmarkSlowInstruments measures that several slow instruments keep their own best rate beside a fast one
// that keeps its.
func BenchmarkSlowInstruments(b *testing.B) {
	const answersAfter = 80 * time.Millisecond
	var fast breachable
	config := bench.Config{Instruments: map[string]api.InstrumentConfig{
		"supply": {Address: "tcp://" + serve(b, switched(supplyAnswer)), Dialect: "sim-supply"},
		"load":   {Address: "tcp://" + serve(b, switched(fast.load)), Dialect: "sim-load"},
	}, Bays: map[string]api.BayConfig{}}
	seats := map[string]api.SeatConfig{"source": {Instrument: "supply"}, "load": {Instrument: "load"}}
	for i := range 4 {
		name := fmt.Sprintf("thermo%d", i+1)
		config.Instruments[name] = api.InstrumentConfig{Dialect: "sim-thermometer", Address: "tcp://" +
			serve(b, func(line string) string {
				switch {
				case strings.HasPrefix(line, "*IDN?"):
					return "Usher Bench,SIM-T8,0,1"
				case strings.HasPrefix(line, "MEAS"):
					time.Sleep(answersAfter)
					return "23.5"
				}
				return `0,"No error"`
			})}
		seats[name] = api.SeatConfig{Instrument: name}
	}
	config.Bays["bay1"] = api.BayConfig{Seats: seats}
	e, stop := conducting(b, config)
	defer stop()
	bay, err := e.Bay("bay1")
	require.NoError(b, err)
	_, err = bay.StartRun(context.Background(), "bars", api.StartRun{Procedure: "guarded", Serial: "X"})
	require.NoError(b, err)
	time.Sleep(2 * time.Second)
	before, began := e.Bench().Statistics(), time.Now()
	time.Sleep(4 * time.Second)
	after, past := e.Bench().Statistics(), time.Since(began).Seconds()
	worst := 1e9
	for i := range 4 {
		name := fmt.Sprintf("thermo%d", i+1)
		worst = min(worst, float64(after[name].Messages-before[name].Messages)/past)
	}
	b.ReportMetric(worst, "readings/s")
	atLeast("slow instruments (80 ms), share of best rate", worst*answersAfter.Seconds(), 0.95, "%.2f")
	atLeast("beside them, frames/s of the bay", bay.Status().FrameRate, 48, "%.1f")
}
