package service

import (
	"errors"
	"log/slog"
	"net/http"
	"slices"
	"sync"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"usherbench/api"
	"usherbench/rehearsal/shelf"
	"usherbench/service/desk"
	"usherbench/store"
)

// perAccount bounds how much of something one account has at a time.
type perAccount struct {
	most int
	mu   sync.Mutex // guards what follows
	has  map[string]int
}

// enter takes one; ok is false where the account has the most.
func (p *perAccount) enter(account string) (leave func(), ok bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.has == nil {
		p.has = map[string]int{}
	}
	if p.has[account] >= p.most {
		return nil, false
	}
	p.has[account]++
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.has[account]--; p.has[account] == 0 {
			delete(p.has, account)
		}
	}, true
}

// atDesk has a request answered in a process of its own.
func (s *Service) atDesk(echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		err := s.options.Desk.Answer(c.Response(), c.Request())
		if errors.Is(err, desk.ErrEnded) {
			s.log.Warn("heavy work", "path", c.Request().URL.Path, "err", err)
			return &api.Problem{Title: "It is too much at once", Status: http.StatusServiceUnavailable,
				Detail: "the process that works on it took more memory than it may, or was ended",
				Remedy: "ask for a part of it: a shorter time, fewer runs or columns"}
		}
		return err
	}
}

// Apart answers the heavy requests that only read the records, in a process beside the service, which has checked who
// asks.
func Apart(st *store.Store, log *slog.Logger) http.Handler {
	s := &Service{store: st, log: log, echo: echo.New(), shelf: shelf.New(st, st.Library)}
	s.echo.Logger = log
	s.echo.HTTPErrorHandler = s.answerError
	s.echo.Use(middleware.Recover())
	for _, r := range s.routes() {
		if slices.Contains(heavy, r.path) && !slices.Contains(here, r.path) {
			s.echo.Add(r.method, r.path, r.handle)
		}
	}
	return s.echo
}
