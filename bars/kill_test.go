package bars

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// BenchmarkKill measures the time from what a person does to the drive of a thruster that is off, by the stand-in's
// own record: a request, a command in a terminal with the process that it starts, a key in a view that shows
// something else, and the button.
func BenchmarkKill(b *testing.B) {
	const times = 60
	h := servicetest.Start(b, servicetest.Options{Sockets: true, TimeFactor: 1,
		Layouts: []simbench.Layout{simbench.ThrustStand, simbench.Converter}})
	h.As(api.Operator)
	usher, err := filepath.Abs("../bin/usher")
	require.NoError(b, err)
	ctx, cancel := chromium.Open(context.Background())
	defer cancel()
	require.NoError(b, chromium.Do(ctx, chromium.SignIn(h.Running.URL, "test operator", "a lantern in the fog"),
		chromium.Visible(`[data-bay=bay1]`), chromium.Visit(h.Running.URL+"/runs")))

	for _, way := range []struct {
		name, bar string
		kill      func() error
	}{
		{"api", "kill by a request, drive off, p99 (ms)", func() error {
			_, err := h.Local.Stop(b.Context(), "bay1", "")
			return err
		}},
		{"cli", "kill by a command, drive off, p99 (ms)", func() error {
			return exec.Command(usher, "stop", "bay1", "--data", h.Data).Run()
		}},
		{"key", "kill by a key in another view, drive off, p99 (ms)", func() error {
			return chromium.Do(ctx, chromium.Press(kb.F9))
		}},
		{"button", "kill by the button in another view, drive off, p99 (ms)", func() error {
			return chromium.Do(ctx, chromium.Click(`[data-test=kill-bay1]`))
		}},
	} {
		var latencies []time.Duration
		for range times {
			driven(b, h)
			require.NoError(b, chromium.Do(ctx, chromium.Visible(`[data-test=kill-bay1]`)))
			began := time.Now()
			require.NoError(b, way.kill(), way.name)
			latencies = append(latencies, driveOff(b, h).Sub(began))
		}
		p99 := quantile(latencies, 0.99)
		b.ReportMetric(float64(p99.Microseconds())/1e3, "ms-p99-"+way.name)
		atMost(way.bar, p99.Seconds()*1e3, 50, "%.1f")
	}
}

// driven has the drive on by hand.
func driven(b *testing.B, h *servicetest.House) {
	for _, s := range []api.ManualSet{{Seat: "source", Quantity: "volts", Value: "24 V"},
		{Seat: "source", Quantity: "amps", Value: "10 A"}, {Seat: "source", Quantity: "output", Value: "on"},
		{Seat: "drive", Quantity: "percent", Value: "30 %"}, {Seat: "drive", Quantity: "output", Value: "on"}} {
		_, err := h.Local.Set(b.Context(), "bay1", s)
		require.NoError(b, err)
	}
}

// driveOff waits until the drive is off, and tells since when.
func driveOff(b *testing.B, h *servicetest.House) time.Time {
	for {
		s, err := h.Bench.State("bay1")
		require.NoError(b, err)
		for k := len(s.History) - 1; k >= 0; k-- {
			if s.History[k].What == "drive" {
				if !s.History[k].On {
					return s.History[k].At
				}
				break
			}
		}
		time.Sleep(time.Millisecond)
	}
}
