package service

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/report"
	"usherbench/store"
)

// lookOf is how a report is to look: as the office has set, in another language or on other paper if that is asked for.
func (s *Service) lookOf(c *echo.Context) (report.Look, string, error) {
	o, err := s.office()
	if err != nil {
		return report.Look{}, "", err
	}
	look, format := report.Look{Look: o.Look}, c.QueryParam("format")
	if text := c.QueryParam("language"); text != "" {
		look.Language = text
	}
	if text := c.QueryParam("paper"); text != "" {
		look.Paper = text
	}
	if format == "" {
		format = report.Formats[0]
	}
	if !slices.Contains(report.Formats, format) {
		return look, "", badRequest(fmt.Sprintf("there are no reports as %q", format),
			"choose "+strings.Join(report.Formats, " or "))
	}
	if err := look.Check(); err != nil {
		return look, "", badRequest(err.Error(), "")
	}
	return look, format, nil
}

// contentTypes are those of files, by format.
var contentTypes = map[string]string{"pdf": "application/pdf", "html": "text/html; charset=utf-8",
	"text": "text/plain; charset=utf-8", "csv": "text/csv; charset=utf-8", "json": "application/json",
	"xlsx":    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	"parquet": "application/vnd.apache.parquet"}

// hand hands over a file.
func hand(c *echo.Context, format, name string, data []byte) error {
	ending := map[string]string{"text": "txt"}[format]
	if ending == "" {
		ending = format
	}
	attach(c.Response(), contentTypes[format], fileName(name)+"."+ending)
	_, err := c.Response().Write(data)
	return err
}

// lotReport makes the report of a lot.
func (s *Service) lotReport(c *echo.Context) error {
	look, format, err := s.lookOf(c)
	if err != nil {
		return err
	}
	lot, err := archive.Lot(s.store, c.Param("lot"), api.LotRequest{})
	if err != nil {
		return err
	}
	log, err := archive.LotLog(s.store, c.Param("lot"))
	if err != nil {
		return err
	}
	data, err := report.Lot(lot, look, format, log.Entries[len(log.Entries)-1].Began)
	if err != nil {
		return err
	}
	return hand(c, format, "lot_"+lot.Name, data)
}

// lotLog is a line for every attempt of a lot.
func (s *Service) lotLog(c *echo.Context) error {
	format := c.QueryParam("format")
	if format != "" && format != "json" && !slices.Contains(report.LotLogFormats, format) {
		return badRequest(fmt.Sprintf("there is no log as %q", format),
			"choose json, "+strings.Join(report.LotLogFormats, ", "))
	}
	log, err := archive.LotLog(s.store, c.Param("lot"))
	if err != nil {
		return err
	}
	if format == "" || format == "json" {
		return c.JSON(http.StatusOK, log)
	}
	o, err := s.office()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	evidence := func(run string) (e report.Evidence, err error) {
		if e.Figures, err = s.store.Figures(run); err == nil {
			e.Marks, err = s.store.Marks(run)
		}
		return e, err
	}
	if err := report.WriteLotLog(&b, log, report.Look{Look: o.Look}, format, evidence); err != nil {
		return err
	}
	return hand(c, format, "lot_"+log.Name+"_log", b.Bytes())
}

// lotDifference compares a lot with another.
func (s *Service) lotDifference(c *echo.Context) error {
	with := c.QueryParam("with")
	if with == "" {
		return badRequest("nobody has said with which lot it is compared", "give with")
	}
	d, err := archive.CompareLots(s.store, with, c.Param("lot"), api.LotRequest{Procedure: c.QueryParam("procedure")})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, d)
}

// unitReport makes the history of a unit, or its card.
func (s *Service) unitReport(c *echo.Context) error {
	look, format, err := s.lookOf(c)
	if err != nil {
		return err
	}
	kind := c.QueryParam("kind")
	make, known := map[string]func(api.Unit, []api.Run, report.Look, string, time.Time) ([]byte, error){"": report.Unit,
		"history": report.Unit, "card": report.Card}[kind]
	if !known {
		return badRequest(fmt.Sprintf("there is no report of a unit as %q", kind), "choose history or card")
	}
	u, err := archive.Unit(s.store, c.Param("serial"))
	if err != nil {
		return err
	}
	var at time.Time
	var counted []api.Run
	for _, run := range decisive(u) {
		stored, err := s.store.Run(run)
		if err != nil {
			return err
		}
		doc, err := report.Collect(s.store, stored)
		if err != nil {
			return err
		}
		counted = append(counted, doc)
	}
	if len(u.Runs) > 0 {
		at = u.Runs[0].StartedAt
	}
	data, err := make(u, counted, look, format, at)
	if err != nil {
		return err
	}
	return hand(c, format, u.Serial+map[string]string{"card": "_card"}[kind], data)
}

// decisive are the runs of a unit whose figures are printed: those of its card, or without one the newest by each
// procedure.
func decisive(u api.Unit) (runs []string) {
	if u.Card != nil {
		for _, i := range u.Card.Items {
			if i.Run != "" {
				runs = append(runs, i.Run)
			}
		}
		return runs
	}
	var seen []string
	for _, r := range u.Runs {
		if r.State != store.Live && !slices.Contains(seen, r.Procedure) {
			seen, runs = append(seen, r.Procedure), append(runs, r.ID)
		}
	}
	return runs
}

// mostSelected is how many runs a selection has at most.
const mostSelected = 20_000

// selection writes runs with their figures, a row a run.
func (s *Service) selection(c *echo.Context) error {
	format := c.QueryParam("format")
	if format == "" {
		format = report.SelectionFormats[0]
	}
	if !slices.Contains(report.SelectionFormats, format) {
		return badRequest(fmt.Sprintf("there is no selection as %q", format),
			"choose "+strings.Join(report.SelectionFormats, ", "))
	}
	filter, err := runFilter(c)
	if err != nil {
		return err
	}
	filter.Limit = mostSelected
	runs, err := s.store.Runs(filter)
	if err != nil {
		return err
	}
	runs = slices.DeleteFunc(runs, func(r store.Run) bool { return r.State == store.Live })
	slices.Reverse(runs) // oldest first, as in a list that grows
	var b bytes.Buffer
	if err := report.WriteSelection(&b, s.store, runs, format); err != nil {
		return err
	}
	return hand(c, format, "runs", b.Bytes())
}

// Report makes the report of a run for the folder of reports, at the desk.
func (s *Service) Report(ctx context.Context, id string) (name string, data []byte, err error) {
	run, err := s.store.Run(id)
	if err != nil {
		return "", nil, err
	}
	o, err := s.office()
	if err != nil {
		return "", nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "/api/v1/runs/"+id+"/report", nil)
	if err != nil {
		return "", nil, err
	}
	a := &answer{header: http.Header{}}
	if err := s.askDesk(a, r, "service"); err != nil {
		return "", nil, err
	}
	if a.status != 0 && a.status != http.StatusOK {
		return "", nil, fmt.Errorf("the report of run %s could not be made: %s", id, a.text.String())
	}
	pattern := o.File
	if pattern == "" {
		pattern = "{procedure}_{serial}_{run}"
	}
	values := report.Names(run.Summary())
	for word, text := range values {
		values[word] = strings.ReplaceAll(fileName(text), "..", "-")
	}
	inside := path.Join("/", o.Reports, report.Fill(pattern, values)) // whatever the pattern says
	return inside[1:] + ".pdf", a.text.Bytes(), nil
}
