package report

import (
	"context"
	"fmt"
	"math"

	"usherbench/core/trace"
	"usherbench/store"
)

// ExcerptPictures draws what was kept of the run under a name: of each excerpt all volts and amps.
func ExcerptPictures(ctx context.Context, s *store.Store, run store.Run) ([]Picture, error) {
	all, err := s.Excerpts(run.ID)
	if err != nil {
		return nil, err
	}
	var pictures []Picture
	for _, e := range all {
		w, err := s.Window(ctx, run, nil, e.From, e.To, capturePoints)
		if err != nil {
			return nil, fmt.Errorf("excerpt %q: %w", e.Name, err)
		}
		for i, column := range w.Columns {
			if unit := trace.UnitOf(column).Symbol; unit == "V" || unit == "A" {
				pictures = append(pictures, excerptPicture(e, column, w.Buckets[i])...)
			}
		}
	}
	return pictures, nil
}

// noteOf is what was written about an excerpt, with its name; empty: nothing.
func noteOf(e store.Excerpt) string {
	if e.Note == "" {
		return ""
	}
	return e.Name + ": " + e.Note
}

// excerptPicture draws one column, so that a small dip is seen beside what swings far; nothing of one without
// readings.
func excerptPicture(e store.Excerpt, column string, buckets []trace.Bucket) []Picture {
	p := Picture{Title: fmt.Sprintf("%s: %s", e.Name, label(column)), Note: noteOf(e),
		XLabel: "s since the start",
		YLabel: fmt.Sprintf("%s (%s)", label(column), trace.UnitOf(column).Symbol), Plain: true, Thin: true}
	line := Line{}
	for _, b := range buckets {
		if math.IsNaN(b.Min) || b.T < e.From || b.T > e.To {
			continue
		}
		line.X, line.Y = append(line.X, b.T), append(line.Y, b.Min)
		if b.Max != b.Min {
			line.X, line.Y = append(line.X, b.T), append(line.Y, b.Max)
		}
	}
	if len(line.X) < 2 {
		return nil
	}
	p.Lines = []Line{line}
	return []Picture{p}
}
