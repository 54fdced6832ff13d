package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"

	"gorm.io/gorm"

	"usherbench/core/figure"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

const (
	chunkFrames  = 4096 // frames of a full chunk
	pyramidBase  = 16   // frames of a bucket of level 1; buckets of a level in one of the next
	pyramidRows  = 512  // buckets of a row
	pyramidLevel = 5    // levels above the frames: 16^5 frames are a day at 12 a second
)

// Recorder takes the frames, marks and points of one run and writes them with the next transaction. Its methods may be called by
// several goroutines; they never wait for the disk.
type Recorder struct {
	store   *Store
	runID   string
	product map[int][2]int

	mu     sync.Mutex
	open   [][]float64 // time and columns of the chunk that is not full yet, pending frames included
	stored int         // how many frames of open are already in small chunks
	first  int64       // index of the first frame of open
	marks  []markRow
	points []pointRow
	nMarks int
	levels [pyramidLevel]level
	rows   []pyramidRow // finished rows of the pyramid
	err    error
}

// level collects the buckets of one level that are not in a row yet.
type level struct {
	buckets [][]float64 // time, then min and max of each column
	partial []trace.Bucket
	t       float64
	members int   // members of the partial bucket
	first   int64 // index of the first frame of buckets
}

// NewRecorder begins to record a run that was created before.
func (s *Store) NewRecorder(runID string, columns []string) *Recorder {
	r := &Recorder{store: s, runID: runID, product: map[int][2]int{}, open: make([][]float64, len(columns)+1)}
	for i, p := range products(columns) {
		r.product[i+1] = [2]int{p[0] + 1, p[1] + 1}
	}
	for l := range r.levels {
		r.levels[l].buckets = make([][]float64, 1+2*len(columns))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.recorders[runID] = r
	return r
}

// Frame records a frame. It copies what it keeps.
func (r *Recorder) Frame(f trace.Frame) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.open[0] = append(r.open[0], f.T)
	for i, x := range f.Values {
		r.open[i+1] = append(r.open[i+1], x)
	}
	members := make([]trace.Bucket, len(f.Values))
	for i, x := range f.Values {
		members[i] = trace.Bucket{T: f.T, Min: x, Max: x}
	}
	r.raise(0, f.T, members)
}

// raise adds a member to the partial bucket of a level; a full bucket goes on to the next level, a full row to the disk.
func (r *Recorder) raise(l int, t float64, members []trace.Bucket) {
	if l == len(r.levels) {
		return
	}
	v := &r.levels[l]
	if v.members == 0 {
		v.partial, v.t = append(v.partial[:0], members...), t
	} else {
		for i := range members {
			v.partial[i].Merge(members[i])
		}
	}
	if v.members++; v.members < pyramidBase {
		return
	}
	v.members = 0
	v.buckets[0] = append(v.buckets[0], v.t)
	for i, b := range v.partial {
		v.buckets[1+2*i], v.buckets[2+2*i] = append(v.buckets[1+2*i], b.Min), append(v.buckets[2+2*i], b.Max)
	}
	full := append([]trace.Bucket(nil), v.partial...)
	if len(v.buckets[0]) == pyramidRows {
		end := v.first + pyramidRows*framesPerBucket(l+1)
		r.rows = append(r.rows, pyramidRow{RunID: r.runID, Level: l + 1, First: v.first, End: end, Data: encodeBlock(v.buckets, nil)})
		v.first = end
		for i := range v.buckets {
			v.buckets[i] = v.buckets[i][:0]
		}
	}
	r.raise(l+1, v.t, full)
}

func framesPerBucket(level int) int64 { return int64(math.Pow(pyramidBase, float64(level))) }

// Mark records a mark.
func (r *Recorder) Mark(m stage.Mark) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.marks = append(r.marks, markRow{RunID: r.runID, Seq: r.nMarks, T: m.T, Kind: string(m.Kind), Label: m.Label})
	r.nMarks++
}

// Point records a point.
func (r *Recorder) Point(p figure.Point) error {
	data, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("point %d: %w", p.Index, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.points = append(r.points, pointRow{RunID: r.runID, Seq: p.Index, Data: string(data)})
	return nil
}

// Err is why the last transaction failed; nil while all is well. What could not be written is tried again with the next one.
func (r *Recorder) Err() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

// Frames is the number of frames recorded so far.
func (r *Recorder) Frames() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.first + int64(len(r.open[0]))
}

// Finish writes everything that is pending together with the end of the run, and ends the recorder.
func (r *Recorder) Finish(columns map[string]any) error {
	r.store.mu.Lock()
	delete(r.store.recorders, r.runID)
	r.store.mu.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.store.db.Transaction(func(tx *gorm.DB) error {
		if err := r.write(tx, true); err != nil {
			return err
		}
		return tx.Model(&Run{}).Where("id = ?", r.runID).Updates(columns).Error
	})
	if err == nil {
		r.committed(true)
	}
	return err
}

// flush writes the pending data of all recorders in one transaction.
func (s *Store) flush() error {
	s.mu.Lock()
	recorders := make([]*Recorder, 0, len(s.recorders))
	for _, r := range s.recorders {
		recorders = append(recorders, r)
	}
	s.mu.Unlock()
	if len(recorders) == 0 {
		return nil
	}
	for _, r := range recorders {
		r.mu.Lock()
		defer r.mu.Unlock()
	}
	err := s.db.Transaction(func(tx *gorm.DB) error {
		for _, r := range recorders {
			if err := r.write(tx, false); err != nil {
				return err
			}
		}
		return nil
	})
	for _, r := range recorders {
		r.err = err
		if err == nil {
			r.committed(false)
		}
	}
	return err
}

// write puts what is pending into the transaction and changes nothing in memory, so that a failed transaction can be repeated.
// A chunk that is full, or the last one, replaces the small ones that held its beginning.
func (r *Recorder) write(tx *gorm.DB, last bool) error {
	n := len(r.open[0])
	switch {
	case n >= chunkFrames || last && n > 0:
		if err := tx.Delete(&chunk{}, "run_id = ? AND first >= ?", r.runID, r.first).Error; err != nil {
			return err
		}
		for from := 0; from < n; from += chunkFrames {
			if err := r.writeChunk(tx, from, min(from+chunkFrames, n)); err != nil {
				return err
			}
		}
	case n > r.stored:
		if err := r.writeChunk(tx, r.stored, n); err != nil {
			return err
		}
	}
	return errors.Join(createAll(tx, r.rows), createAll(tx, r.marks), createAll(tx, r.points))
}

func createAll[Row any](tx *gorm.DB, rows []Row) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(&rows, 100).Error
}

func (r *Recorder) writeChunk(tx *gorm.DB, from, to int) error {
	part := make([][]float64, len(r.open))
	for i, xs := range r.open {
		part[i] = xs[from:to]
	}
	return tx.Create(&chunk{RunID: r.runID, First: r.first + int64(from), Count: to - from, T0: part[0][0], T1: part[0][to-from-1],
		Data: encodeBlock(part, r.product)}).Error
}

// committed forgets what a transaction has made durable.
func (r *Recorder) committed(last bool) {
	n := len(r.open[0])
	if n >= chunkFrames || last {
		// Chunks were written in full lengths; what is beyond the last full one stays open, as a small chunk.
		keep := n % chunkFrames
		if last {
			keep = 0
		}
		for i := range r.open {
			r.open[i] = append(r.open[i][:0], r.open[i][n-keep:]...)
		}
		r.first += int64(n - keep)
		r.stored = keep
	} else {
		r.stored = n
	}
	r.rows, r.marks, r.points = nil, nil, nil
}
