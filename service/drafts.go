package service

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/pmezard/go-difflib/difflib"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/catalogue"
	"usherbench/core/document"
	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/shape"
	"usherbench/store"
	"usherbench/tables"
)

// outline takes a draft apart for people; what is wrong with it is part of the answer.
func (s *Service) outline(c *echo.Context) error {
	d, err := bind[api.Draft](c)
	if err != nil {
		return err
	}
	plate, findings := s.draftPlate(d)
	program, found := catalogue.Draft([]byte(d.Text), plate, d.Parameters, s.store.Library)
	return c.JSON(http.StatusOK, outlineOf(program, append(findings, found...)))
}

// draftPlate is the nameplate of a draft, as far as it can be found.
func (s *Service) draftPlate(d api.Draft) (*nameplate.Nameplate, document.Findings) {
	text := d.Nameplate
	if !strings.Contains(text, ":") {
		name := text
		if name == "" {
			if header, err := procedure.ReadHeader([]byte(d.Text)); err == nil || header.For != "" {
				name = header.For
			}
		}
		stored, err := s.store.Nameplate(name)
		if err != nil {
			return nil, nil
		}
		text = stored.Text
	}
	plate, err := nameplate.Parse([]byte(text))
	if err != nil {
		return nil, document.Findings{{Line: 1, Column: 1, Message: "the nameplate: " + err.Error()}}
	}
	return plate, nil
}

// outlineKnots is how finely shapes are drawn.
const outlineKnots = 400

func outlineOf(p *procedure.Program, findings document.Findings) api.Outline {
	o := api.Outline{Name: p.Name, Title: p.Title, For: p.For, Findings: findings, Stages: []api.OutlineStage{},
		Parameters: []api.OutlineParameter{}, Guards: []string{},
		Names: append([]string{}, p.Columns...)}
	if o.Findings == nil {
		o.Findings = document.Findings{}
	}
	if len(findings) == 0 {
		o.Duration, o.Most = p.RunsFor()
	}
	for _, s := range p.Stages {
		switch s.Action.(type) {
		case *procedure.Again, *procedure.Skip:
			continue
		}
		stage := api.OutlineStage{Name: s.Name, Kind: s.Kind(), Path: append([]string{}, s.Path...), Line: s.Line}
		if len(findings) == 0 { // of a draft with mistakes, actions may be only half there
			stage.Duration, stage.Words = s.Duration(), s.Words()
		}
		if play, ok := s.Action.(*kinds.Play); ok {
			for _, t := range play.Tracks {
				stage.Tracks = append(stage.Tracks, trackOf(t))
			}
		}
		o.Stages = append(o.Stages, stage)
	}
	for _, a := range p.Parameters {
		o.Parameters = append(o.Parameters, api.OutlineParameter{Name: a.Name, About: a.About, Value: a.Value.String(),
			Adjustable: a.Adjustable})
	}
	for _, g := range p.Guards {
		o.Guards = append(o.Guards, g.Words())
	}
	o.Names = append(o.Names, slices.Sorted(maps.Keys(p.Constants))...)
	return o
}

func trackOf(t kinds.Track) api.OutlineTrack {
	kind, _ := quantity.KindOf(t.Quantity)
	low, high := t.Shape.Extremes()
	track := api.OutlineTrack{Column: t.Column(), Unit: kind.Unit.Symbol, Low: low, High: high,
		Steepest: t.Shape.Steepest(), Shortest: t.Shape.Shortest(),
		Knots: t.Shape.Outline(outlineKnots), Handles: []api.OutlineHandle{}}
	var at float64
	for i, g := range t.Shape.Segments {
		last := i+1 == len(t.Shape.Segments) || t.Shape.Segments[i+1].Item != g.Item
		first := i == 0 || t.Shape.Segments[i-1].Item != g.Item
		if first && last && (g.Kind == shape.Hold || g.Kind == shape.Ramp) && len(track.Handles) < 100 {
			track.Handles = append(track.Handles, api.OutlineHandle{Item: g.Item, T0: at, T1: at + g.For, Level: g.To})
		}
		at += g.For
	}
	return track
}

// rehearse runs a draft on the model of its unit.
func (s *Service) rehearse(c *echo.Context) error {
	d, err := bind[api.Draft](c)
	if err != nil {
		return err
	}
	r, err := s.shelf.Rehearse(c.Request().Context(), d)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, r)
}

// showRehearsal lays the rehearsal of a run over it.
func (s *Service) showRehearsal(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	r, err := s.shelf.OfRun(c.Request().Context(), run)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, r)
}

// ready lists the procedures that ship with the program, to start from.
func (s *Service) ready(c *echo.Context) error {
	list := []api.Procedure{}
	for _, text := range s.options.Ready {
		header, err := procedure.ReadHeader([]byte(text))
		if err != nil {
			return err
		}
		list = append(list, api.Procedure{Name: header.Name, Title: header.Title, For: header.For,
			Seats: append([]string{}, header.Seats...), Text: text})
	}
	return c.JSON(http.StatusOK, list)
}

// revisions lists the revisions of a procedure, newest first.
func (s *Service) revisions(c *echo.Context) error {
	all, err := s.store.Revisions(c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, proceduresOf(all))
}

// difference compares two revisions line by line; the older one defaults to that before the newer one.
func (s *Service) difference(c *echo.Context) error {
	to, err := wholeParam(c, "to", 0, 0, 1<<30)
	if err != nil {
		return err
	}
	newer, err := s.store.Revision(c.Param("name"), to)
	if err != nil {
		return err
	}
	from, err := wholeParam(c, "from", max(newer.Number-1, 1), 1, 1<<30)
	if err != nil {
		return err
	}
	older, err := s.store.Revision(c.Param("name"), from)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, difference(older.Text, newer.Text))
}

func difference(older, newer string) []api.Difference {
	a, b := strings.Split(strings.TrimRight(older, "\n"), "\n"), strings.Split(strings.TrimRight(newer, "\n"), "\n")
	lines := []api.Difference{}
	for _, op := range difflib.NewMatcher(a, b).GetOpCodes() {
		if op.Tag == 'e' {
			for k := range op.I2 - op.I1 {
				lines = append(lines, api.Difference{Kind: "same", Old: op.I1 + k + 1, New: op.J1 + k + 1, Text: a[op.I1+k]})
			}
			continue
		}
		for k := op.I1; k < op.I2; k++ {
			lines = append(lines, api.Difference{Kind: "old", Old: k + 1, Text: a[k]})
		}
		for k := op.J1; k < op.J2; k++ {
			lines = append(lines, api.Difference{Kind: "new", New: k + 1, Text: b[k]})
		}
	}
	return lines
}

// readTable reads a table file and gives it as CSV, for a procedure to carry.
func (s *Service) readTable(c *echo.Context) error {
	t, err := tables.Read(c.Request().Body, tables.FormatOf(c.QueryParam("name")))
	if err != nil {
		var cell *shape.CellError
		detail := err.Error()
		if errors.As(err, &cell) {
			detail = cell.Error()
		}
		return &api.Problem{Title: "The table cannot be used", Status: http.StatusUnprocessableEntity, Detail: detail,
			Remedy: "mend the cell and send the file again"}
	}
	return c.JSON(http.StatusOK, api.Table{Text: tables.Text(t), Names: t.Names, Rows: t.Len()})
}

// writeTable gives the shapes of a stage as a table file.
func (s *Service) writeTable(c *echo.Context) error {
	d, err := bind[api.Draft](c)
	if err != nil {
		return err
	}
	plate, _ := s.draftPlate(d)
	program, err := catalogue.Parse([]byte(d.Text), plate, d.Parameters, s.store.Library)
	if err != nil {
		return err
	}
	t, err := program.Table(c.QueryParam("stage"))
	if err != nil {
		return &api.Problem{Title: "There is no such shape", Status: http.StatusNotFound, Detail: err.Error(),
			Remedy: "name a stage that plays"}
	}
	format, mime := tables.CSV, "text/csv"
	if c.QueryParam("format") == tables.XLSX {
		format, mime = tables.XLSX, "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
	}
	var b bytes.Buffer
	if err := tables.Write(&b, t, format); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", program.Name+"."+format))
	return c.Blob(http.StatusOK, mime, b.Bytes())
}

// judgeAgain computes figures and outcomes of a run, or of every run of a lot, anew.
func (s *Service) judgeAgain(c *echo.Context) error {
	j, err := bind[api.JudgeAgain](c)
	if err != nil {
		return err
	}
	runs, err := s.runsToJudge(j)
	if err != nil {
		return err
	}
	list := []api.Judgement{}
	for _, run := range runs {
		one := j
		one.Run, one.Lot = run.ID, ""
		judged, err := workedOut[store.Judgement](s, c, judgementsPath, one)
		if err != nil {
			return err
		}
		kept, err := archive.KeepJudgement(s.store, run, judged, j.Adopt)
		if err != nil {
			return fmt.Errorf("run %s of %s: %w", run.ID, run.Serial, err)
		}
		list = append(list, kept)
	}
	return c.JSON(http.StatusOK, list)
}

// workOutJudgement computes the figures of one run anew, for the service to keep.
func (s *Service) workOutJudgement(c *echo.Context) error {
	j, err := bind[api.JudgeAgain](c)
	if err != nil {
		return err
	}
	run, err := s.store.Run(j.Run)
	if err != nil {
		return err
	}
	judged, err := archive.JudgeAgain(s.store, s.store.Library, run, who(c), j)
	if err != nil {
		return fmt.Errorf("run %s of %s: %w", run.ID, run.Serial, err)
	}
	return c.JSON(http.StatusOK, judged)
}

// mostJudged bounds how many runs of a lot are judged at once.
const mostJudged = 10_000

func (s *Service) runsToJudge(j api.JudgeAgain) ([]store.Run, error) {
	if (j.Run == "") == (j.Lot == "") {
		return nil, &api.Problem{Title: "Nothing to judge", Status: http.StatusBadRequest,
			Detail: "name a run or a lot, one of the two", Remedy: "send run or lot"}
	}
	if j.Run != "" {
		run, err := s.store.Run(j.Run)
		return []store.Run{run}, err
	}
	listed, err := s.store.Runs(store.RunFilter{Lot: j.Lot, Limit: mostJudged})
	if err != nil {
		return nil, err
	}
	var name string
	if j.Text != "" {
		header, err := procedure.ReadHeader([]byte(j.Text))
		if err != nil {
			return nil, err
		}
		name = header.Name
	}
	runs := slices.DeleteFunc(listed, func(r store.Run) bool {
		return r.State == store.Live || name != "" && r.Procedure != name
	})
	if len(runs) == 0 {
		return nil, fmt.Errorf("lot %q has no run to judge: %w", j.Lot, store.ErrNotFound)
	}
	return runs, nil
}

// judgements lists how a run was judged, oldest first.
func (s *Service) judgements(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	stored, err := s.store.Judgements(run.ID)
	if err != nil {
		return err
	}
	list := []api.Judgement{}
	for _, j := range stored {
		out, err := archive.JudgementOf(j, run.Serial)
		if err != nil {
			return err
		}
		list = append(list, out)
	}
	return c.JSON(http.StatusOK, list)
}

// intervene does something to the live run of a bay.
func (s *Service) intervene(c *echo.Context) error {
	i, err := bind[api.Intervention](c)
	if err != nil {
		return err
	}
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	if err := b.Intervene(c.Request().Context(), who(c), i); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}
