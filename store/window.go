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
	if w.T0, w.T1, err = q.extent(); err != nil || w.T1 < a || w.T0 > b || len(columns) == 0 { // of a capture alone
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
	pieces, err := q.pieces(from, to)
	if err != nil {
		return err
	}
	for _, p := range pieces {
		times, err := p.column(0)
		if err != nil {
			return err
		}
		if err := take(times, func(column int) ([]float64, error) { return p.column(column + 1) }); err != nil {
			return err
		}
	}
	return nil
}

// piece is the part of a chunk that lies in a window.
type piece struct {
	block    block
	from, to int64 // of the chunk's frames, the latter excluded
}

// column decodes a column of the piece; 0 has the times.
func (p piece) column(i int) ([]float64, error) {
	xs, err := p.block.column(i)
	if err != nil {
		return nil, err
	}
	return xs[p.from:p.to], nil
}

// pieces opens the chunks that hold frames from … to−1.
func (q *windowQuery) pieces(from, to int64) ([]piece, error) {
	var chunks []chunk
	if err := q.db.Where("run_id = ? AND first < ? AND first > ?", q.runID, to,
		from-chunkFrames).Order("first").Find(&chunks).Error; err != nil {
		return nil, err
	}
	var pieces []piece
	for _, c := range chunks {
		i, j := max(from-c.First, 0), min(to-c.First, int64(c.Count))
		if i >= j {
			continue
		}
		b, err := openBlock(c.Data)
		if err != nil {
			return nil, fmt.Errorf("frames %d …: %w", c.First, err)
		}
		pieces = append(pieces, piece{b, i, j})
	}
	return pieces, nil
}

// Trace reads one column at full resolution for a ≤ t ≤ b.
func (s *Store) Trace(ctx context.Context, run Run, column string, a, b float64) (trace.Series, error) {
	return s.NewReader(run).Trace(ctx, column, a, b)
}

// Reader reads columns of one run at full resolution. It remembers the window that was read last, compressed, with its
// times: whoever computes something over a window asks for several of its columns. It belongs to one goroutine.
type Reader struct {
	store  *Store
	run    Run
	a, b   float64
	pieces []piece
	times  []float64 // nil: no window was read
}

// NewReader begins to read a run.
func (s *Store) NewReader(run Run) *Reader { return &Reader{store: s, run: run} }

// Trace reads one column for a ≤ t ≤ b. The times are shared with the other columns of the window.
func (r *Reader) Trace(ctx context.Context, column string, a, b float64) (trace.Series, error) {
	i := slices.Index(r.run.Columns, column)
	if i < 0 {
		return trace.Series{}, fmt.Errorf("%w: %s", ErrNoColumn, column)
	}
	if r.times == nil || r.a != a || r.b != b {
		if err := r.open(ctx, a, b); err != nil {
			r.times = nil
			return trace.Series{}, err
		}
	}
	n := len(r.times)
	series := trace.Series{T: r.times[:n:n], X: make([]float64, 0, n)}
	for _, p := range r.pieces {
		if err := ctx.Err(); err != nil {
			return trace.Series{}, err
		}
		xs, err := p.column(i + 1)
		if err != nil {
			return trace.Series{}, err
		}
		series.X = append(series.X, xs...)
	}
	return series, nil
}

// open reads the chunks of a window and its times.
func (r *Reader) open(ctx context.Context, a, b float64) error {
	q := windowQuery{db: r.store.db.WithContext(ctx), runID: r.run.ID}
	from, to, err := q.between(a, b)
	if err != nil {
		return err
	}
	r.a, r.b, r.pieces = a, b, nil
	r.times = make([]float64, 0, max(int(to-from), 0))
	for ; from < to; from += chunkFrames {
		pieces, err := q.pieces(from, min(from+chunkFrames, to))
		if err != nil {
			return err
		}
		for _, p := range pieces {
			times, err := p.column(0)
			if err != nil {
				return err
			}
			r.times = append(r.times, times...)
		}
		r.pieces = append(r.pieces, pieces...)
	}
	return nil
}

// between finds the frames with a ≤ t ≤ b, the last excluded.
func (q *windowQuery) between(a, b float64) (from, to int64, err error) {
	if from, err = q.frameAt(a); err != nil {
		return 0, 0, err
	}
	to, err = q.frameAt(math.Nextafter(b, math.Inf(1)))
	return from, to, err
}

// EachFrames goes through the frames of a run for a ≤ t ≤ b in pieces of bounded size, in order. columns
// decodes one column of the piece, by its index in the run's columns.
func (s *Store) EachFrames(ctx context.Context, run Run, a, b float64,
	take func(times []float64, columns func(int) ([]float64, error)) error) error {
	q := windowQuery{db: s.db.WithContext(ctx), runID: run.ID}
	from, to, err := q.between(a, b)
	if err != nil {
		return err
	}
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
