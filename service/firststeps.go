package service

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/store"
)

// firstSteps leads from an empty house to a first run: what is done, what is missing, and how it is done.
func (s *Service) firstSteps(c *echo.Context) error {
	config := s.engine.Bench().Config()
	plates, err := s.store.Nameplates()
	if err != nil {
		return err
	}
	procedures, err := s.store.Procedures()
	if err != nil {
		return err
	}
	runs, err := s.store.Runs(store.RunFilter{Limit: 1})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, []api.FirstStep{
		{Step: "Instruments", Done: len(config.Instruments) > 0, Place: "bench",
			About:   "a supply, a load or a cycler, each by its address; who answers there tells which dialect it speaks",
			Command: "usher bench scan tcp://192.168.1.21:5025, then usher bench add psu1 tcp://192.168.1.21:5025"},
		{Step: "A bay", Done: len(config.Bays) > 0, Place: "bench",
			About:   "the place of one unit, with instruments in its seats",
			Command: "usher bench bay bay1 source=psu1:1 load=eload1"},
		{Step: "A nameplate", Done: len(plates) > 0, Place: "nameplates",
			About:   "what a type of unit is: its ratings, and the windows in which it is safe",
			Command: "usher nameplate push my-converter.yaml"},
		{Step: "A procedure", Done: len(procedures) > 0, Place: "procedures",
			About:   "what is done with a unit, and which figures it must reach",
			Command: "usher procedure push my-test.yaml"},
		{Step: "A first run", Done: len(runs) > 0, Place: "floor",
			About:   "one unit in a bay; preflight says before what is not right",
			Command: "usher run my-test --bay bay1 --serial S1 --follow"},
	})
}
