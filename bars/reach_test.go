package bars

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/simbench"
)

// BenchmarkReach measures how long it takes to connect to an instrument and to know who it is, over each way in which
// stand-ins are reached, and how much longer that is than over a socket.
func BenchmarkReach(b *testing.B) {
	dialects, err := dialect.Load("")
	require.NoError(b, err)
	took := map[string]float64{}
	for _, way := range simbench.Ways() {
		bench, err := simbench.Start(simbench.Options{Over: way})
		require.NoError(b, err)
		supply := bench.Instruments()[0]
		took[way] = median(201, func() float64 {
			began := time.Now()
			i, err := instrument.Open("supply", supply.Address, dialects["sim-supply"])
			require.NoError(b, err)
			_, err = i.Identify(context.Background())
			require.NoError(b, err)
			within := time.Since(began)
			require.NoError(b, i.Close())
			return within.Seconds() * 1e3
		})
		require.NoError(b, bench.Close())
		b.ReportMetric(took[way], "ms-"+way)
	}
	for _, way := range []string{"hislip", "vxi11"} {
		atMost("reach over "+way+", longer than over tcp (ms)", took[way]-took["tcp"], 1, "%.2f")
	}
}
