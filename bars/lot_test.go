package bars

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/client"
	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/service/servicetest"
	"usherbench/store"
)

// fillLot puts the runs of a lot on record, four figures each, as fast as a database takes them.
func fillLot(b *testing.B, file, lot string, runs int) {
	b.Helper()
	db, err := gorm.Open(sqlite.Open("file:"+file), &gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true})
	require.NoError(b, err)
	plain, err := db.DB()
	require.NoError(b, err)
	defer plain.Close()
	began := time.Date(2026, 11, 2, 6, 0, 0, 0, time.UTC)
	names := []string{"efficiency", "line-regulation", "load-regulation", "output-accuracy"}
	const batch = 2000
	for from := 0; from < runs; from += batch {
		var all []store.Run
		var figures []store.Figure
		for k := from; k < min(from+batch, runs); k++ {
			at := began.Add(time.Duration(k) * 40 * time.Second)
			ended := at.Add(30 * time.Second)
			result := outcome.Pass
			if k%37 == 0 {
				result = outcome.Fail
			}
			id := fmt.Sprintf("%s-%07d", lot, k)
			var results strings.Builder
			run := store.Run{ID: id, Bay: "bay1", Serial: fmt.Sprintf("TN-%d", k), Lot: lot, Procedure: "outgoing",
				State: "done", Outcome: string(result), StartedAt: at, EndedAt: &ended}
			for i, name := range names {
				limit, value := 100.0, 50+float64((k*(i+7))%100)/100
				j := procedure.Judged{Title: name, Max: &limit, Outcome: result, Result: figure.Result{Unit: "%", Value: value,
					Request: figure.Request{ID: name}}}
				fmt.Fprintf(&results, "%s\t%s\t%g\n", name, result, value)
				data, err := json.Marshal(j)
				require.NoError(b, err)
				figures = append(figures, store.Figure{RunID: id, Position: i, Figure: name, Value: &value,
					Outcome: string(result), Data: string(data)})
			}
			run.Results = results.String()
			all = append(all, run)
		}
		require.NoError(b, db.Transaction(func(tx *gorm.DB) error {
			if err := tx.CreateInBatches(&all, 200).Error; err != nil {
				return err
			}
			return tx.CreateInBatches(&figures, 500).Error
		}))
	}
}

// BenchmarkLot measures the page of a lot of 10,000 units over HTTP, and the statistics of 100,000 attempts.
func BenchmarkLot(b *testing.B) {
	file := filepath.Join(b.TempDir(), store.File)
	s, err := store.Open(file)
	require.NoError(b, err)
	defer s.Close()
	fillLot(b, file, "large", 100_000)
	seconds := median(3, func() float64 {
		began := time.Now()
		lot, err := archive.Lot(s, "large", api.LotRequest{})
		require.NoError(b, err)
		require.Equal(b, 100_000, lot.Procedures[0].Attempts)
		return time.Since(began).Seconds()
	})
	b.ReportMetric(seconds, "s/statistics")
	atMost("statistics of 100,000 attempts (s)", seconds, 1, "%.2f")

	h := servicetest.Start(b, servicetest.Options{Sockets: true, Empty: true})
	fillLot(b, filepath.Join(h.Data, store.File), "page", 10_000)
	page := median(3, func() float64 {
		began := time.Now()
		lot, err := h.Local.Lot(b.Context(), "page", api.LotRequest{})
		require.NoError(b, err)
		require.Equal(b, 10_000, lot.Procedures[0].Units)
		return time.Since(began).Seconds()
	})
	b.ReportMetric(page, "s/page")
	atMost("page of a lot of 10,000 units (s)", page, 0.5, "%.2f")
}

// BenchmarkPlace measures what an operator waits for: from a scan to the first output that goes on, beyond what a
// preflight alone takes, and from the last frame of a run to its outcome.
func BenchmarkPlace(b *testing.B) {
	h := servicetest.Start(b, servicetest.Options{Sockets: true, TimeFactor: 1})
	_, err := h.Local.SetUpPlace(b.Context(), "bay1", api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-1"})
	require.NoError(b, err)
	var toOutput, toOutcome []float64
	for k := range 5 {
		serial := fmt.Sprintf("TN-%d", 5000+k)
		began := time.Now()
		_, err := h.Local.Preflight(b.Context(), api.StartRun{Bay: "bay1", Procedure: "tern-outgoing", Serial: serial})
		require.NoError(b, err)
		alone := time.Since(began)

		ctx, cancel := context.WithTimeout(b.Context(), time.Minute)
		frame, outcome := make(chan time.Time, 4096), make(chan time.Time, 1)
		listening := make(chan struct{})
		go func() {
			first := true
			_ = h.Local.Live(ctx, "bay1", 0, func(e client.Event) error {
				if first {
					first = false
					close(listening)
				}
				var p api.Place
				switch {
				case e.Kind == api.EventFrames:
					select {
					case frame <- time.Now():
					default:
					}
				case e.Kind == api.EventPlace && e.Into(&p) == nil && p.Last != nil && p.Last.Serial == serial:
					select {
					case outcome <- time.Now():
					default:
					}
				}
				return nil
			}, nil)
		}()
		<-listening
		scanned := time.Now()
		_, err = h.Local.Scan(b.Context(), "bay1", serial)
		require.NoError(b, err)
		told := <-outcome
		cancel()
		last := scanned
		for len(frame) > 0 {
			if at := <-frame; at.Before(told) {
				last = at
			}
		}
		state, err := h.Bench.State("bay1")
		require.NoError(b, err)
		on := time.Time{}
		for _, s := range state.History {
			if s.On && s.At.After(scanned) && on.IsZero() {
				on = s.At
			}
		}
		toOutput = append(toOutput, (on.Sub(scanned) - alone).Seconds())
		toOutcome = append(toOutcome, told.Sub(last).Seconds())
	}
	next := 0
	output := median(len(toOutput), func() float64 { next++; return toOutput[next-1] })
	next = 0
	shown := median(len(toOutcome), func() float64 { next++; return toOutcome[next-1] })
	b.ReportMetric(output, "s/output")
	b.ReportMetric(shown, "s/outcome")
	atMost("scan to output, beyond preflight (s)", output, 0.3, "%.3f")
	atMost("last frame to outcome (s)", shown, 0.2, "%.3f")
}
