package service

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/nameplate"
	"usherbench/report"
	"usherbench/store"
	"usherbench/tables"
)

func (s *Service) queue(c *echo.Context) error {
	all, err := s.store.Queue(c.QueryParam("bay"))
	if err != nil {
		return err
	}
	list := waitingList(all)
	for i, w := range list {
		b, err := s.engine.Bay(w.Bay)
		if err != nil || w.Held != "" {
			continue
		}
		if h := b.Held(); h != nil {
			list[i].Held = h.Why + "; it begins when somebody says go on"
		}
	}
	return c.JSON(http.StatusOK, list)
}

func waitingList(all []store.Waiting) []api.Waiting {
	list := []api.Waiting{}
	for _, w := range all {
		list = append(list, waiting(w))
	}
	return list
}

func waiting(w store.Waiting) api.Waiting {
	return api.Waiting{ID: w.ID, Bay: w.Bay, Serial: w.Serial, Lot: w.Lot, Procedure: w.Procedure, Revision: w.Revision,
		Parameters: w.Parameters, By: w.By, At: w.At, NotBefore: w.NotBefore, Held: w.Held, Asks: w.Asks}
}

func (s *Service) enqueue(c *echo.Context) error {
	body, err := bind[api.Enqueue](c)
	if err != nil {
		return err
	}
	revisions := map[string]int{}
	for _, name := range body.Procedures {
		if revisions[name], err = archive.RevisionFor(s.store, name, 0, mayDraft(c)); err != nil {
			return err
		}
	}
	runs, err := s.line.Enqueue(who(c), body, revisions)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, waitingList(runs))
}

func waitingID(c *echo.Context) (uint, error) {
	id, err := strconv.ParseUint(c.Param("id"), 10, 32)
	if err != nil {
		return 0, badRequest(fmt.Sprintf("%q is no number of a run in line", c.Param("id")), "see the list of what waits")
	}
	return uint(id), nil
}

func (s *Service) dequeue(c *echo.Context) error {
	id, err := waitingID(c)
	if err != nil {
		return err
	}
	if err := s.line.Dequeue(who(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) release(c *echo.Context) error {
	id, err := waitingID(c)
	if err != nil {
		return err
	}
	w, err := s.line.Release(who(c), id)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, waiting(w))
}

func (s *Service) overlay(c *echo.Context) error {
	body, err := bind[api.OverlayRequest](c)
	if err != nil {
		return err
	}
	o, err := archive.Overlay(c.Request().Context(), s.store, body)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, o)
}

func (s *Service) overlayReport(c *echo.Context) error {
	body, err := bind[api.OverlayRequest](c)
	if err != nil {
		return err
	}
	look, format, err := s.lookOf(c)
	if err != nil {
		return err
	}
	o, err := archive.Overlay(c.Request().Context(), s.store, body)
	if err != nil {
		return err
	}
	at, err := newestOf(s.store, body.Runs)
	if err != nil {
		return err
	}
	data, err := report.Overlay(o, look, format, at)
	if err != nil {
		return err
	}
	return hand(c, format, "overlay", data)
}

// newestOf is when the newest of some runs began.
func newestOf(st *store.Store, runs []string) (at time.Time, err error) {
	for _, id := range runs {
		r, err := st.Run(id)
		if err != nil {
			return at, err
		}
		if r.StartedAt.After(at) {
			at = r.StartedAt
		}
	}
	return at, nil
}

func (s *Service) match(c *echo.Context) error {
	m, err := s.matched(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, m)
}

func (s *Service) matched(c *echo.Context) (api.Matching, error) {
	body, err := bind[api.MatchRequest](c)
	if err != nil {
		return api.Matching{}, err
	}
	return archive.Match(s.store, body)
}

// matchLabels prints the list of labels: who goes with whom.
func (s *Service) matchLabels(c *echo.Context) error {
	m, err := s.matched(c)
	if err != nil {
		return err
	}
	pdf, err := report.LabelsPDF(m)
	if err != nil {
		return err
	}
	attach(c.Response(), "application/pdf", fmt.Sprintf("labels_%s.pdf", fileName(m.Lot)))
	_, err = c.Response().Write(pdf)
	return err
}

// readLog reads a log as text, however its file is written.
func readLog(c *echo.Context) (api.ImportLog, error) {
	body, err := bind[api.ImportLog](c)
	if err == nil && body.Text == "" {
		if body.Text, err = tables.LogText(body.Data); err != nil {
			err = fmt.Errorf("%w: %w", api.ErrBadRequest, err)
		}
		body.Data = nil
	}
	return body, err
}

// importLog has a run made of a log in records of its own, and takes it over.
func (s *Service) importLog(c *echo.Context) error {
	var made api.RunSummary
	err := s.store.Adopt(func(database string) (err error) {
		c.Request().Header.Set(intoHeader, database)
		made, err = workedOutOf[api.RunSummary](s, c.Request(), who(c))
		return err
	})
	if err != nil {
		return err
	}
	run, err := s.store.Run(made.ID)
	if err != nil {
		return err
	}
	if err := s.store.Journal(archive.Imported(who(c), run)); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, run.Summary())
}

// workOutImport makes a run of a log in the records that the service takes over.
func (s *Service) workOutImport(c *echo.Context) error {
	body, err := readLog(c)
	if err != nil {
		return err
	}
	into, err := store.Open(c.Request().Header.Get(intoHeader))
	if err != nil {
		return err
	}
	run, err := archive.Import(into, s.store, who(c), body)
	if err = errors.Join(err, into.Close()); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, run.Summary())
}

func (s *Service) lookAtLog(c *echo.Context) error {
	body, err := readLog(c)
	if err != nil {
		return err
	}
	look, err := archive.LookAt(s.store, body.Mapping, body.Text)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, look)
}

func (s *Service) sources(c *echo.Context) error {
	all, err := s.store.Mappings()
	if err != nil {
		return err
	}
	names := []string{}
	for _, m := range all {
		names = append(names, m.Source)
	}
	return c.JSON(http.StatusOK, names)
}

// checkNameplate tells what a nameplate says and what follows from it, without storing it.
func (s *Service) checkNameplate(c *echo.Context) error {
	body, err := bind[api.PushText](c)
	if err != nil {
		return err
	}
	plate, err := nameplate.Parse([]byte(body.Text))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, nameplateOutline(plate))
}

func nameplateOutline(p *nameplate.Nameplate) api.NameplateOutline {
	o := api.NameplateOutline{Name: p.Name, Kind: p.Kind, Chemistry: p.Chemistry.Name, Series: p.Series,
		Parallel: p.Parallel, Ratings: []api.NameplateRating{}}
	for _, name := range slices.Sorted(maps.Keys(p.Ratings)) {
		o.Ratings = append(o.Ratings, api.NameplateRating{Name: name, Value: p.Ratings[name].String(),
			Assumed: p.Assumed[name]})
	}
	return o
}

func (s *Service) chemistries(c *echo.Context) error {
	list := []api.Chemistry{}
	for _, name := range nameplate.Chemistries() {
		x, _ := nameplate.ChemistryOf(name)
		list = append(list, api.Chemistry{Name: x.Name, Source: x.Source})
	}
	return c.JSON(http.StatusOK, list)
}
