package report

import (
	"context"
	"fmt"
	"math"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// CoursePictures draws the course of a run over time, a picture for each quantity that curves show: for runs of which
// nothing else is drawn.
func CoursePictures(ctx context.Context, s *store.Store, run store.Run) ([]Picture, error) {
	w, err := s.Window(ctx, run, nil, 0, math.MaxFloat64, capturePoints)
	if err != nil {
		return nil, fmt.Errorf("course of run %s: %w", run.ID, err)
	}
	unit, scale := "s", 1.0
	switch {
	case run.Duration > 3*3600:
		unit, scale = "h", 3600
	case run.Duration > 5*60:
		unit, scale = "min", 60
	}
	marks, err := s.Marks(run.ID)
	if err != nil {
		return nil, fmt.Errorf("marks of run %s: %w", run.ID, err)
	}
	spells := record.Spells(marks, run.Duration)
	for i := range spells {
		spells[i].T0, spells[i].T1 = spells[i].T0/scale, spells[i].T1/scale
	}
	var pictures []Picture
	for _, q := range quantity.Kinds() {
		if !q.Drawn {
			continue
		}
		p := Picture{Title: q.Title, XLabel: unit + " since the start", YLabel: q.Title + " (" + q.Unit.Symbol + ")",
			Plain: true, Thin: true, Between: true, Spells: spells}
		for i, column := range w.Columns {
			if _, reading, _ := strings.Cut(column, "."); reading != q.Name { // of a quantity in parts the whole is drawn
				continue
			}
			if line := courseOf(w.Buckets[i], scale); len(line.X) > 1 {
				line.Label = label(column)
				p.Lines = append(p.Lines, line)
			}
		}
		if len(p.Lines) > 0 {
			pictures = append(pictures, p)
		}
	}
	return pictures, nil
}

// courseOf is a column over time, in the unit of the picture: the least and the largest of each bucket.
func courseOf(buckets []trace.Bucket, scale float64) (line Line) {
	for _, b := range buckets {
		if math.IsNaN(b.Min) {
			continue
		}
		line.X, line.Y = append(line.X, b.T/scale), append(line.Y, b.Min)
		if b.Max != b.Min {
			line.X, line.Y = append(line.X, b.T/scale), append(line.Y, b.Max)
		}
	}
	return line
}
