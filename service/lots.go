package service

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
)

// listLots lists the lots, the one with the newest run first.
func (s *Service) listLots(c *echo.Context) error {
	all, err := archive.Lots(s.store)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, all)
}

// lot tells what the runs of a lot say of it.
func (s *Service) lot(c *echo.Context) error {
	request := api.LotRequest{Procedure: c.QueryParam("procedure")}
	for name, to := range map[string]*bool{"strict": &request.Strict, "each": &request.Each} {
		text := c.QueryParam(name)
		if text == "" {
			continue
		}
		var err error
		if *to, err = strconv.ParseBool(text); err != nil {
			return fmt.Errorf("%w: %s is %q; write true or false", api.ErrBadRequest, name, text)
		}
	}
	lot, err := archive.Lot(s.store, c.Param("lot"), request)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, lot)
}
