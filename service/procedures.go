package service

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/store"
)

func procedureOf(r store.Revision) api.Procedure {
	p := api.Procedure{Name: r.Name, Revision: r.Number, Title: r.Title, For: r.For, Seats: []string{}, By: r.By, At: r.At,
		Why: r.Why, Hash: r.Hash}
	if r.ReleasedBy != "" && r.ReleasedAt != nil {
		p.Released = &api.Released{By: r.ReleasedBy, At: *r.ReleasedAt, Why: r.ReleasedWhy}
	}
	if header, err := procedure.ReadHeader([]byte(r.Text)); err == nil {
		p.Seats = append(p.Seats, header.Seats...)
	}
	return p
}

func (s *Service) listProcedures(c *echo.Context) error {
	all, err := s.store.Procedures()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, proceduresOf(all))
}

func proceduresOf(revisions []store.Revision) []api.Procedure {
	list := []api.Procedure{}
	for _, r := range revisions {
		list = append(list, procedureOf(r))
	}
	return list
}

func (s *Service) showProcedure(c *echo.Context) error {
	number, err := wholeParam(c, "revision", 0, 0, 1<<30)
	if err != nil {
		return err
	}
	r, err := s.store.Revision(c.Param("name"), number)
	if err != nil {
		return err
	}
	p := procedureOf(r)
	p.Text = r.Text
	// A nameplate may have changed since the push; the text is shown all the same.
	if program, _, err := s.engine.Resolve(r, nil); err == nil {
		p.Duration = program.Duration()
		p.Parameters = map[string]string{}
		for name, q := range program.Constants {
			if program.IsParameter(name) {
				p.Parameters[name] = q.String()
			}
		}
	}
	return c.JSON(http.StatusOK, p)
}

// parse checks a text that was sent and gives the revision that it would be.
func (s *Service) parse(text string) (store.Revision, *procedure.Program, error) {
	header, err := procedure.ReadHeader([]byte(text))
	if err != nil {
		return store.Revision{}, nil, err
	}
	r := store.Revision{Name: header.Name, Title: header.Title, For: header.For, Text: text}
	program, _, err := s.engine.Resolve(r, nil)
	if errors.Is(err, store.ErrNotFound) {
		// Without its nameplate the procedure is checked as far as that goes; the finding names the missing nameplate.
		_, err = catalogue.Parse([]byte(text), nil, nil, s.store.Library)
	}
	return r, program, err
}

func (s *Service) checkProcedure(c *echo.Context) error {
	body, err := bind[api.PushText](c)
	if err != nil {
		return err
	}
	r, program, err := s.parse(body.Text)
	if err != nil {
		return err
	}
	p := procedureOf(r)
	p.Duration = program.Duration()
	return c.JSON(http.StatusOK, p)
}

func (s *Service) pushProcedure(c *echo.Context) error {
	body, err := bind[api.PushText](c)
	if err != nil {
		return err
	}
	r, _, err := s.parse(body.Text)
	if err != nil {
		return err
	}
	r.By, r.At, r.Why = who(c), s.store.Now(), body.Why
	stored, fresh, err := s.store.PushRevision(r)
	if err != nil {
		return err
	}
	if !fresh {
		return c.JSON(http.StatusOK, procedureOf(stored))
	}
	s.note(who(c), "procedure pushed", fmt.Sprintf("%s revision %d: %s", stored.Name, stored.Number, stored.Why))
	return c.JSON(http.StatusCreated, procedureOf(stored))
}

func (s *Service) listNameplates(c *echo.Context) error {
	all, err := s.store.Nameplates()
	if err != nil {
		return err
	}
	list := []api.Nameplate{}
	for _, n := range all {
		plate, err := nameplateOf(n)
		if err != nil {
			return err
		}
		plate.Text = ""
		list = append(list, plate)
	}
	return c.JSON(http.StatusOK, list)
}

func nameplateOf(n store.Nameplate) (api.Nameplate, error) {
	plate, err := nameplate.Parse([]byte(n.Text))
	if err != nil {
		return api.Nameplate{}, fmt.Errorf("nameplate %s: %w", n.Name, err)
	}
	return api.Nameplate{Name: n.Name, Title: plate.Title, By: n.By, At: n.At, Text: n.Text}, nil
}

func (s *Service) showNameplate(c *echo.Context) error {
	n, err := s.store.Nameplate(c.Param("name"))
	if err != nil {
		return err
	}
	plate, err := nameplateOf(n)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, plate)
}

func (s *Service) pushNameplate(c *echo.Context) error {
	body, err := bind[api.PushText](c)
	if err != nil {
		return err
	}
	parsed, err := nameplate.Parse([]byte(body.Text))
	if err != nil {
		return err
	}
	n := store.Nameplate{Name: parsed.Name, Text: body.Text, By: who(c), At: s.store.Now()}
	if err := s.store.PutNameplate(n); err != nil {
		return err
	}
	s.note(who(c), "nameplate pushed", parsed.Name)
	plate, err := nameplateOf(n)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, plate)
}

// catalogue tells what this program knows.
func (s *Service) catalogue(c *echo.Context) error { return c.JSON(http.StatusOK, api.NewCatalogue()) }
