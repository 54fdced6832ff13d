// Package report turns the record of a run into what is handed over: a PDF for people, CSV for spreadsheets,
// JSON with everything.
package report

import (
	"fmt"
	"slices"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/store"
)

// mostPlayed is up to how many frames curves are drawn of what a run played whenever somebody looks at it; of a longer
// one an overlay draws them.
const mostPlayed = 500_000

// Collect gathers everything on record about a run except its traces.
func Collect(s *store.Store, run store.Run) (api.Run, error) {
	doc := api.Run{
		RunSummary: run.Summary(), Frames: run.Frames, TimeFactor: run.TimeFactor, Parameters: run.Parameters,
		Breaks:        run.Breaks,
		ProcedureText: run.ProcedureText, NameplateText: run.NameplateText, Instruments: []api.InstrumentUse{},
		Preflight: []api.PreflightFinding{}, Curves: []procedure.Curve{}, Parts: run.Parts,
	}
	doc.Columns = []api.Column{} // of a capture alone there are none
	for _, c := range run.Columns {
		doc.Columns = append(doc.Columns, api.Column{Name: c, Unit: trace.UnitOf(c).Symbol})
	}
	if plate, err := nameplate.Parse([]byte(run.NameplateText)); run.NameplateText != "" && err == nil {
		doc.Rated = plate.RatedOf(run.Columns)
	}
	doc.Instruments = append(doc.Instruments, run.Instruments...)
	doc.Preflight = append(doc.Preflight, run.Preflight...)
	var err error
	if run.State == store.Live { // how far it is, as far as it is on record
		if doc.Duration, doc.Frames, err = s.Recorded(run.ID); err != nil {
			return doc, fmt.Errorf("frames of run %s: %w", run.ID, err)
		}
	}
	if doc.Figures, err = s.Figures(run.ID); err != nil {
		return doc, fmt.Errorf("figures of run %s: %w", run.ID, err)
	}
	if doc.Points, err = s.Points(run.ID); err != nil {
		return doc, fmt.Errorf("points of run %s: %w", run.ID, err)
	}
	for i, p := range doc.Points {
		doc.Points[i] = p.InUnits()
	}
	if doc.Marks, err = s.Marks(run.ID); err != nil {
		return doc, fmt.Errorf("marks of run %s: %w", run.ID, err)
	}
	if doc.Attachments, err = s.Attachments(run.ID); err != nil {
		return doc, fmt.Errorf("attachments of run %s: %w", run.ID, err)
	}
	if doc.Accuracies, err = accuraciesOf(run); err != nil {
		return doc, err
	}
	doc.Curves = curvesOf(nil, doc.Points)
	if program, rec, err := archive.Record(s, run); err == nil {
		doc.Curves, doc.Sections = curvesOf(program.Curves, doc.Points), program.Sections
		doc.Asked, doc.Pictures = askedOf(program, doc.Marks), program.Pictures
		if run.Frames <= mostPlayed {
			lockouts := archive.Lockouts(rec, doc.Figures)
			doc.Played = append(archive.Played(program, rec), lockouts...)
			for _, c := range lockouts {
				if !slices.Contains(doc.Curves, c.Curve) {
					doc.Curves = append(doc.Curves, c.Curve)
				}
			}
		}
	}
	doc.Played = append(archive.Pointed(doc.Curves, doc.Points), doc.Played...)
	pictures, lines := archive.Drawn(doc.Figures)
	doc.Curves, doc.Played = append(doc.Curves, pictures...), append(doc.Played, lines...)
	return doc, nil
}

// askedOf is what the operator answered, each with the prompt of the stage in which that was.
func askedOf(program *procedure.Program, marks []record.Mark) (all []api.Asked) {
	var asking stage.Prompting
	for _, m := range marks {
		switch about := m.About.(type) {
		case record.Began:
			asking = nil
			if about.Index >= 0 && about.Index < len(program.Stages) {
				asking, _ = program.Stages[about.Index].Action.(stage.Prompting)
			}
		case nil:
			if m.Kind == record.MarkAnswer && asking != nil {
				p := asking.Prompting()
				all = append(all, api.Asked{T: m.T, Prompt: p.Text, Picture: p.Picture, Answer: m.Label})
			}
		}
	}
	return all
}

// curvesOf are the curves that a run's procedure asks for, or the usual ones where it asks for none and has points.
func curvesOf(asked []procedure.Curve, points []record.Point) []procedure.Curve {
	onGrid := func(p record.Point) bool { return p.Row == "" }
	switch {
	case len(asked) > 0:
		return slices.Clone(asked)
	case slices.ContainsFunc(points, onGrid):
		return slices.Clone(usualCurves)
	}
	return []procedure.Curve{}
}

// usualCurves are drawn for a run with points whose procedure asks for no curves.
var usualCurves = []procedure.Curve{{Of: "efficiency", By: "load.amps", Per: "source.volts"},
	{Of: "load.volts", By: "load.amps", Per: "source.volts"}}
