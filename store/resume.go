package store

import (
	"context"
	"fmt"
	"math"

	"gorm.io/gorm"

	"usherbench/core/record"
	"usherbench/core/trace"
)

// Snapshot reads the state from which a live run can go on; ErrNotFound if none was stored.
func (s *Store) Snapshot(runID string) ([]byte, error) {
	var row snapshotRow
	return row.Data, notFound(s.db.First(&row, "run_id = ?", runID).Error, "snapshot of run", runID)
}

// DropSnapshot forgets the state of a run that will not go on.
func (s *Store) DropSnapshot(runID string) error {
	return s.write(func(tx *gorm.DB) error { return tx.Delete(&snapshotRow{}, "run_id = ?", runID).Error })
}

// SaveBreaks keeps the times in which nobody recorded a run.
func (s *Store) SaveBreaks(runID string, breaks []record.Break) error {
	return s.write(func(tx *gorm.DB) error {
		return tx.Model(&Run{ID: runID}).Select("breaks").Updates(Run{Breaks: breaks}).Error
	})
}

// ContinueRecorder goes on recording a run whose recorder was lost with its process. Frames, marks and points
// are added to those on record; the pyramid is built anew from the frames, as far as its rows were not written.
func (s *Store) ContinueRecorder(ctx context.Context, run Run) (*Recorder, error) {
	r := s.NewRecorder(run.ID, run.Columns)
	var marks int64
	if err := s.db.Model(&markRow{}).Where("run_id = ?", run.ID).Count(&marks).Error; err != nil {
		return nil, fmt.Errorf("marks of run %s: %w", run.ID, err)
	}
	r.nMarks = int(marks)
	var frames int64
	err := s.EachFrames(ctx, run, math.Inf(-1), math.MaxFloat64,
		func(times []float64, column func(int) ([]float64, error)) error {
			values := make([][]float64, len(run.Columns))
			for i := range values {
				xs, err := column(i)
				if err != nil {
					return err
				}
				values[i] = xs
			}
			for k, t := range times {
				members := make([]trace.Bucket, len(values))
				for i, xs := range values {
					members[i] = trace.Bucket{T: t, Min: xs[k], Max: xs[k]}
				}
				r.raise(0, t, members)
				r.rows = r.rows[:0] // those are on disk
				if len(r.open[0]) == chunkFrames {
					r.first += chunkFrames
					for i := range r.open {
						r.open[i] = nil
					}
				}
				r.open[0] = append(r.open[0], t)
				for i, xs := range values {
					r.open[i+1] = append(r.open[i+1], xs[k])
				}
				frames++
			}
			return nil
		})
	if err != nil {
		return nil, fmt.Errorf("frames of run %s: %w", run.ID, err)
	}
	// A chunk that is full stays; what is beyond it is in small chunks, which a full one replaces.
	r.stored = int(frames - r.first)
	return r, nil
}
