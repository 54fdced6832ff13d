package store

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"

	"gorm.io/gorm"

	"usherbench/core/trace"
)

// Window is a part of a run, reduced to buckets.
type Window struct {
	Columns []string
	// Exact is true when every bucket is a single frame.
	Exact bool
	// T0 and T1 bound the run's record, s.
	T0, T1 float64
	// Buckets by column, in the order of Columns; the times of all columns are the same.
	Buckets [][]trace.Bucket
}

// ErrNoColumn is returned for a column that the run does not have.
var ErrNoColumn = errors.New("the run has no such column")

// Window reads the columns of a run for a ≤ t ≤ b, reduced to about n buckets (at most 2·n). Columns nil
// reads all.
func (s *Store) Window(ctx context.Context, run Run, columns []string, a, b float64, n int) (Window, error) {
	if columns == nil {
		columns = run.Columns
	}
	w := Window{Columns: columns, Exact: true, Buckets: make([][]trace.Bucket, len(columns))}
	index := make([]int, len(columns))
	for i, c := range columns {
		if index[i] = slices.Index(run.Columns, c); index[i] < 0 {
			return w, fmt.Errorf("%w: %s", ErrNoColumn, c)
		}
	}
	db := s.db.WithContext(ctx)
	q := windowQuery{db: db, runID: run.ID, index: index, out: make([][]trace.Bucket, len(columns))}
	var err error
	if w.T0, w.T1, err = q.extent(); err != nil || w.T1 < a || w.T0 > b {
		return w, err
	}
	a, b = math.Max(a, w.T0), math.Min(b, w.T1) // an open end is that of the record
	from, err := q.frameAt(a)
	if err != nil {
		return w, err
	}
	to, err := q.frameAt(math.Nextafter(b, math.Inf(1)))
	if err != nil {
		return w, err
	}
	// One frame more on each side, so that lines reach the edges of the picture.
	from, to = max(from-1, 0), to+1
	level := 0
	for level < pyramidLevel && (to-from)/framesPerBucket(level+1) >= int64(n) {
		level++
	}
	if err := q.cover(level, from, to); err != nil {
		return w, err
	}
	w.Exact = level == 0 && len(q.out[0]) <= 2*n
	for i, buckets := range q.out {
		if !w.Exact {
			buckets = trace.Decimate(buckets, a, b, n)
		}
		w.Buckets[i] = buckets
	}
	return w, nil
}

// windowQuery collects the buckets of a range of frames.
type windowQuery struct {
	db    *gorm.DB
	runID string
	index []int // columns of the run
	out   [][]trace.Bucket
}

func (q *windowQuery) extent() (t0, t1 float64, err error) {
	var first, last chunk
	err = q.db.Select("t0").Where("run_id = ?", q.runID).Order("first").Limit(1).Find(&first).Error
	if err == nil {
		err = q.db.Select("t1").Where("run_id = ?", q.runID).Order("first DESC").Limit(1).Find(&last).Error
	}
	return first.T0, last.T1, err
}

// frameAt is the index of the first frame at or after time t. Chunks are found by bisection over their indexes,
// since time grows with them.
func (q *windowQuery) frameAt(t float64) (int64, error) {
	var c chunk
	err := q.db.Where("run_id = ? AND t0 < ?", q.runID, t).Order("t0 DESC").Limit(1).Find(&c).Error
	if err != nil || c.Count == 0 {
		return 0, err
	}
	if c.T1 < t {
		return c.First + int64(c.Count), nil
	}
	b, err := openBlock(c.Data)
	if err != nil {
		return 0, err
	}
	times, err := b.column(0)
	if err != nil {
		return 0, err
	}
	return c.First + int64(sort.SearchFloat64s(times, t)), nil
}

// cover adds the buckets of frames from … to−1: rows of the level where there are any, and lower levels for
// the rest.
func (q *windowQuery) cover(level int, from, to int64) error {
	if from >= to {
		return nil
	}
	if level == 0 {
		return q.coverFrames(from, to)
	}
	var rows []pyramidRow
	err := q.db.Where("run_id = ? AND level = ? AND first < ? AND first > ?", q.runID, level, to,
		from-pyramidRows*framesPerBucket(level)).
		Order("first").Find(&rows).Error
	if err != nil {
		return err
	}
	at := from
	for _, r := range rows {
		if r.End <= at {
			continue
		}
		if err := q.cover(level-1, at, r.First); err != nil {
			return err
		}
		if err := q.takeRow(r, level, max(at, r.First), min(to, r.End)); err != nil {
			return err
		}
		at = r.End
	}
	return q.cover(level-1, at, to)
}

func (q *windowQuery) takeRow(r pyramidRow, level int, from, to int64) error {
	b, err := openBlock(r.Data)
	if err != nil {
		return err
	}
	per := framesPerBucket(level)
	i, j := (from-r.First)/per, (to-r.First+per-1)/per
	times, err := b.column(0)
	if err != nil {
		return err
	}
	for k, column := range q.index {
		low, err := b.column(1 + 2*column)
		if err != nil {
			return err
		}
		high, err := b.column(2 + 2*column)
		if err != nil {
			return err
		}
		for x := i; x < j; x++ {
			q.out[k] = append(q.out[k], trace.Bucket{T: times[x], Min: low[x], Max: high[x]})
		}
	}
	return nil
}

func (q *windowQuery) coverFrames(from, to int64) error {
	return q.frames(from, to, func(times []float64, column func(int) ([]float64, error)) error {
		for k, i := range q.index {
			xs, err := column(i)
			if err != nil {
				return err
			}
			for x, t := range times {
				q.out[k] = append(q.out[k], trace.Bucket{T: t, Min: xs[x], Max: xs[x]})
			}
		}
		return nil
	})
}

// frames goes through the chunks that hold frames from … to−1.
func (q *windowQuery) frames(from, to int64,
	take func(times []float64, column func(int) ([]float64, error)) error) error {
	var chunks []chunk
	if err := q.db.Where("run_id = ? AND first < ? AND first > ?", q.runID, to,
		from-chunkFrames).Order("first").Find(&chunks).Error; err != nil {
		return err
	}
	for _, c := range chunks {
		i, j := max(from-c.First, 0), min(to-c.First, int64(c.Count))
		if i >= j {
			continue
		}
		b, err := openBlock(c.Data)
		if err != nil {
			return fmt.Errorf("frames %d …: %w", c.First, err)
		}
		times, err := b.column(0)
		if err != nil {
			return err
		}
		err = take(times[i:j], func(column int) ([]float64, error) {
			xs, err := b.column(column + 1)
			if err != nil {
				return nil, err
			}
			return xs[i:j], nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Trace reads one column at full resolution for a ≤ t ≤ b.
func (s *Store) Trace(ctx context.Context, run Run, column string, a, b float64) (trace.Series, error) {
	var series trace.Series
	i := slices.Index(run.Columns, column)
	if i < 0 {
		return series, fmt.Errorf("%w: %s", ErrNoColumn, column)
	}
	err := s.eachFrames(ctx, run, a, b, func(frames int) {
		series.T, series.X = make([]float64, 0, frames), make([]float64, 0, frames)
	}, func(times []float64, columns func(int) ([]float64, error)) error {
		xs, err := columns(i)
		series.T, series.X = append(series.T, times...), append(series.X, xs...)
		return err
	})
	return series, err
}

// EachFrames goes through the frames of a run for a ≤ t ≤ b in pieces of bounded size, in order. columns
// decodes one column of the piece, by its index in the run's columns.
func (s *Store) EachFrames(ctx context.Context, run Run, a, b float64,
	take func(times []float64, columns func(int) ([]float64, error)) error) error {
	return s.eachFrames(ctx, run, a, b, func(int) {}, take)
}

// eachFrames does the same, and says first how many frames there are.
func (s *Store) eachFrames(ctx context.Context, run Run, a, b float64, count func(frames int),
	take func(times []float64, columns func(int) ([]float64, error)) error) error {
	q := windowQuery{db: s.db.WithContext(ctx), runID: run.ID}
	from, err := q.frameAt(a)
	if err != nil {
		return err
	}
	to, err := q.frameAt(math.Nextafter(b, math.Inf(1)))
	if err != nil {
		return err
	}
	count(max(int(to-from), 0))
	for ; from < to; from += chunkFrames {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := q.frames(from, min(from+chunkFrames, to), take); err != nil {
			return err
		}
	}
	return nil
}
