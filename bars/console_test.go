package bars

import (
	"bytes"
	"compress/gzip"
	"context"
	"io/fs"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/console"
	"usherbench/console/chromium"
	"usherbench/service/servicetest"
)

var neededAtOnce = regexp.MustCompile(`(?:src|href)="/(assets/[^"]+\.(?:js|css))"`)

// BenchmarkConsole measures what the first view needs, and how long it takes to its first live number.
func BenchmarkConsole(b *testing.B) {
	page, err := fs.ReadFile(console.Dist, "dist/index.html")
	require.NoError(b, err)
	total := 0
	for _, m := range neededAtOnce.FindAllSubmatch(page, -1) {
		text, err := fs.ReadFile(console.Dist, "dist/"+string(m[1]))
		require.NoError(b, err)
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		_, err = w.Write(text)
		require.NoError(b, err)
		require.NoError(b, w.Close())
		total += packed.Len()
	}
	require.Positive(b, total)
	atMost("console, JS and CSS of the first view (kB)", float64(total)/1e3, 350, "%.0f")

	h := servicetest.Start(b, servicetest.Options{Sockets: true, TimeFactor: 1})
	h.As(api.Viewer)
	ctx, cancel := chromium.Open(context.Background())
	defer cancel()
	require.NoError(b, chromium.Do(ctx, chromium.SignIn(h.Running.URL, "test viewer", "a lantern in the fog"),
		chromium.Visible(`[data-bay=bay1]`)))
	seconds := median(5, func() float64 {
		began := time.Now()
		require.NoError(b, chromium.Do(ctx, chromium.Visit(h.Running.URL),
			chromium.Until(`/\d/.test(document.querySelector('[data-bay=bay1] .number')?.innerText ?? '')`)))
		return time.Since(began).Seconds()
	})
	b.ReportMetric(seconds, "s")
	atMost("console, time to the first live number (s)", seconds, 1.5, "%.2f")
}
