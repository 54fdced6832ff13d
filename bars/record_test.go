package bars

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"usherbench/core/seats"
	"usherbench/core/trace"
	"usherbench/report"
	"usherbench/service"
	"usherbench/store"
)

var columns = seats.ColumnsFor([]string{"source", "load"})

// frames makes what a supply and a load read at a stepped load, at the resolution of the simulated instruments.
func frames(n int) func(take func(trace.Frame)) {
	return func(take func(trace.Frame)) {
		rng := rand.New(rand.NewPCG(1, 2))
		counters := trace.NewCounters(columns, []string{"source", "load"})
		digits := func(x, step float64) float64 { return math.Round(x/step) / math.Round(1/step) }
		f := trace.Frame{Values: make([]float64, len(columns))}
		for k := range n {
			f.T = math.Round((float64(k)*0.1+0.002*rng.Float64())*1e6) / 1e6
			amps := 0.5 * float64(1+(k/600)%16)
			out := 15.01 - 0.005*amps
			in := (out*amps + 0.8 + 0.062*amps*amps) / 48
			for i, x := range []float64{
				digits(48+0.4e-3*rng.NormFloat64(), 1e-3), digits(in+0.08e-3*rng.NormFloat64(), 1e-4), 0, 0, 0, 0,
				digits(out+0.15e-3*rng.NormFloat64(), 1e-4), digits(amps+0.12e-3*rng.NormFloat64(), 1e-4), 0, 0, 0,
			} {
				f.Values[i] = x
			}
			counters.Fill(f)
			take(f)
		}
	}
}

func record(b *testing.B, s *store.Store, id string, n int) store.Run {
	run := store.Run{ID: id, State: "done", StartedAt: time.Now(), Columns: columns}
	require.NoError(b, s.CreateRun(&run))
	r := s.NewRecorder(id, columns)
	frames(n)(r.Frame)
	require.NoError(b, r.Finish(map[string]any{"state": "done"}))
	return run
}

func open(b *testing.B) (*store.Store, string) {
	path := filepath.Join(b.TempDir(), "usher.db")
	s, err := store.Open(path)
	require.NoError(b, err)
	b.Cleanup(func() { s.Close() })
	return s, path
}

type sample struct {
	RunID string `gorm:"index"`
	T     float64
	Name  string
	Value float64
}

// BenchmarkRecording compares durable values a second with GORM inserting a row a value, 100 a batch, and
// measures the size of a value.
func BenchmarkRecording(b *testing.B) {
	const n = 40_000
	ratio := median(3, func() float64 {
		db, err := gorm.Open(sqlite.Open("file:"+filepath.Join(b.TempDir(),
			"rows.db")+"?_journal_mode=WAL&_synchronous=FULL"), &gorm.Config{Logger: logger.Discard})
		require.NoError(b, err)
		require.NoError(b, db.AutoMigrate(&sample{}))
		rows := make([]sample, 0, 100)
		began := time.Now()
		frames(n / 20)(func(f trace.Frame) {
			for i, x := range f.Values {
				if rows = append(rows, sample{"01A", f.T, columns[i], x}); len(rows) == cap(rows) {
					require.NoError(b, db.Create(&rows).Error)
					rows = rows[:0]
				}
			}
		})
		plain := time.Since(began).Seconds() * 20
		s, _ := open(b)
		began = time.Now()
		record(b, s, "01A", n)
		return plain / time.Since(began).Seconds()
	})
	b.ReportMetric(ratio, "ratio")
	atLeast("recording, against a row a value", ratio, 20, "%.0f×")

	s, path := open(b)
	before := size(b, s, path)
	const long = 400_000
	record(b, s, "01B", long)
	bytes := float64(size(b, s, path)-before) / float64(long*len(columns))
	b.ReportMetric(bytes, "B/value")
	atMost("record size (bytes a value)", bytes, 2.5, "%.2f")
}

// size is the size of the database with everything in the main file.
func size(b *testing.B, s *store.Store, path string) int64 {
	require.NoError(b, s.Checkpoint())
	info, err := os.Stat(path)
	require.NoError(b, err)
	return info.Size()
}

// BenchmarkWindow reads windows of a run of 100 million values and of one of a million.
func BenchmarkWindow(b *testing.B) {
	s, _ := open(b)
	small, large := record(b, s, "01S", 1_000_000/len(columns)), record(b, s, "01L", 100_000_000/len(columns))
	length := func(values int) float64 { return float64(values/len(columns)) * 0.1 }
	// Windows from ten seconds to the longest, anywhere in the run.
	windows := func(run store.Run, total, longest float64) []time.Duration {
		rng := rand.New(rand.NewPCG(3, 4))
		var all []time.Duration
		for range 300 {
			width := longest * math.Pow(10/longest, rng.Float64())
			from := (total - width) * rng.Float64()
			began := time.Now()
			_, err := s.Window(context.Background(), run, []string{"load.volts"}, from, from+width, 1600)
			require.NoError(b, err)
			all = append(all, time.Since(began))
		}
		return all
	}
	few, many := length(1_000_000), length(100_000_000)
	syscall.Sync()           // what was written must not be measured with what is read
	windows(small, few, few) // warms the cache
	windows(large, many, few)
	a, same, z := windows(small, few, few), windows(large, many, few), windows(large, many, many)
	ratio := quantile(same, 0.5).Seconds() / quantile(a, 0.5).Seconds()
	b.ReportMetric(ratio, "ratio")
	b.ReportMetric(quantile(a, 0.5).Seconds()*1e3, "ms-small")
	b.ReportMetric(quantile(z, 0.5).Seconds()*1e3, "ms-large")
	atMost("window, 100 M values against 1 M", ratio, 1.5, "%.2f")
	atMost("window of 100 M values, p99 (ms)", quantile(z, 0.99).Seconds()*1e3, 10, "%.1f")
	began := time.Now()
	_, err := s.Window(context.Background(), large, nil, 0, 1e12, 1600)
	require.NoError(b, err)
	b.ReportMetric(time.Since(began).Seconds()*1e3, "ms-whole-all-columns")
}

// BenchmarkExport compares the CSV of ten million values with formatting the same values to nowhere.
func BenchmarkExport(b *testing.B) {
	s, _ := open(b)
	run := record(b, s, "01E", 10_000_000/len(columns))
	syscall.Sync()
	ratio := median(3, func() float64 {
		var plain time.Duration
		buffer := make([]byte, 0, 64)
		require.NoError(b, s.EachFrames(context.Background(), run, 0, math.MaxFloat64,
			func(_ []float64, column func(int) ([]float64, error)) error {
				for i := range columns {
					xs, err := column(i)
					if err != nil {
						return err
					}
					began := time.Now()
					for _, x := range xs {
						buffer = strconv.AppendFloat(buffer[:0], x, 'f', -1, 64)
						_, _ = io.Discard.Write(buffer)
					}
					plain += time.Since(began)
				}
				return nil
			}))
		began := time.Now()
		require.NoError(b, report.WriteCSV(context.Background(), io.Discard, s, run,
			report.Excerpt{Layout: report.AsRecorded, To: math.MaxFloat64}))
		return plain.Seconds() / time.Since(began).Seconds()
	})
	b.ReportMetric(ratio, "ratio")
	atLeast("export, against formatting alone", ratio, 0.5, "%.2f")
}

// BenchmarkStart measures how long the service takes to be ready with 10,000 runs on record.
func BenchmarkStart(b *testing.B) {
	data := b.TempDir()
	s, err := store.Open(filepath.Join(data, "usher.db"))
	require.NoError(b, err)
	for i := range 10_000 {
		require.NoError(b, s.CreateRun(&store.Run{ID: fmt.Sprintf("01%024d", i), Bay: "bay1", Serial: fmt.Sprintf("TN-%d", i),
			State: "done", Outcome: "pass", StartedAt: time.Now(), Columns: columns}))
	}
	require.NoError(b, s.Close())
	seconds := median(5, func() float64 {
		began := time.Now()
		r, err := service.Start(service.Config{Data: data, Listen: "127.0.0.1:0"}, slog.New(slog.DiscardHandler))
		require.NoError(b, err)
		took := time.Since(began).Seconds()
		require.NoError(b, r.Close())
		return took
	})
	b.ReportMetric(seconds, "s")
	atMost("start with 10,000 runs (s)", seconds, 0.5, "%.3f")
}
