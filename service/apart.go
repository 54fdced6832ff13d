package service

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
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

// Answerer has heavy requests answered. The error is about what kept one from being answered, before anything was.
type Answerer interface {
	Answer(w http.ResponseWriter, r *http.Request) error
}

// inHouse answers heavy requests in this process.
type inHouse struct{ http.Handler }

func (h inHouse) Answer(w http.ResponseWriter, r *http.Request) error {
	h.ServeHTTP(w, r)
	return nil
}

// What the desk is told beside the request: who asks, and the database in which new records are made.
const (
	accountHeader = "Usher-Account"
	intoHeader    = "Usher-Into"
)

// atDesk has a request answered in a process of its own.
func (s *Service) atDesk(c *echo.Context) error {
	c.Request().Header.Del(intoHeader)
	return s.askDesk(c.Response(), c.Request(), who(c))
}

func (s *Service) askDesk(w http.ResponseWriter, r *http.Request, account string) error {
	r.Header.Set(accountHeader, url.QueryEscape(account))
	err := s.options.Desk.Answer(w, r)
	if errors.Is(err, desk.ErrEnded) {
		s.log.Warn("heavy work", "path", r.URL.Path, "err", err)
		return &api.Problem{Title: "It is too much at once", Status: http.StatusServiceUnavailable,
			Detail: "the process that works on it took more memory than it may, or was ended",
			Remedy: "ask for a part of it: a shorter time, fewer runs or columns"}
	}
	return err
}

// answer is what the desk says to a question of the service.
type answer struct {
	header http.Header
	status int
	text   bytes.Buffer
}

func (a *answer) Header() http.Header            { return a.header }
func (a *answer) WriteHeader(status int)         { a.status = cmp.Or(a.status, status) }
func (a *answer) Write(part []byte) (int, error) { return a.text.Write(part) }

// asAccount takes the word of the service for who asks.
func asAccount(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		name, err := url.QueryUnescape(c.Request().Header.Get(accountHeader))
		if err != nil {
			return err
		}
		c.Set("account", store.Account{Name: name})
		return next(c)
	}
}

// workedOut is what the desk makes of a question that comes of a request.
func workedOut[Result any](s *Service, c *echo.Context, path string, question any) (result Result, err error) {
	body, err := json.Marshal(question)
	if err != nil {
		return result, err
	}
	r, err := http.NewRequestWithContext(c.Request().Context(), http.MethodPost, path, bytes.NewReader(body))
	if err != nil {
		return result, err
	}
	r.Header.Set("Content-Type", "application/json")
	return workedOutOf[Result](s, r, who(c))
}

// workedOutOf is what the desk makes of a request, which somebody asks.
func workedOutOf[Result any](s *Service, r *http.Request, account string) (result Result, err error) {
	a := &answer{header: http.Header{}}
	if err := s.askDesk(a, r, account); err != nil {
		return result, err
	}
	if a.status >= http.StatusBadRequest {
		problem := &api.Problem{Status: a.status}
		if err := json.Unmarshal(a.text.Bytes(), problem); err != nil {
			return result, fmt.Errorf("answer of the desk: %w", err)
		}
		return result, problem
	}
	if err := json.Unmarshal(a.text.Bytes(), &result); err != nil {
		return result, fmt.Errorf("answer of the desk: %w", err)
	}
	return result, nil
}

// Apart answers heavy requests beside the service, which has checked who asks and keeps what is to be kept.
func Apart(st *store.Store, log *slog.Logger) http.Handler {
	s := &Service{store: st, log: log, echo: echo.New(), shelf: shelf.New(st, st.Library)}
	s.echo.Logger = log
	s.echo.HTTPErrorHandler = s.answerError
	s.echo.Use(middleware.Recover(), asAccount)
	s.echo.POST(importsPath, s.workOutImport)
	s.echo.POST(judgementsPath, s.workOutJudgement)
	s.echo.GET(copyPath, s.workOutCopy)
	for _, r := range s.routes() {
		if slices.Contains(heavy, r.path) && !slices.Contains(here, r.path) {
			s.echo.Add(r.method, r.path, r.handle)
		}
	}
	return s.echo
}
