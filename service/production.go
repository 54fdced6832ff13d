package service

import (
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
)

// unit tells what is known of a unit.
func (s *Service) unit(c *echo.Context) error {
	u, err := archive.Unit(s.store, c.Param("serial"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, u)
}

// changeUnit changes what is kept of a unit.
func (s *Service) changeUnit(c *echo.Context) error {
	body, err := bind[api.UnitChange](c)
	if err != nil {
		return err
	}
	if err := archive.ChangeUnit(s.store, who(c), c.Param("serial"), body); err != nil {
		return err
	}
	return s.unit(c)
}

// orderLot keeps what is said of a lot.
func (s *Service) orderLot(c *echo.Context) error {
	body, err := bind[api.LotOrder](c)
	if err != nil {
		return err
	}
	order, err := archive.OrderLot(s.store, who(c), c.Param("lot"), body)
	if err != nil {
		return err
	}
	s.places.LotChanged()
	return c.JSON(http.StatusOK, order)
}

// listPlaces tells how every place is that is set up.
func (s *Service) listPlaces(c *echo.Context) error {
	all := s.places.All()
	if all == nil {
		all = []api.Place{}
	}
	return c.JSON(http.StatusOK, all)
}

// place tells how the place of a bay is.
func (s *Service) place(c *echo.Context) error { return placed(c)(s.places.Of(c.Param("bay"))) }

// setUpPlace says what is tested at a place.
func (s *Service) setUpPlace(c *echo.Context) error {
	body, err := bind[api.PlaceSetup](c)
	if err != nil {
		return err
	}
	return placed(c)(s.places.SetUp(c.Request().Context(), who(c), c.Param("bay"), body))
}

// clearPlace forgets what is tested at a place.
func (s *Service) clearPlace(c *echo.Context) error {
	if err := s.places.Clear(c.Request().Context(), who(c), c.Param("bay")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// scan takes what was scanned at a place.
func (s *Service) scan(c *echo.Context) error {
	body, err := bind[api.PlaceScan](c)
	if err != nil {
		return err
	}
	return placed(c)(s.places.Scan(c.Request().Context(), who(c), c.Param("bay"), body))
}

// takeBack forgets a unit that was scanned by mistake.
func (s *Service) takeBack(c *echo.Context) error {
	return placed(c)(s.places.Undo(c.Request().Context(), who(c), c.Param("bay")))
}

// beginPlace begins the test of the unit that was scanned.
func (s *Service) beginPlace(c *echo.Context) error {
	return placed(c)(s.places.Begin(c.Request().Context(), who(c), c.Param("bay")))
}

// beginTogether begins the tests of the units at several places side by side.
func (s *Service) beginTogether(c *echo.Context) error {
	body, err := bind[api.Together](c)
	if err != nil {
		return err
	}
	if len(body.Bays) == 0 {
		return fmt.Errorf("%w: say at which places: {\"bays\": [\"bay1\", \"bay2\"]}", api.ErrBadRequest)
	}
	all, err := s.places.BeginTogether(c.Request().Context(), who(c), body.Bays)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, all)
}

// placed answers with how a place is.
func placed(c *echo.Context) func(api.Place, error) error {
	return func(p api.Place, err error) error {
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, p)
	}
}
