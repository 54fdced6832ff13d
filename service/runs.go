package service

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/trace"
	"usherbench/report"
	"usherbench/store"
)

func (s *Service) startRun(c *echo.Context) error {
	body, err := bind[api.StartRun](c)
	if err != nil {
		return err
	}
	b, err := s.engine.Bay(body.Bay)
	if err != nil {
		return err
	}
	if body, err = s.asked(c, body); err != nil {
		return err
	}
	run, err := b.StartRun(c.Request().Context(), who(c), body)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, run)
}

func (s *Service) listRuns(c *echo.Context) error {
	limit, err := wholeParam(c, "limit", 100, 1, 1000)
	if err != nil {
		return err
	}
	f, err := runFilter(c)
	if err != nil {
		return err
	}
	f.Before, f.Limit = c.QueryParam("before"), limit
	runs, err := s.store.Runs(f)
	if err != nil {
		return err
	}
	list := []api.RunSummary{}
	for _, r := range runs {
		list = append(list, r.Summary())
	}
	return c.JSON(http.StatusOK, list)
}

// runFilter is which runs a request chooses.
func runFilter(c *echo.Context) (f store.RunFilter, err error) {
	for _, chosen := range f.Texts() {
		*chosen.Value = c.QueryParam(chosen.Name)
	}
	f.Since, err = timeParam(c, "since")
	return f, err
}

// timeParam is a parameter that is a time; the zero time where it is not given.
func timeParam(c *echo.Context, name string) (t time.Time, err error) {
	text := c.QueryParam(name)
	if text == "" {
		return t, nil
	}
	if t, err = time.Parse(time.RFC3339, text); err != nil {
		return t, badRequest(fmt.Sprintf("%s: %q is not a time", name, text), "write it like 2026-03-31T08:00:00Z")
	}
	return t, nil
}

// picture shows a picture that travels with the procedure of a run.
func (s *Service) picture(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	program, _, err := run.Program()
	if err != nil {
		return err
	}
	data, ok := program.Pictures[c.Param("picture")]
	if !ok {
		return fmt.Errorf("picture %q of run %s: %w", c.Param("picture"), run.ID, store.ErrNotFound)
	}
	return c.Blob(http.StatusOK, procedure.PictureType(data), data)
}

// collect reads everything on record about the run that the path names.
func (s *Service) collect(c *echo.Context) (api.Run, error) {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return api.Run{}, err
	}
	return report.Collect(s.store, run)
}

func (s *Service) showRun(c *echo.Context) error {
	document, err := s.collect(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, document)
}

// The bounds of a window's resolution: a narrow picture, and the widest screen.
const defaultBuckets, mostBuckets = 1600, 8000

func (s *Service) window(c *echo.Context) error {
	part, err := s.partAsked(c)
	if err != nil {
		return err
	}
	n, err := wholeParam(c, "buckets", defaultBuckets, 2, mostBuckets)
	if err != nil {
		return err
	}
	w, err := s.store.Window(c.Request().Context(), part.run, part.columns, part.from, part.to, n)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, windowOf(part.run.ID, w))
}

// part is a part of a run that somebody asks for; columns nil: all.
type part struct {
	run      store.Run
	columns  []string
	from, to float64
}

func (s *Service) partAsked(c *echo.Context) (p part, err error) {
	if p.run, err = s.store.Run(c.Param("run")); err != nil {
		return p, err
	}
	if names := c.QueryParam("columns"); names != "" {
		p.columns = strings.Split(names, ",")
	}
	p.from, p.to, err = timeRange(c)
	return p, err
}

func windowOf(runID string, w store.Window) api.Window {
	out := api.Window{Run: runID, From: w.T0, To: w.T1, Exact: w.Exact, T: []float64{}, Traces: []api.Trace{}}
	for i, column := range w.Columns {
		unit := trace.UnitOf(column)
		t := api.Trace{Column: api.Column{Name: column, Unit: unit.Symbol}, Min: make([]*float64, len(w.Buckets[i]))}
		if !w.Exact {
			t.Max = make([]*float64, len(w.Buckets[i]))
		}
		for k, b := range w.Buckets[i] {
			if i == 0 {
				out.T = append(out.T, b.T)
			}
			t.Min[k] = scaled(b.Min, unit.Factor)
			if !w.Exact {
				t.Max[k] = scaled(b.Max, unit.Factor)
			}
		}
		out.Traces = append(out.Traces, t)
	}
	return out
}

func scaled(x, factor float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	x /= factor
	return &x
}

func (s *Service) export(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	from, to, err := timeRange(c)
	if err != nil {
		return err
	}
	layout := report.Layout(c.QueryParamOr("layout", string(report.AsRecorded)))
	if !slices.Contains(report.Layouts(), layout) {
		return badRequest(fmt.Sprintf("layout %q is not known", layout), fmt.Sprintf("choose %v", report.Layouts()))
	}
	with, err := extrasOf(c)
	if err != nil {
		return err
	}
	excerpt := report.Excerpt{Layout: layout, With: with, From: from, To: to}
	format := c.QueryParamOr("format", "csv")
	contentType, ok := exportTypes[format]
	if !ok {
		return badRequest(fmt.Sprintf("format %q is not known", format), "choose csv, json, parquet or xlsx")
	}
	ctx, w := c.Request().Context(), &lazyAttachment{ResponseWriter: c.Response(), contentType: contentType,
		name: fmt.Sprintf("%s_%s_%s.%s", run.Procedure, fileName(run.Serial), run.ID, format)}
	switch {
	case format == "json":
		return report.WriteJSON(ctx, w, s.store, run, from, to)
	case format == "parquet":
		return report.WriteParquet(ctx, w, s.store, run, excerpt)
	case format == "xlsx":
		return report.WriteXLSX(ctx, w, s.store, run, excerpt)
	}
	return report.WriteCSV(ctx, w, s.store, run, excerpt)
}

// extrasOf reads which columns a file of frames is to have beside those that are recorded.
func extrasOf(c *echo.Context) (with []report.Extra, err error) {
	for _, word := range strings.FieldsFunc(c.QueryParam("with"), func(r rune) bool { return r == ',' }) {
		extra := report.Extra(strings.TrimSpace(word))
		if !slices.Contains(report.Extras(), extra) {
			return nil, badRequest(fmt.Sprintf("a file cannot be had with %q", word),
				fmt.Sprintf("choose of %v", report.Extras()))
		}
		if !slices.Contains(with, extra) {
			with = append(with, extra)
		}
	}
	return with, nil
}

var exportTypes = map[string]string{"csv": "text/csv; charset=utf-8", "json": "application/json",
	"parquet": "application/vnd.apache.parquet",
	"xlsx":    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"}

// lazyAttachment names the file with its first byte, so that an error before it is answered as a problem.
type lazyAttachment struct {
	http.ResponseWriter
	contentType, name string
	begun             bool
}

func (a *lazyAttachment) Write(data []byte) (int, error) {
	if !a.begun {
		a.begun = true
		attach(a.ResponseWriter, a.contentType, a.name)
	}
	return a.ResponseWriter.Write(data)
}

func (s *Service) report(c *echo.Context) error {
	look, format, err := s.lookOf(c)
	if err != nil {
		return err
	}
	document, err := s.collect(c)
	if err != nil {
		return err
	}
	run, err := s.store.Run(document.ID)
	if err != nil {
		return err
	}
	pictures, err := report.BatteryPictures(c.Request().Context(), s.store, run)
	if err != nil {
		return err
	}
	captured, err := report.CapturePictures(c.Request().Context(), s.store, run, document.Figures)
	if err != nil {
		return err
	}
	kept, err := report.ExcerptPictures(c.Request().Context(), s.store, run)
	if err != nil {
		return err
	}
	if len(pictures)+len(captured)+len(kept)+len(report.Pictures(document)) == 0 {
		if pictures, err = report.CoursePictures(c.Request().Context(), s.store, run); err != nil {
			return err
		}
	}
	joined, err := report.CollectAttached(s.store, document)
	if err != nil {
		return err
	}
	data, err := report.Run(document, look, format, joined, slices.Concat(pictures, captured, kept)...)
	if err != nil {
		return err
	}
	return hand(c, format, fmt.Sprintf("%s_%s_%s", document.Procedure, document.Serial, document.ID), data)
}

func attach(w http.ResponseWriter, contentType, name string) {
	w.Header().Set("Content-Type", contentType)
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
}

// fileName makes a serial number safe for a file name.
func fileName(serial string) string {
	return strings.Map(func(r rune) rune {
		if r == '/' || r == ' ' || r > 126 {
			return '-'
		}
		return r
	}, serial)
}

// timeRange reads from and to, in seconds since the start of the run; absent: the whole run.
func timeRange(c *echo.Context) (from, to float64, err error) {
	from, to = 0, math.MaxFloat64
	for name, x := range map[string]*float64{"from": &from, "to": &to} {
		text := c.QueryParam(name)
		if text == "" {
			continue
		}
		if *x, err = strconv.ParseFloat(text, 64); err != nil || math.IsNaN(*x) || math.IsInf(*x, 0) {
			return 0, 0, badRequest(fmt.Sprintf("%s: %q is not a number of seconds", name, text), "")
		}
	}
	if from >= to {
		return 0, 0, badRequest("from must be before to", "")
	}
	return from, to, nil
}

func wholeParam(c *echo.Context, name string, fallback, least, most int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return fallback, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < least || n > most {
		return 0, badRequest(fmt.Sprintf("%s: %q is not a whole number from %d to %d", name, text, least, most), "")
	}
	return n, nil
}
