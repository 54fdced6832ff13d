package service

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/waveform"
	"usherbench/report"
	"usherbench/store"
)

// captures lists the captures of a run.
func (s *Service) captures(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	all, err := s.store.Captures(run.ID)
	if err != nil {
		return err
	}
	if all == nil {
		all = []api.Capture{}
	}
	return c.JSON(http.StatusOK, all)
}

// captureAsked finds the run and the number of a capture; times of captures may lie before 0.
func (s *Service) captureAsked(c *echo.Context) (run store.Run, index int, from, to float64, err error) {
	if run, err = s.store.Run(c.Param("run")); err != nil {
		return run, 0, 0, 0, err
	}
	if index, err = strconv.Atoi(c.Param("capture")); err != nil || index < 0 {
		return run, 0, 0, 0, badRequest(fmt.Sprintf("%q is not the number of a capture", c.Param("capture")),
			"captures count from 0")
	}
	if from, to, err = timeRange(c); err == nil && c.QueryParam("from") == "" {
		from = -math.MaxFloat64
	}
	return run, index, from, to, err
}

// capture answers a part of a capture, reduced to what a screen shows.
func (s *Service) capture(c *echo.Context) error {
	run, index, from, to, err := s.captureAsked(c)
	if err != nil {
		return err
	}
	n, err := wholeParam(c, "points", defaultBuckets, 2, mostBuckets)
	if err != nil {
		return err
	}
	captured, windows, err := s.store.CaptureWindow(c.Request().Context(), run.ID, index, from, to, n)
	if err != nil {
		return err
	}
	out := api.CaptureWindow{Capture: captured, Traces: []api.CaptureTrace{}}
	for _, w := range windows {
		t := api.CaptureTrace{Name: w.Name, Unit: w.Unit, T: []float64{}, Low: []float64{}}
		for _, b := range w.Buckets {
			t.T, t.Low = append(t.T, b.T), append(t.Low, b.Min)
			if !w.Exact {
				t.High = append(t.High, b.Max)
			}
		}
		out.Traces = append(out.Traces, t)
	}
	return c.JSON(http.StatusOK, out)
}

// exportCapture writes the samples of a capture as CSV.
func (s *Service) exportCapture(c *echo.Context) error {
	run, index, from, to, err := s.captureAsked(c)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	captured, _, err := s.store.CaptureWindow(ctx, run.ID, index, 0, 0, 2)
	if err != nil {
		return err
	}
	var waves []*waveform.Waveform
	for _, channel := range captured.Channels {
		w, err := s.store.Waveform(ctx, run.ID, index, channel.Name)
		if err != nil {
			return err
		}
		waves = append(waves, w.Between(w.Index(from), w.Index(math.Nextafter(to, math.Inf(1)))))
	}
	attach(c.Response(), "text/csv", fmt.Sprintf("%s_%s_%d.csv", fileName(run.Serial), fileName(captured.Stage), index))
	return report.WriteWaves(c.Response(), waves)
}

// statistics tells what every column of a run is over a part of it.
func (s *Service) statistics(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	from, to, err := timeRange(c)
	if err != nil {
		return err
	}
	if run.EndedAt == nil { // of a live run it is what is on record by now
		run.Duration = math.MaxFloat64
	}
	all, err := archive.Statistics(c.Request().Context(), s.store, run, from, to)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, all)
}

// captureStatistics tells what every channel of a capture is over a part of it.
func (s *Service) captureStatistics(c *echo.Context) error {
	return ofCapture(s, c, archive.CaptureStatistics)
}

// captureMakeup gives the spectrum and the histogram of every channel of a capture over a part of it.
func (s *Service) captureMakeup(c *echo.Context) error { return ofCapture(s, c, archive.CaptureMakeup) }

// ofCapture answers with something of every channel of a capture over a part of it.
func ofCapture[T any](s *Service, c *echo.Context, tell func(ctx context.Context, s *store.Store, run store.Run,
	index int, from, to float64) ([]T, error)) error {
	run, index, from, to, err := s.captureAsked(c)
	if err != nil {
		return err
	}
	all, err := tell(c.Request().Context(), s.store, run, index, from, to)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, all)
}
