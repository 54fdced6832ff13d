package bars

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/core/nameplate"
	"usherbench/demo"
	"usherbench/engine"
	"usherbench/instrument/dialect"
	"usherbench/instrument/scpi"
	"usherbench/instrument/transport"
	"usherbench/store"
)

// serve answers each line on a socket.
func serve(b *testing.B, answer func(line string) string) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				lines := bufio.NewReader(conn)
				for {
					line, err := lines.ReadString('\n')
					if err != nil {
						return
					}
					text := answer(strings.TrimSpace(line))
					if text == "" { // it was no question
						continue
					}
					if _, err := conn.Write([]byte(text + "\n")); err != nil {
						return
					}
				}
			}()
		}
	}()
	return listener.Addr().String()
}

// BenchmarkRoundTrip compares queries through the SCPI client with a bare ping-pong of the same messages.
func BenchmarkRoundTrip(b *testing.B) {
	const message, reply, each = "MEAS:VOLT? (@1);CURR? (@1);:OUTP:LIM? (@1)", "47.997;2.6268;0", 100
	address := serve(b, func(string) string { return reply })
	at, err := transport.Parse("tcp://" + address)
	require.NoError(b, err)
	client := scpi.New(at, scpi.Options{})
	defer client.Close()
	conn, err := net.Dial("tcp", address)
	require.NoError(b, err)
	defer conn.Close()
	bare := bufio.NewReader(conn)
	ratio := median(1500, func() float64 { // in short turns, so that both meet the same machine
		began := time.Now()
		for range each {
			if _, err := conn.Write([]byte(message + "\n")); err != nil {
				b.Fatal(err)
			}
			if _, err := bare.ReadSlice('\n'); err != nil {
				b.Fatal(err)
			}
		}
		plain := time.Since(began)
		began = time.Now()
		for range each {
			if _, err := client.Query(context.Background(), scpi.Request{Message: message}); err != nil {
				b.Fatal(err)
			}
		}
		return plain.Seconds() / time.Since(began).Seconds()
	})
	b.ReportMetric(ratio, "ratio")
	atLeast("round trip, against a bare socket", ratio, 0.95, "%.2f")
}

// breachable is a load whose volts run away on demand, with the time of the breach and of the off-command.
type breachable struct {
	breach   atomic.Bool
	breached atomic.Int64
	off      atomic.Int64
}

func (l *breachable) load(line string) string {
	switch {
	case strings.HasPrefix(line, "*IDN?"):
		return "Usher Bench,SIM-L1,0,1"
	case strings.HasPrefix(line, "MEAS"):
		if l.breach.Load() {
			l.breached.CompareAndSwap(0, time.Now().UnixNano())
			return "18.0000;2.0000"
		}
		return "15.0000;2.0000"
	case strings.HasPrefix(line, "INP OFF") && l.breached.Load() != 0:
		l.off.CompareAndSwap(0, time.Now().UnixNano())
	}
	return `0,"No error"`
}

// switched is a stand-in that knows whether its output is on, and answers all else as given.
func switched(answer func(line string) string) func(line string) string {
	var on atomic.Bool
	return func(line string) string {
		switch {
		case strings.HasPrefix(line, "OUTP ON"), strings.HasPrefix(line, "INP ON"):
			on.Store(true)
		case strings.HasPrefix(line, "OUTP OFF"), strings.HasPrefix(line, "INP OFF"):
			on.Store(false)
		case strings.HasPrefix(line, "OUTP?"), strings.HasPrefix(line, "INP?"):
			return map[bool]string{true: "1", false: "0"}[on.Load()]
		case strings.Contains(line, "TRIP?"):
			return "0"
		}
		return answer(line)
	}
}

func supplyAnswer(line string) string {
	switch {
	case strings.HasPrefix(line, "*IDN?"):
		return "Usher Bench,SIM-S2,0,1"
	case strings.HasPrefix(line, "MEAS"):
		return "48.000;0.7000;0"
	case strings.HasPrefix(line, "VOLT:PROT?"), strings.HasPrefix(line, "CURR:PROT?"):
		return "88"
	}
	return `0,"No error"`
}

const guarded = `procedure: guarded
for: any
needs: {source: {volts: 60 V}, load: {volts: 20 V}}
record: {every: 20 ms}
guards: [{when: "load.volts > 17 V"}]
stages:
  - set: {source: {volts: 48 V, output: on}, load: {amps: 2 A, output: on}}
  - hold: {for: 10 h}
`

// conducting opens an engine with records of its own that know the procedures guarded and gannet-cycle. stop
// closes both.
func conducting(b *testing.B, config bench.Config) (e *engine.Engine, stop func()) {
	b.Helper()
	s, err := store.Open(b.TempDir() + "/usher.db")
	require.NoError(b, err)
	_, _, err = s.PushRevision(store.Revision{Name: "guarded", For: "any", Text: guarded})
	require.NoError(b, err)
	for _, text := range demo.Nameplates() {
		plate, err := nameplate.Parse([]byte(text))
		require.NoError(b, err)
		require.NoError(b, s.PutNameplate(store.Nameplate{Name: plate.Name, Text: text}))
	}
	cycle, err := demo.Library("gannet-cycle")
	require.NoError(b, err)
	_, _, err = s.PushRevision(store.Revision{Name: "gannet-cycle", For: "gannet", Text: cycle})
	require.NoError(b, err)
	dialects, err := dialect.Load("")
	require.NoError(b, err)
	e, err = engine.Open(config, dialects, s, slog.New(slog.DiscardHandler), engine.Options{})
	require.NoError(b, err)
	return e, func() {
		e.Close()
		s.Close()
	}
}

// converters is a bench of bays with a supply and a load each, which answer at once.
func converters(b *testing.B, bays int, load func(bay int) func(line string) string) bench.Config {
	config := bench.Config{Instruments: map[string]api.InstrumentConfig{}, Bays: map[string]api.BayConfig{}}
	for i := range bays {
		supply, sink := fmt.Sprintf("supply%d", i), fmt.Sprintf("load%d", i)
		config.Instruments[supply] = api.InstrumentConfig{Dialect: "sim-supply",
			Address: "tcp://" + serve(b, switched(supplyAnswer))}
		config.Instruments[sink] = api.InstrumentConfig{Dialect: "sim-load",
			Address: "tcp://" + serve(b, switched(load(i)))}
		config.Bays[fmt.Sprintf("bay%d", i)] = api.BayConfig{Seats: map[string]api.SeatConfig{
			"source": {Instrument: supply}, "load": {Instrument: sink}}}
	}
	return config
}

// BenchmarkGuard measures the time from the reading with a breach to the load's off-command on the wire, with
// 64 bays at 50 frames a second in the same process as their stand-ins.
func BenchmarkGuard(b *testing.B) {
	const bays = 64
	loads := make([]breachable, bays)
	config := converters(b, bays, func(i int) func(string) string { return loads[i].load })
	e, stop := conducting(b, config)
	defer stop()
	var latencies []time.Duration
	for range 4 {
		var wg sync.WaitGroup
		for i := range bays {
			wg.Add(1)
			go func() {
				defer wg.Done()
				bay, err := e.Bay(fmt.Sprintf("bay%d", i))
				if err == nil {
					_, err = bay.StartRun(context.Background(), "bars", api.StartRun{Procedure: "guarded", Serial: "X"})
				}
				if err != nil {
					b.Error(err)
				}
			}()
		}
		wg.Wait()
		for _, bay := range e.Bays() {
			for bay.Status().FrameRate == 0 || bay.Status().State != api.BayLive {
				time.Sleep(time.Millisecond)
			}
		}
		for i := range bays {
			// One breach at a time, while the others go on at full rate.
			time.Sleep(5 * time.Millisecond)
			loads[i].breach.Store(true)
			for loads[i].off.Load() == 0 {
				time.Sleep(time.Millisecond)
			}
			latencies = append(latencies, time.Duration(loads[i].off.Load()-loads[i].breached.Load()))
			loads[i].breach.Store(false)
		}
		for _, bay := range e.Bays() {
			for bay.Status().State != api.BayIdle {
				time.Sleep(time.Millisecond)
			}
		}
		for i := range loads {
			loads[i].breached.Store(0)
			loads[i].off.Store(0)
		}
	}
	b.ReportMetric(float64(quantile(latencies, 0.5).Microseconds())/1e3, "ms-p50")
	p99 := quantile(latencies, 0.99)
	b.ReportMetric(float64(p99.Microseconds())/1e3, "ms-p99")
	atMost("guard, breach to off-command, p99 (ms)", p99.Seconds()*1e3, 1, "%.2f")
}
