package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"usherbench/core/record"
	"usherbench/core/trace"
)

const (
	chunkFrames  = 4096 // frames of a full chunk
	pyramidBase  = 16   // frames of a bucket of level 1; buckets of a level in one of the next
	pyramidRows  = 512  // buckets of a row
	pyramidLevel = 5    // levels above the frames: 16^5 frames are a day at 12 a second
)

// Recorder takes the frames, marks and points of one run and writes them with the next transaction. Its methods
// may be called by several goroutines; but for Finish they never wait for the disk.
type Recorder struct {
	store   *Store
	runID   string
	product map[int][2]int

	writing *semaphore.Weighted // held from taking a snapshot until it is committed; taken before mu

	mu       sync.Mutex     // guards what follows, never held while the disk works
	open     [][]float64    // time and columns of the chunk that is not full yet, pending frames included
	members  []trace.Bucket // of the newest frame, as long as it is taken in
	stored   int            // how many frames of open are already in small chunks
	first    int64          // index of the first frame of open
	marks    []markRow
	points   []pointRow
	captures []capturePending
	nMarks   int
	levels   [pyramidLevel]level
	rows     []bucketRow // finished rows of the pyramid
	failing  time.Time   // since when err stands
	state    []byte      // newest state of the run, from which it can go on; nil: as on disk
	err      error
}

// level collects the buckets of one level that are not in a row yet.
type level struct {
	buckets [][]float64 // time, then min and max of each column
	partial []trace.Bucket
	t       float64
	members int   // members of the partial bucket
	first   int64 // index of the first frame of buckets
}

// bucketRow is a row of the pyramid before it is encoded.
type bucketRow struct {
	level      int
	first, end int64
	buckets    [][]float64
}

// NewRecorder begins to record a run that was created before.
func (s *Store) NewRecorder(runID string, columns []string) *Recorder {
	r := &Recorder{store: s, writing: semaphore.NewWeighted(1), runID: runID, product: map[int][2]int{},
		open: make([][]float64, len(columns)+1)}
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
	r.members = r.members[:0]
	r.open[0] = append(r.open[0], f.T)
	for i, x := range f.Values {
		r.open[i+1] = append(r.open[i+1], x)
		r.members = append(r.members, trace.Bucket{T: f.T, Min: x, Max: x})
	}
	r.raise(0, f.T, r.members)
}

// raise adds a member to the partial bucket of a level; a full bucket goes on to the next level, a full row to
// the disk.
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
	if len(v.buckets[0]) == pyramidRows {
		end := v.first + pyramidRows*framesPerBucket(l+1)
		r.rows = append(r.rows, bucketRow{l + 1, v.first, end, v.buckets})
		v.first, v.buckets = end, make([][]float64, len(v.buckets))
	}
	r.raise(l+1, v.t, v.partial)
}

func framesPerBucket(level int) int64 { return int64(math.Pow(pyramidBase, float64(level))) }

// Mark records a mark.
func (r *Recorder) Mark(m record.Mark) {
	row := markRow{RunID: r.runID, T: m.T, Kind: string(m.Kind), Label: m.Label}
	if about, err := record.MarshalAbout(m.About); err == nil { // plain data can always be written
		row.About = string(about)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	row.Seq = r.nMarks
	r.marks = append(r.marks, row)
	r.nMarks++
}

// Point records a point.
func (r *Recorder) Point(p record.Point) error {
	data, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("point %d: %w", p.Index, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.points = append(r.points, pointRow{RunID: r.runID, Seq: p.Index, Data: string(data)})
	return nil
}

// State keeps the state of the run, from which it can go on if the service is killed; it becomes durable with
// the frames before it.
func (r *Recorder) State(data []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state = data
}

// Err is why the last transaction failed; nil while all is well. What could not be written is tried again with
// the next one.
func (r *Recorder) Err() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

// mostKept bounds the frames that are kept in memory while they cannot be written.
const mostKept = 200_000

// Failing is since when nothing could be written, and full whether more is waiting than may be kept in memory; the
// zero time while all is well.
func (r *Recorder) Failing() (since time.Time, full bool, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err == nil {
		return time.Time{}, false, nil
	}
	return r.failing, len(r.open[0])-r.stored > mostKept, r.err
}

// Frames is the number of frames recorded so far.
func (r *Recorder) Frames() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.first + int64(len(r.open[0]))
}

// recorded is the time of the newest frame of the chunk that is open, and the number of all frames so far. Without a
// frame in it the database knows more.
func (r *Recorder) recorded() (end float64, frames int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	times := r.open[0]
	if len(times) == 0 {
		return 0, 0
	}
	return times[len(times)-1], r.first + int64(len(times))
}

// Finish writes everything that is pending together with columns of the run, and ends the recorder.
func (r *Recorder) Finish(columns map[string]any) error {
	defer takeTurn(r.writing)()
	p := r.pending(true)
	err := r.store.write(func(tx *gorm.DB) error {
		if err := p.write(tx); err != nil {
			return err
		}
		return tx.Model(&Run{}).Where("id = ?", r.runID).Updates(columns).Error
	})
	r.committed(p, err)
	if err == nil { // until then what it holds is not lost, and is tried again with the others
		r.store.mu.Lock()
		delete(r.store.recorders, r.runID)
		r.store.mu.Unlock()
	}
	return err
}

// Flush makes everything durable that was recorded so far.
func (s *Store) Flush() error { return s.flush() }

// flush writes the pending data of all recorders in one transaction.
func (s *Store) flush() error {
	defer takeTurn(s.flushing)() // two at a time would each hold recorders that the other waits for
	s.mu.Lock()
	recorders := slices.Collect(maps.Values(s.recorders))
	s.mu.Unlock()
	if len(recorders) == 0 {
		return nil
	}
	pendings := make([]pending, len(recorders))
	for i, r := range recorders {
		defer takeTurn(r.writing)()
		pendings[i] = r.pending(false)
	}
	err := s.write(func(tx *gorm.DB) error {
		for _, p := range pendings {
			if err := p.write(tx); err != nil {
				return err
			}
		}
		return nil
	})
	for i, r := range recorders {
		r.committed(pendings[i], err)
	}
	return err
}

// pending is a snapshot of what a recorder has to write. It shares memory with the recorder, which only appends
// meanwhile.
type pending struct {
	runID    string
	product  map[int][2]int
	open     [][]float64
	stored   int
	first    int64
	marks    []markRow
	points   []pointRow
	captures []capturePending
	rows     []bucketRow
	state    []byte
	last     bool // nothing follows
}

func (r *Recorder) pending(last bool) pending {
	r.mu.Lock()
	defer r.mu.Unlock()
	// Marks and points are copied: whoever writes them fills in what they leave open.
	return pending{r.runID, r.product, slices.Clone(r.open), r.stored, r.first, slices.Clone(r.marks),
		slices.Clone(r.points), r.captures, r.rows, r.state, last}
}

// write puts a snapshot into the transaction. A chunk that is full, or the last one, replaces the small ones
// that held its beginning.
func (p pending) write(tx *gorm.DB) error {
	n := len(p.open[0])
	switch {
	case n >= chunkFrames || p.last && n > 0:
		if err := tx.Delete(&chunk{}, "run_id = ? AND first >= ?", p.runID, p.first).Error; err != nil {
			return err
		}
		for from := 0; from < n; from += chunkFrames {
			if err := p.writeChunk(tx, from, min(from+chunkFrames, n)); err != nil {
				return err
			}
		}
	case n > p.stored:
		if err := p.writeChunk(tx, p.stored, n); err != nil {
			return err
		}
	}
	rows := make([]pyramidRow, len(p.rows))
	for i, r := range p.rows {
		rows[i] = pyramidRow{RunID: p.runID, Level: r.level, First: r.first, End: r.end, Data: encodeBlock(r.buckets, nil)}
	}
	var state error
	switch {
	case p.last:
		state = tx.Delete(&snapshotRow{}, "run_id = ?", p.runID).Error
	case p.state != nil:
		state = tx.Save(&snapshotRow{p.runID, p.state}).Error
	}
	// A point that was measured again after a break replaces the first.
	return errors.Join(state, createAll(tx, rows), createAll(tx, p.marks),
		createAll(tx.Clauses(clause.OnConflict{UpdateAll: true}), p.points), writeCaptures(tx, p.captures))
}

func createAll[Row any](tx *gorm.DB, rows []Row) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(&rows, 100).Error
}

func (p pending) writeChunk(tx *gorm.DB, from, to int) error {
	part := make([][]float64, len(p.open))
	for i, xs := range p.open {
		part[i] = xs[from:to]
	}
	return tx.Create(&chunk{RunID: p.runID, First: p.first + int64(from), Count: to - from, T0: part[0][0],
		T1:   part[0][to-from-1],
		Data: encodeBlock(part, p.product)}).Error
}

// committed forgets what a transaction has made durable, or keeps it all if the transaction failed.
func (r *Recorder) committed(p pending, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err == nil && err != nil {
		r.failing = time.Now()
	}
	if r.err = err; err != nil {
		return
	}
	n := len(p.open[0])
	if n >= chunkFrames || p.last {
		// Chunks were written in full lengths; what is beyond the last full one stays open, as a small chunk.
		keep := n % chunkFrames
		if p.last {
			keep = 0
		}
		for i := range r.open {
			r.open[i] = append([]float64(nil), r.open[i][n-keep:]...)
		}
		r.first += int64(n - keep)
		r.stored = keep
	} else {
		r.stored = n
	}
	if len(p.state) > 0 && len(r.state) > 0 && &p.state[0] == &r.state[0] {
		r.state = nil
	}
	r.rows, r.marks, r.points = r.rows[len(p.rows):], r.marks[len(p.marks):], r.points[len(p.points):]
	r.captures = r.captures[len(p.captures):]
}
