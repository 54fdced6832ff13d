package service

import (
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/store"
)

func (s *Service) instruments(c *echo.Context) error {
	list, err := s.engine.Bench().Instruments(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Service) bays(c *echo.Context) error {
	list := []api.Bay{}
	for _, b := range s.engine.Bays() {
		list = append(list, b.Status())
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Service) bay(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}

func (s *Service) setByHand(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	body, err := bind[api.ManualSet](c)
	if err != nil {
		return err
	}
	if err := b.Set(c.Request().Context(), who(c), body); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}

func (s *Service) stopBay(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	if err := b.Stop(stopper(c)); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}

// stopper is who asks for a stop, with the reason if one is given.
func stopper(c *echo.Context) string {
	by := who(c)
	if body, err := bind[api.StopRequest](c); err == nil && body.Why != "" {
		by += " (" + body.Why + ")"
	}
	return by
}

func (s *Service) makeSafe(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	if err := b.Safe(stopper(c)); err != nil {
		return notSafe(err)
	}
	return c.JSON(http.StatusOK, b.Status())
}

func (s *Service) stopAll(c *echo.Context) error {
	if err := s.engine.StopAll(stopper(c)); err != nil {
		return notSafe(err)
	}
	return s.bays(c)
}

func (s *Service) goOn(c *echo.Context) error {
	seen, err := seenAt(c)
	if err == nil {
		err = s.engine.GoOn(who(c), seen)
	}
	if err != nil {
		return err
	}
	return s.bays(c)
}

// seenAt is the stop against which somebody says go on, by when it came; zero: whatever holds now.
func seenAt(c *echo.Context) (time.Time, error) {
	text := c.QueryParam("seen")
	if text == "" {
		return time.Time{}, nil
	}
	seen, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return seen, badRequest(fmt.Sprintf("seen: %q is not a time", text), "send the time at which the stop came")
	}
	return seen, nil
}

func (s *Service) goOnBay(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	seen, err := seenAt(c)
	if err == nil {
		err = b.GoOn(who(c), seen)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}

func (s *Service) stillThere(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	if err := b.StillThere(who(c)); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}

// forgetOutputs stops trying outputs that no bay has any longer.
func (s *Service) forgetOutputs(c *echo.Context) error {
	if err := s.engine.Forget(c.Request().Context(), c.Param("left"), who(c)); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) looked(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	if err := b.Looked(who(c)); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Status())
}

func notSafe(err error) error {
	return &api.Problem{Title: "Not confirmed safe", Status: http.StatusBadGateway, Detail: err.Error(),
		Remedy: "switch the outputs off at the instruments"}
}

func (s *Service) journal(c *echo.Context) error {
	limit, err := wholeParam(c, "limit", 200, 1, 1000)
	if err != nil {
		return err
	}
	f := store.JournalFilter{Bay: c.QueryParam("bay"), Run: c.QueryParam("run"), What: c.QueryParam("what"),
		By: c.QueryParam("by"), Limit: limit}
	if f.Since, err = timeParam(c, "since"); err != nil {
		return err
	}
	if f.Until, err = timeParam(c, "until"); err != nil {
		return err
	}
	format := c.QueryParam("format")
	if format != "" && format != "json" && format != "csv" {
		return badRequest(fmt.Sprintf("there is no journal as %q", format), "choose json or csv")
	}
	entries, err := s.store.JournalEntries(f)
	if err != nil {
		return err
	}
	list := []api.JournalEntry{}
	for _, e := range entries {
		list = append(list, api.JournalEntry{ID: e.ID, At: e.At, By: e.By, Bay: e.Bay, Run: e.RunID, What: e.What,
			Detail: e.Detail})
	}
	if format == "csv" {
		return journalCSV(c, list)
	}
	return c.JSON(http.StatusOK, list)
}
