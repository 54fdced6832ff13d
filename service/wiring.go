package service

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/report"
)

// wiring draws how a harness is joined by a scan of a run.
func (s *Service) wiring(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	which, err := wholeParam(c, "scan", 0, 1, 1_000_000)
	if err != nil {
		return err
	}
	marks, err := s.store.Marks(run.ID)
	if err != nil {
		return err
	}
	scans := report.ScansOf(marks)
	if which > len(scans) || len(scans) == 0 {
		return &api.Problem{Title: "Not found", Status: http.StatusNotFound, Detail: "the run has no such scan of a harness"}
	}
	if which == 0 {
		which = len(scans)
	}
	drawing, err := report.Wiring(scans[which-1].Scan)
	if err != nil {
		return &api.Problem{Title: "Not judged", Status: http.StatusConflict, Detail: err.Error()}
	}
	return c.Blob(http.StatusOK, "image/svg+xml", drawing)
}
