package service

import (
	"fmt"
	"net/http"
	"strings"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/store"
)

// Bounds of what is kept of an excerpt.
const (
	longestExcerptName = 60
	longestExcerptNote = 2000
	mostExcursions     = 100
	usualExcursions    = 10
)

func excerptOf(e store.Excerpt) api.Excerpt {
	return api.Excerpt{Name: e.Name, Note: e.Note, From: e.From, To: e.To, By: e.By, At: e.At}
}

func (s *Service) excerpts(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	all, err := s.store.Excerpts(run.ID)
	if err != nil {
		return err
	}
	list := []api.Excerpt{}
	for _, e := range all {
		list = append(list, excerptOf(e))
	}
	return c.JSON(http.StatusOK, list)
}

// putExcerpt names a part of a run.
func (s *Service) putExcerpt(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	body, err := bind[api.ExcerptRequest](c)
	if err != nil {
		return err
	}
	name := strings.TrimSpace(c.Param("excerpt"))
	switch {
	case name == "" || utf8.RuneCountInString(name) > longestExcerptName:
		return badRequest(fmt.Sprintf("the name of an excerpt has 1 to %d characters", longestExcerptName), "")
	case utf8.RuneCountInString(body.Note) > longestExcerptNote:
		return badRequest(fmt.Sprintf("the note of an excerpt has %d characters at most", longestExcerptNote), "")
	case body.From >= body.To:
		return badRequest("from must be before to", "")
	case body.From < 0 || run.EndedAt != nil && body.From > run.Duration:
		return badRequest(fmt.Sprintf("the excerpt lies outside the run, which lasts %.6g s", run.Duration), "")
	}
	e, err := s.store.PutExcerpt(store.Excerpt{RunID: run.ID, Name: name, Note: body.Note, From: body.From, To: body.To,
		By: who(c)})
	if err != nil {
		return err
	}
	s.engine.Journal(store.JournalEntry{By: who(c), Bay: run.Bay, RunID: run.ID, What: "excerpt kept",
		Detail: fmt.Sprintf("%s: %.6g to %.6g s", name, e.From, e.To)})
	return c.JSON(http.StatusOK, excerptOf(e))
}

func (s *Service) dropExcerpt(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	if err := s.store.DropExcerpt(run.ID, c.Param("excerpt")); err != nil {
		return err
	}
	s.engine.Journal(store.JournalEntry{By: who(c), Bay: run.Bay, RunID: run.ID, What: "excerpt forgotten",
		Detail: c.Param("excerpt")})
	return c.NoContent(http.StatusNoContent)
}

// excursions lists where the columns of a run go furthest from where they usually are.
func (s *Service) excursions(c *echo.Context) error {
	part, err := s.partAsked(c)
	if err != nil {
		return err
	}
	most, err := wholeParam(c, "most", usualExcursions, 1, mostExcursions)
	if err != nil {
		return err
	}
	all, err := archive.Excursions(c.Request().Context(), s.store, part.run, part.columns, part.from, part.to, most)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, all)
}
