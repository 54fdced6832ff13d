package bars

import (
	"context"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/quantity"
	corerecord "usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/store"
)

// cycled records a charge and a discharge of a pack on a cycler, of a million frames together, and gives its record.
func cycled(b *testing.B, s *store.Store) *corerecord.Record {
	const half, every = 500_000, 0.05
	columns := seats.ColumnsFor([]string{"cycler"})
	run := store.Run{ID: "cycled", State: "done", StartedAt: time.Now(), Columns: columns}
	require.NoError(b, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, columns)
	counters := trace.NewCounters(columns, []string{"cycler"})
	for k := range 2 * half {
		volts, amps := 24+4*float64(k)/half, 2.0
		if k >= half {
			volts, amps = 27-6.5*float64(k-half)/half, -1.96
		}
		f := trace.Frame{T: float64(k)*every + 1e-3, Values: make([]float64, len(columns))}
		f.Values[columns.Index("cycler.volts")], f.Values[columns.Index("cycler.amps")] = volts, amps
		counters.Fill(f)
		r.Frame(f)
	}
	require.NoError(b, r.Finish(map[string]any{"state": "done"}))
	const turn, end = half * every, 2 * half * every
	reader := s.NewReader(run)
	return &corerecord.Record{Columns: columns, Series: 7, Ratings: map[string]quantity.Quantity{
		"cutoff": quantity.Of(21, "V"), "rated_capacity": quantity.Of(14, "Ah")},
		Specs: map[string]uncertainty.Spec{"cycler.volts": {{To: 60, Reading: 3e-4, Offset: 3e-3, Resolution: 1e-3}},
			"cycler.amps": {{To: 12, Reading: 5e-4, Offset: 2e-3, Resolution: 1e-3}}},
		Stages: []corerecord.Span{{Name: "fill", Kind: "charge", T0: 0, T1: turn},
			{Name: "empty", Kind: "discharge", T0: turn, T1: end}},
		Marks: []corerecord.Mark{{T: 0, Kind: corerecord.MarkCommand},
			{T: turn, Kind: corerecord.MarkCondition, About: corerecord.Ended{Stage: "charge", Rules: []string{"taper"}}},
			{T: turn, Kind: corerecord.MarkCommand},
			{T: end, Kind: corerecord.MarkCondition, About: corerecord.Ended{Stage: "discharge", Rules: []string{"cutoff"}}}},
		Trace: func(column string, t0, t1 float64) (trace.Series, error) {
			return reader.Trace(context.Background(), column, t0, t1)
		}}
}

// BenchmarkJudging takes ten figures of a run of a million frames, from the database.
func BenchmarkJudging(b *testing.B) {
	s, _ := open(b)
	sound := cycled(b, s)
	figures := catalogue.Figures()
	ids := []string{"capacity", "discharge-energy", "mean-discharge-voltage", "state-of-health", "charge-returned",
		"energy-returned", "coulombic-efficiency", "energy-efficiency", "c-rate", "knee"}
	most := 0.0
	took := median(5, func() float64 {
		rec := *sound
		runtime.GC()
		stop := watchHeap(&most)
		began := time.Now()
		for _, id := range ids {
			r := figures.Compute(&rec, figure.Request{ID: id})
			if id != "knee" { // a straight line has none
				require.Nil(b, r.Undetermined, "%s: %v", id, r.Undetermined)
			}
		}
		seconds := time.Since(began).Seconds()
		stop()
		return seconds
	})
	atMost("judging 1 M frames, ten figures", took, 0.5, "%.2f s")
	atMost("memory for that", most/1e6, 200, "%.0f MB")
}

// watchHeap notes the most that the heap grows to until it is stopped.
func watchHeap(most *float64) (stop func()) {
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		ticker := time.NewTicker(5 * time.Millisecond)
		defer ticker.Stop()
		for {
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			*most = max(*most, float64(now.HeapInuse)-float64(before.HeapInuse))
			select {
			case <-done:
				return
			case <-ticker.C:
			}
		}
	}()
	return func() { close(done); <-ended }
}
