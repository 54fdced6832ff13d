// Package archive reads what runs have left behind: the record from which figures are computed, curves of many
// runs on one picture, cells that belong together, and foreign logs that become runs.
package archive

import (
	"context"
	"encoding/json"
	"fmt"

	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/core/waveform"
	"usherbench/store"
)

// hiccup is how long, wall time, a busy computer may keep a frame waiting: for longer, and the warden would
// have switched the outputs off.
const hiccup = 0.55

// Record gathers what the figures of a run are computed from, and the program with its texts.
func Record(s *store.Store, run store.Run) (*procedure.Program, *record.Record, error) {
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
	rec := &record.Record{Points: points, Marks: marks, Stages: Spans(program, marks, run.Duration), Specs: specs,
		Columns: run.Columns, Breaks: run.Breaks, Bridge: hiccup * run.TimeFactor}
	if run.Source != "" {
		rec.Stages = importedSpans(marks, run.Duration)
	}
	if plate != nil {
		rec.Ratings, rec.Series = plate.Ratings, plate.Series
	}
	if rec.Captures, err = s.Captures(run.ID); err != nil {
		return nil, nil, err
	}
	rec.Samples = func(c record.Capture, channel string) (*waveform.Waveform, error) {
		return s.Waveform(context.Background(), run.ID, c.Index, channel)
	}
	reader := s.NewReader(run)
	rec.Trace = func(column string, t0, t1 float64) (trace.Series, error) {
		return reader.Trace(context.Background(), column, t0, t1)
	}
	return program, rec, nil
}

// Spans are the stages that happened, from the marks of their beginnings and ends. Marks of earlier versions do not
// say which kind of stage began; the program knows it by the name.
func Spans(p *procedure.Program, marks []record.Mark, end float64) []record.Span {
	kinds := map[string]string{}
	for _, s := range p.Stages {
		kinds[s.Name] = s.Kind()
	}
	spans := record.SpansOf(record.StagesByName(marks, kinds), end)
	for i := range spans {
		spans[i].AtLeast = p.Interval(spans[i].Name, spans[i].Kind)
	}
	return spans
}
