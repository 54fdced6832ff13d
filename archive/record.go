// Package archive reads what runs have left behind: the record from which figures are computed, curves of many
// runs on one picture, cells that belong together, and foreign logs that become runs.
package archive

import (
	"context"
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/store"
)

// hiccup is how long, wall time, a busy computer may keep a frame waiting: for longer, and the warden would
// have switched the outputs off.
const hiccup = 0.55

// Record gathers what the figures of a run are computed from, and the program with its texts.
func Record(s *store.Store, run store.Run) (*procedure.Program, *figure.Record, error) {
	program, plate, err := run.Program()
	if err != nil {
		return nil, nil, err
	}
	points, err := s.Points(run.ID)
	if err != nil {
		return nil, nil, err
	}
	marks, err := s.Marks(run.ID)
	if err != nil {
		return nil, nil, err
	}
	var specs map[string]uncertainty.Spec
	if err := json.Unmarshal([]byte(run.Specs), &specs); run.Specs != "" && err != nil {
		return nil, nil, fmt.Errorf("accuracies of run %s: %w", run.ID, err)
	}
	record := &figure.Record{Points: points, Stages: Spans(program, marks, run.Duration), Specs: specs,
		Columns: run.Columns, AtLeast: program.Slowest(), Breaks: run.Breaks, Bridge: hiccup * run.TimeFactor}
	if run.Source != "" {
		record.Stages = importedSpans(marks, run.Duration)
		record.AtLeast = 0
	}
	for _, m := range marks {
		record.Events = append(record.Events, figure.Event{T: m.T, Kind: string(m.Kind), Label: m.Label})
	}
	if plate != nil {
		record.Ratings, record.Series = plate.Ratings, plate.Series
	}
	record.Trace = func(column string, t0, t1 float64) (trace.Series, error) {
		return s.Trace(context.Background(), run, column, t0, t1)
	}
	return program, record, nil
}

// Spans are the stages that happened, from the marks of their beginnings and ends.
func Spans(p *procedure.Program, marks []stage.Mark, end float64) []figure.Span {
	kinds := map[string]string{}
	for _, s := range p.Stages {
		kinds[s.Name] = s.Kind()
	}
	var all []figure.Span
	for _, m := range marks {
		switch m.Kind {
		case stage.MarkStage:
			all = append(all, figure.Span{Name: m.Label, Kind: kinds[m.Label], T0: m.T, T1: math.Max(end, m.T)})
		case stage.MarkStageEnd:
			if len(all) > 0 {
				all[len(all)-1].T1 = m.T
			}
		}
	}
	return all
}
