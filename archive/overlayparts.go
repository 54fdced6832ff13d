package archive

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/core/overlay"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// whole draws a quantity over the whole run, as many places as a screen shows.
func (l *laid) whole(ctx context.Context, run store.Run) error {
	q := l.quantity(run)
	w, err := l.store.Window(ctx, run, []string{q}, 0, math.MaxFloat64, drawPlaces)
	if err != nil {
		return err
	}
	unit := trace.UnitOf(q)
	var c overlay.Curve
	for _, b := range w.Buckets[0] {
		c.X, c.Y = append(c.X, b.T), append(c.Y, (b.Min+b.Max)/2/unit.Factor)
	}
	if c = c.Rising(); len(c.X) < 2 {
		return fmt.Errorf("it has no record of %s", q)
	}
	l.out.XLabel, l.out.XUnit, l.out.YLabel, l.out.YUnit = "time", "s", q, unit.Symbol
	if c, err = l.aligned(run, c, 0); err != nil {
		return err
	}
	l.take(run, wholeRun, 1, c)
	return nil
}

// excerpts draws what was kept of the run under names, or under the one that was asked for: every frame of it, from its
// begin.
func (l *laid) excerpts(run store.Run, rec *record.Record) error {
	kept, err := l.store.Excerpts(run.ID)
	if err != nil {
		return err
	}
	if name := l.request.Excerpt; name != "" {
		kept = slices.DeleteFunc(kept, func(e store.Excerpt) bool { return e.Name != name })
	}
	if len(kept) == 0 {
		return errors.New("it has no such excerpt")
	}
	for _, e := range kept {
		if err := l.excerpt(run, rec, e); err != nil {
			return fmt.Errorf("excerpt %q: %w", e.Name, err)
		}
	}
	return nil
}

func (l *laid) excerpt(run store.Run, rec *record.Record, e store.Excerpt) error {
	q, drawn := l.quantity(run), len(l.curves)
	if strings.Contains(l.request.Over, ".") {
		c, err := framesOf(rec, l.request.Over, q, e.From, e.To)
		if err == nil {
			err = l.overColumn(run, itsExcerpts, c)
		}
		if err != nil {
			return err
		}
	} else {
		s, err := rec.Trace(q, e.From, e.To)
		if err != nil {
			return err
		}
		unit := trace.UnitOf(q)
		var c overlay.Curve
		for k, t := range s.T {
			c.X, c.Y = append(c.X, t-e.From), append(c.Y, s.X[k]/unit.Factor)
		}
		if c = c.Rising(); len(c.X) < 2 {
			return fmt.Errorf("it has no record of %s", q)
		}
		l.out.XLabel, l.out.XUnit, l.out.YLabel, l.out.YUnit = "time", "s", q, unit.Symbol
		if c, err = l.aligned(run, c, e.From); err != nil {
			return err
		}
		l.take(run, itsExcerpts, 1, c)
	}
	for i := drawn; i < len(l.infos); i++ {
		l.infos[i].Excerpt = e.Name
	}
	return nil
}
