package archive

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// An overview of a run has so many stretches; two excursions of a column lie so many of them apart.
const (
	overviewBuckets = 2000
	apartBuckets    = 10
	// settles is how long after a command nothing is an excursion at least, s.
	settles = 1.0
)

// readingsOf are the columns that are read, not computed.
func readingsOf(columns []string) []string {
	return slices.DeleteFunc(slices.Clone(columns), func(column string) bool {
		seat, reading, _ := strings.Cut(column, ".")
		kind, _ := quantity.KindOf(reading)
		return kind.State || kind.Whole || kind.Part.Place > 0 || slices.Contains(trace.Derived(seat), column)
	})
}

// Excursions lists where the columns of a run go furthest from where they usually are around there, the most unlike
// first, with the very frame. What the run commanded is none. columns nil: all readings,
// without what is computed from them.
func Excursions(ctx context.Context, s *store.Store, run store.Run, columns []string, from, to float64,
	most int) ([]api.Excursion, error) {
	marks, err := s.Marks(run.ID)
	if err != nil {
		return nil, err
	}
	if columns == nil {
		columns = readingsOf(run.Columns)
	}
	w, err := s.Window(ctx, run, columns, from, to, overviewBuckets)
	if err != nil {
		return nil, err
	}
	commands := append((&record.Record{Marks: marks}).Commands(), w.T0, w.T1) // it begins and ends with one
	all := []api.Excursion{}
	for i, column := range w.Columns {
		buckets := w.Buckets[i]
		if len(buckets) < 2 {
			continue
		}
		width := (buckets[len(buckets)-1].T - buckets[0].T) / float64(len(buckets)-1)
		after := math.Max(2*width, settles)
		commanded := func(t float64) bool { // in the stretch, or before it and not settled yet
			return slices.ContainsFunc(commands, func(at float64) bool { return at > t-after && at < t+width })
		}
		for _, e := range trace.Excursions(buckets, most, apartBuckets*width, commanded) {
			if e.T, err = exactly(ctx, s, run, column, e, width); err != nil {
				return nil, err
			}
			unit := trace.UnitOf(column)
			all = append(all, api.Excursion{Column: column, Unit: unit.Symbol, T: e.T, Value: e.Value / unit.Factor,
				Usual: e.Usual / unit.Factor, Unlike: e.Unlike})
		}
	}
	slices.SortStableFunc(all, func(a, b api.Excursion) int { return cmp.Compare(b.Unlike, a.Unlike) })
	return all[:min(most, len(all))], nil
}

// exactly is the time of the frame of an excursion that is known to lie within a stretch of the overview.
func exactly(ctx context.Context, s *store.Store, run store.Run, column string, e trace.Excursion,
	width float64) (float64, error) {
	from, to := e.T-width/2, e.T+2*width
	for range 8 {
		w, err := s.Window(ctx, run, []string{column}, from, to, overviewBuckets)
		if err != nil {
			return e.T, fmt.Errorf("look at %s: %w", column, err)
		}
		at := slices.IndexFunc(w.Buckets[0], func(b trace.Bucket) bool { return b.Min == e.Value || b.Max == e.Value })
		if at < 0 {
			return e.T, nil
		}
		t := w.Buckets[0][at].T
		if w.Exact || math.Nextafter(t, to) >= to {
			return t, nil
		}
		step := (to - from) / float64(len(w.Buckets[0]))
		e.T, from, to = t, t-step/4, t+2*step
	}
	return e.T, nil
}
