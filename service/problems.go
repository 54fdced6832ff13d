package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"strings"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/bench"
	"usherbench/core/document"
	"usherbench/engine"
	"usherbench/operate"
	"usherbench/report"
	"usherbench/store"
)

var errSignIn = &api.Problem{Title: "Not signed in", Status: http.StatusUnauthorized, Detail: "this needs an account",
	Remedy: "sign in, or send a token as Authorization: Bearer"}

// answerError turns any error into a problem document.
func (s *Service) answerError(c *echo.Context, err error) {
	if r, ok := c.Response().(*echo.Response); ok && r.Committed {
		return
	}
	p := problemOf(err)
	if p.Status >= 500 && c.Request().Context().Err() == nil { // whoever asked is still there
		s.log.Error("request", "method", c.Request().Method, "path", c.Request().URL.Path, "err", err)
	}
	c.Response().Header().Set("Content-Type", "application/problem+json")
	c.Response().WriteHeader(p.Status)
	if err := json.NewEncoder(c.Response()).Encode(p); err != nil {
		s.log.Debug("answer", "err", err) // the client went away
	}
}

// problemOf words an error. What a person did gets its words; what broke inside is only logged.
func problemOf(err error) *api.Problem {
	var p *api.Problem
	if errors.As(err, &p) {
		return p
	}
	var findings document.Findings
	if errors.As(err, &findings) {
		return &api.Problem{Title: "The document has mistakes", Status: http.StatusUnprocessableEntity,
			Detail: findings.Error(), Findings: findings}
	}
	var blocked *engine.Blocked
	if errors.As(err, &blocked) {
		return &api.Problem{Title: "The preflight found what must be mended first", Status: http.StatusConflict,
			Detail: blocked.Words, Preflight: blocked.Findings}
	}
	switch {
	case store.Locked(err):
		return &api.Problem{Title: "The records are locked", Status: http.StatusServiceUnavailable,
			Detail: "another program holds the database of the service, and nothing could be written for ten seconds",
			Remedy: "end what has the file open (a backup, a browser of databases), then try again"}
	case errors.Is(err, os.ErrDeadlineExceeded):
		return &api.Problem{Title: "The request came too slowly", Status: http.StatusRequestTimeout,
			Detail: "its body did not come within the time for it", Remedy: "look at the connection, then send it again"}
	}
	for _, known := range []struct {
		err           error
		status        int
		title, remedy string
	}{
		{store.ErrNotFound, http.StatusNotFound, "Not found", ""},
		{store.ErrTooMany, http.StatusConflict, "The run has too many attachments", "join fewer or smaller ones"},
		{store.ErrNotWhole, http.StatusServiceUnavailable, "The records are not whole",
			"stop the service, keep a copy of the data folder, and put a backup in place"},
		{store.ErrConflict, http.StatusConflict, "It exists already", "choose another name"},
		{store.ErrNoColumn, http.StatusBadRequest, "The request is wrong", ""},
		{engine.ErrStopping, http.StatusServiceUnavailable, "The service is shutting down", "try again when it is back"},
		{engine.ErrUnknownBay, http.StatusNotFound, "Not found", ""},
		{bench.ErrUnknownInstrument, http.StatusNotFound, "Not found", ""},
		{engine.ErrBusy, http.StatusConflict, "The bay is busy", "wait for the run to end, or stop it"},
		{engine.ErrHeld, http.StatusConflict, "Held after a stop", "look around, then say go on: usher go-on"},
		{engine.ErrStoppedAgain, http.StatusConflict, "Stopped again", "look around, then say go on again"},
		{engine.ErrNotSafe, http.StatusBadGateway, "Not confirmed safe", "switch the outputs off at the instruments"},
		{engine.ErrNotDone, http.StatusBadGateway, "The instrument did not do it",
			"look at the instrument, its cable and its messages"},
		{engine.ErrIdle, http.StatusConflict, "Nothing is under way", ""},
		{engine.ErrNotReady, http.StatusConflict, "The bench is not ready", ""},
		{archive.ErrNotReleased, http.StatusForbidden, "Not released",
			"have an engineer release it: usher procedure release"},
		{operate.ErrNotSetUp, http.StatusConflict, "The place is not set up",
			"say what is tested there: usher operate --help"},
		{operate.ErrOccupied, http.StatusConflict, "A unit is in the place", ""},
		{operate.ErrEmpty, http.StatusConflict, "No unit was scanned", "scan one"},
		{archive.ErrLive, http.StatusConflict, "The run is live", "wait for it to end, or stop it"},
		{api.ErrBadRequest, http.StatusBadRequest, "The request is wrong", ""},
		{report.ErrTooLong, http.StatusBadRequest, "Too long for this format", "choose csv or parquet"},
	} {
		if errors.Is(err, known.err) {
			detail := err.Error()
			for _, said := range []error{api.ErrBadRequest, engine.ErrNotReady, engine.ErrHeld,
				engine.ErrNotSafe} { // by the title
				detail = strings.TrimPrefix(detail, said.Error()+": ")
			}
			return &api.Problem{Title: known.title, Status: known.status, Detail: detail, Remedy: known.remedy}
		}
	}
	var coder echo.HTTPStatusCoder
	if errors.As(err, &coder) {
		status := coder.StatusCode()
		return &api.Problem{Title: http.StatusText(status), Status: status, Detail: rootCause(err).Error()}
	}
	return &api.Problem{Title: "Something broke in the service", Status: http.StatusInternalServerError,
		Remedy: "look into the service's log, and whether the outputs are as they should be"}
}

// badRequest words a mistake in a request.
func badRequest(detail, remedy string) error {
	return &api.Problem{Title: "The request is wrong", Status: http.StatusBadRequest, Detail: detail, Remedy: remedy}
}
