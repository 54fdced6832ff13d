package bars

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service"
)

// stoppable is a load that tells when it was switched off.
type stoppable struct{ off atomic.Int64 }

func (l *stoppable) load(line string) string {
	switch {
	case strings.HasPrefix(line, "*IDN?"):
		return "Usher Bench,SIM-L1,0,1"
	case strings.HasPrefix(line, "MEAS"):
		return "15.0000;2.0000"
	case strings.HasPrefix(line, "INP OFF"):
		l.off.Store(time.Now().UnixNano())
	}
	return `0,"No error"`
}

// BenchmarkStop measures the time from the request to stop a bay to the load's off-command on the wire, while viewers
// ask for bays and instruments 200 times a second and 100 streams are opened that nobody ever reads.
func BenchmarkStop(b *testing.B) {
	const bays, streams, requests = 32, 100, 200
	loads := make([]stoppable, bays)
	config := converters(b, bays, func(i int) func(string) string { return loads[i].load })
	data := b.TempDir()
	running, err := service.Start(service.Config{Data: data, Listen: "127.0.0.1:0", Bench: config},
		slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	defer func() { require.NoError(b, running.Close()) }()
	text, err := os.ReadFile(filepath.Join(data, service.LocalAccessFile))
	require.NoError(b, err)
	var access service.LocalAccess
	require.NoError(b, json.Unmarshal(text, &access))
	cl := &client.Client{Server: access.Server, Token: access.Token}
	_, err = cl.PushProcedure(b.Context(), guarded, "")
	require.NoError(b, err)

	ctx, cancel := context.WithCancel(b.Context())
	var viewers sync.WaitGroup
	defer viewers.Wait()
	defer cancel()
	for range streams { // they ask, and never read
		conn, err := net.Dial("tcp", strings.TrimPrefix(access.Server, "http://"))
		require.NoError(b, err)
		defer conn.Close()
		_, err = fmt.Fprintf(conn, "GET /api/v1/live HTTP/1.1\r\nHost: bars\r\nAuthorization: Bearer %s\r\n\r\n",
			access.Token)
		require.NoError(b, err)
	}
	viewer := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	for k := range 4 {
		viewers.Go(func() {
			ticker := time.NewTicker(4 * time.Second / requests)
			defer ticker.Stop()
			mine := &client.Client{Server: access.Server, Token: access.Token, HTTP: viewer}
			for {
				select {
				case <-ctx.Done():
					return
				case <-ticker.C:
				}
				if k%2 == 0 {
					_, _ = mine.Bays(ctx) // the end of the bar cuts it off
				} else {
					_, _ = mine.Instruments(ctx)
				}
			}
		})
	}

	var latencies []time.Duration
	for range 4 {
		for i := range bays {
			_, err := cl.StartRun(b.Context(), api.StartRun{Bay: fmt.Sprintf("bay%d", i), Procedure: "guarded", Serial: "X"})
			require.NoError(b, err)
		}
		for _, bay := range running.Engine.Bays() {
			for bay.Status().State != api.BayLive {
				time.Sleep(time.Millisecond)
			}
		}
		time.Sleep(300 * time.Millisecond)
		for i := range bays {
			began := time.Now()
			_, err := cl.Stop(b.Context(), fmt.Sprintf("bay%d", i), "")
			require.NoError(b, err)
			off := time.Unix(0, loads[i].off.Load())
			require.True(b, off.After(began), "it was switched off after the request")
			latencies = append(latencies, off.Sub(began))
		}
	}
	p99 := quantile(latencies, 0.99)
	b.ReportMetric(float64(quantile(latencies, 0.5).Microseconds())/1e3, "ms-p50")
	b.ReportMetric(float64(p99.Microseconds())/1e3, "ms-p99")
	atMost("stop, request to off-command, watched, p99 (ms)", p99.Seconds()*1e3, 50, "%.1f")
}
