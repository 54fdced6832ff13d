package bars

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/tables"
)

// foreign is the text of a log of somebody else's: an hour of rest, then a discharge.
func foreign(rows int) string {
	var text strings.Builder
	text.WriteString("time [s];volts [V];amps [A]\n")
	for k := range rows {
		amps, fall := 0.0, 0.0
		if k > rows/10 {
			amps, fall = -2, 4*float64(k)/float64(rows)
		}
		fmt.Fprintf(&text, "%.1f;%.4f;%.4f\n", 0.1*float64(k), 25.5-fall, amps)
	}
	return text.String()
}

// peaked is how much more of the heap is in use at most while something is done, MB, and how long that took.
func peaked(do func()) (megabytes float64, took time.Duration) {
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	done, most := make(chan struct{}), make(chan uint64)
	go func() {
		var peak uint64
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				most <- peak
				return
			case <-tick.C:
				runtime.ReadMemStats(&now)
				peak = max(peak, now.HeapInuse)
			}
		}
	}()
	began := time.Now()
	do()
	took = time.Since(began)
	close(done)
	return (float64(<-most) - float64(before.HeapInuse)) / 1e6, took
}

// BenchmarkImport brings in a log of a million rows, figures included.
func BenchmarkImport(b *testing.B) {
	s, _ := open(b)
	text := foreign(1_000_000)
	var err error
	megabytes, took := peaked(func() {
		_, err = archive.Import(s, s, "bar", api.ImportLog{Name: "log.csv", Text: text, Serial: "GP-1",
			Mapping: api.Mapping{Source: "bar", Separator: ";", Time: api.MappedColumn{Column: "time [s]", Unit: "s"},
				Volts: api.MappedColumn{Column: "volts [V]", Unit: "V"}, Amps: api.MappedColumn{Column: "amps [A]", Unit: "A"}}})
	})
	require.NoError(b, err)
	b.ReportMetric(took.Seconds(), "s")
	b.ReportMetric(megabytes, "MB")
	atMost("import of a million rows (s)", took.Seconds(), 3, "%.2f")
	atMost("import of a million rows, more of the heap (MB)", megabytes, 150, "%.0f")
}

// BenchmarkWorkbook reads a log of 100,000 rows out of a workbook.
func BenchmarkWorkbook(b *testing.B) {
	book := excelize.NewFile()
	sheet, err := book.NewStreamWriter("Sheet1")
	require.NoError(b, err)
	require.NoError(b, sheet.SetRow("A1", []any{"time [s]", "volts [V]", "amps [A]"}))
	for k := range 100_000 {
		require.NoError(b, sheet.SetRow(fmt.Sprintf("A%d", k+2), []any{0.1 * float64(k), 25 - 1e-5*float64(k), -2.0}))
	}
	require.NoError(b, sheet.Flush())
	var file bytes.Buffer
	require.NoError(b, book.Write(&file))
	text := ""
	megabytes, took := peaked(func() { text, err = tables.LogText(file.Bytes()) })
	require.NoError(b, err)
	require.Equal(b, 100_001, strings.Count(text, "\n"))
	b.ReportMetric(took.Seconds(), "s")
	b.ReportMetric(megabytes, "MB")
	atMost("workbook of 100,000 rows (s)", took.Seconds(), 3, "%.2f")
}
