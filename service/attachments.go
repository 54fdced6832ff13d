package service

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/attachment"
	"usherbench/report"
	"usherbench/store"
)

// attachments lists what was joined to a run.
func (s *Service) attachments(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	all, err := s.store.Attachments(run.ID)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, all)
}

// attach joins the file that is sent to a run.
func (s *Service) attach(c *echo.Context) error {
	run, err := s.store.Run(c.Param("run"))
	if err != nil {
		return err
	}
	a := api.Attachment{Name: attachment.PlainName(c.QueryParam("name")), Note: strings.TrimSpace(c.QueryParam("note")),
		By: who(c)}
	if utf8.RuneCountInString(a.Note) > attachment.LongestNote {
		return badRequest(fmt.Sprintf("the note of an attachment has %d characters at most", attachment.LongestNote), "")
	}
	if a.T, err = s.instantAsked(c, run); err != nil {
		return err
	}
	if a.Scale, err = scaleAsked(c); err != nil {
		return err
	}
	data, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	if a.FileContents, err = attachment.Look(a.Name, data); err != nil {
		return notAttached(err)
	}
	if a.Scale != nil && !a.Picture() {
		return badRequest("a scale of temperatures goes with pictures only", "leave coldest and hottest out")
	}
	small, err := s.small(c, &a.FileContents, data)
	if err != nil {
		return notAttached(err)
	}
	if a, err = s.store.Attach(run.ID, a, data, small); err != nil {
		return err
	}
	s.engine.Journal(store.JournalEntry{By: a.By, Bay: run.Bay, RunID: run.ID, What: "attached",
		Detail: fmt.Sprintf("%d: %s at %.6g s, %d bytes, sha256 %s", a.Number, a.Name, a.T, a.Size, a.Hash)})
	return c.JSON(http.StatusOK, a)
}

func notAttached(err error) error {
	return badRequest("the file was not joined to the run: "+err.Error(), "")
}

// small makes a picture small, one at a time: it takes memory.
func (s *Service) small(c *echo.Context, about *api.FileContents, data []byte) ([]byte, error) {
	select {
	case s.shrinking <- struct{}{}:
	case <-c.Request().Context().Done():
		return nil, c.Request().Context().Err()
	}
	defer func() { <-s.shrinking }()
	return attachment.Small(about, data)
}

// instantAsked is the instant that a file belongs to, s since the start of the run: t, or when it was taken, or else
// now in a run that is live, and the end of one that is not.
func (s *Service) instantAsked(c *echo.Context, run store.Run) (float64, error) {
	end := run.Duration
	if run.EndedAt == nil {
		if b, err := s.engine.Bay(run.Bay); err == nil {
			end, _ = b.RunTime(run.ID)
		}
	}
	at := end
	given, taken := c.QueryParam("t"), c.QueryParam("taken")
	switch {
	case given != "" && taken != "":
		return 0, badRequest("t and taken both say when it was", "give one of them")
	case given != "":
		t, err := strconv.ParseFloat(given, 64)
		if err != nil || math.IsNaN(t) {
			return 0, badRequest(fmt.Sprintf("t: %q is not a number of seconds", given), "")
		}
		at = t
	case taken != "":
		instant, err := time.Parse(time.RFC3339, taken)
		if err != nil {
			return 0, badRequest(fmt.Sprintf("taken: %q is not an instant", taken), "write it as 2026-05-04T10:30:00Z")
		}
		pace := max(run.TimeFactor, 1)
		at = instant.Sub(run.StartedAt).Seconds() * pace
		if slack := clocksDiffer.Seconds() * pace; at > -slack && at < end+slack {
			at = max(0, min(at, end))
		}
	}
	if at < 0 || at > end {
		return 0, badRequest(fmt.Sprintf("%.6g s lies outside the run, which lasts %.6g s so far", at, end),
			"say with t at which second of the run it was")
	}
	return at, nil
}

// clocksDiffer is how far a camera's clock may be off before its picture belongs to another time.
const clocksDiffer = time.Minute

// scaleAsked is what the colours of a thermal picture stand for.
func scaleAsked(c *echo.Context) (*api.ThermalScale, error) {
	coldest, hottest := c.QueryParam("coldest"), c.QueryParam("hottest")
	if coldest == "" && hottest == "" {
		return nil, nil
	}
	low, err1 := strconv.ParseFloat(coldest, 64)
	high, err2 := strconv.ParseFloat(hottest, 64)
	if err1 != nil || err2 != nil || !(low < high) || low < -273.15 || high > 1e4 {
		return nil, badRequest(fmt.Sprintf("the scale from %q to %q °C is none", coldest, hottest),
			"give coldest and hottest in °C, as numbers")
	}
	return &api.ThermalScale{Coldest: low, Hottest: high}, nil
}

// attachmentAsked finds the run and the number of an attachment.
func (s *Service) attachmentAsked(c *echo.Context) (run store.Run, number int, err error) {
	if run, err = s.store.Run(c.Param("run")); err != nil {
		return run, 0, err
	}
	if number, err = strconv.Atoi(c.Param("attachment")); err != nil || number < 1 {
		return run, 0, badRequest(fmt.Sprintf("%q is not the number of an attachment", c.Param("attachment")),
			"they count from 1")
	}
	return run, number, nil
}

// attachment gives the bytes of an attachment as they were joined, or of a picture a small one. A browser shows only
// pictures; everything else it saves.
func (s *Service) attachment(c *echo.Context) error {
	run, number, err := s.attachmentAsked(c)
	if err != nil {
		return err
	}
	size := c.QueryParam("size")
	if size != "" && size != "small" {
		return badRequest(fmt.Sprintf("there is no size %q", size), "say small, or leave it out")
	}
	a, data, err := s.store.Attachment(run.ID, number, size == "small")
	if err != nil {
		return err
	}
	kind, how := a.Type, "attachment"
	if a.Picture() {
		how = "inline"
		if size == "small" {
			kind = "image/jpeg"
		}
	}
	header := c.Response().Header()
	header.Set("Content-Disposition", mime.FormatMediaType(how, map[string]string{"filename": a.Name}))
	header.Set("Cache-Control", "private, max-age=86400, immutable")
	return c.Stream(http.StatusOK, kind, bytes.NewReader(data))
}

// dropAttachment takes an attachment from a run, for a reason that the journal keeps with the hash of what it was.
func (s *Service) dropAttachment(c *echo.Context) error {
	run, number, err := s.attachmentAsked(c)
	if err != nil {
		return err
	}
	why := strings.TrimSpace(c.QueryParam("why"))
	if why == "" {
		return badRequest("nothing is taken from a record without a reason", "say why, such as: another unit's picture")
	}
	a, err := s.store.AboutAttachment(run.ID, number)
	if err != nil {
		return err
	}
	if err := s.store.DropAttachment(run.ID, number, why); err != nil {
		return err
	}
	s.engine.Journal(store.JournalEntry{By: who(c), Bay: run.Bay, RunID: run.ID, What: "attachment taken away",
		Detail: fmt.Sprintf("%d: %s, sha256 %s: %s", number, a.Name, a.Hash, why)})
	return c.NoContent(http.StatusNoContent)
}

// connection draws how the voltage input of a power meter is joined.
func (s *Service) connection(c *echo.Context) error {
	drawing, err := report.Connection(c.Param("wiring"))
	if err != nil {
		return &api.Problem{Title: "Not found", Status: http.StatusNotFound, Detail: err.Error()}
	}
	return c.Blob(http.StatusOK, "image/svg+xml", drawing)
}
