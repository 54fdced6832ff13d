// Package service offers the engine and the records over HTTP: REST under /api/v1, a live stream, and the
// console. It is thin: it parses, calls, and answers. Every route stands in one table with the role that it
// needs; a route that is not in the table does not exist.
package service

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"

	"usherbench/api"
	"usherbench/attachment"
	"usherbench/engine"
	"usherbench/line"
	"usherbench/operate"
	"usherbench/rehearsal/shelf"
	"usherbench/store"
)

// Version of the program, set by the build.
var Version = "dev"

// Service answers requests. Make one with New.
type Service struct {
	store  *store.Store
	engine *engine.Engine
	line   *line.Line
	places *operate.Places
	shelf  *shelf.Shelf // at the desk only
	// shrinking is held by whoever makes a picture small.
	shrinking chan struct{}
	log       *slog.Logger
	accounts  *accounts
	echo      *echo.Echo
	metrics   *prometheus.Registry
	options   Options
	streams   perAccount
	copies    *copies // nil: none are made by themselves
}

// Options of a service.
type Options struct {
	// Problems found at the start that do not keep the service from working.
	Problems []string
	// Secure marks cookies for TLS only.
	Secure bool
	// HashMemory is what hashing a password takes, in KiB; 0: as much as keeps guessing expensive.
	HashMemory uint32
	// Ready are the texts of procedures to start from.
	Ready []string
	// Desk answers heavy requests in processes of their own; nil: they are answered in this one.
	Desk Answerer
	// Outbox is told what the office sets; nil: nobody is told of runs.
	Outbox Teller
}

// Teller tells others of runs that have ended, as the office sets.
type Teller interface{ Set(office api.Office) }

// largestBody bounds what a request may send; a procedure is at most a quarter of it.
const largestBody = 1 << 20

// importsPath is where foreign logs are brought in; a month of one is longer than anything else that is sent.
const (
	importsPath = "/api/v1/imports"
	largestLog  = 128 << 20
	// attachmentsPath ends the paths under which files are joined to runs.
	attachmentsPath = "/attachments"
	// judgementsPath is where runs are judged again.
	judgementsPath = "/api/v1/judgements"
)

// route is one entry of the table. An empty role is open to everyone.
type route struct {
	method, path string
	role         api.Role
	handle       echo.HandlerFunc
	// limited routes accept few attempts from one place.
	limited bool
}

// heavy are the routes whose answers take much memory or time. Few are worked on at once, and the others wait: what
// looks after the bays comes first.
var heavy = []string{
	"/api/v1/runs/:run/export", "/api/v1/runs/:run/captures/:capture/export", "/api/v1/runs/:run/statistics",
	"/api/v1/runs/:run/excursions",
	"/api/v1/runs/:run/captures/:capture/statistics", "/api/v1/runs/:run/captures/:capture/makeup",
	"/api/v1/runs/:run/report", "/api/v1/overlays", "/api/v1/overlays/report",
	"/api/v1/lots/:lot/log", "/api/v1/lots/:lot/report", "/api/v1/units/:serial/report", "/api/v1/selection",
	"/api/v1/matches", "/api/v1/matches/labels", importsPath, importsPath + "/look", judgementsPath,
	"/api/v1/rehearsals", "/api/v1/runs/:run/rehearsal", "/api/v1/tables", "/api/v1/tables/export",
	"/api/v1/journal/verify", "/api/v1/records/check", copyPath,
}

// here are the heavy routes that are not answered at the desk as they come. Of what is kept on record the work is
// done there all the same, and the service keeps what came of it; what a check of the records finds is for the
// service that has them.
var here = []string{importsPath, judgementsPath, "/api/v1/records/check", copyPath}

func (s *Service) routes() []route {
	return []route{
		{"GET", "/health", "", s.health, false},
		{"GET", "/metrics", api.Viewer, s.showMetrics, false},
		{"GET", "/api/v1/openapi.json", "", s.openAPI, false},
		{"POST", "/api/v1/setup", "", s.setUp, true},
		{"POST", "/api/v1/sign-in", "", s.signIn, true},
		{"POST", "/api/v1/sign-out", api.Viewer, s.signOut, false},
		{"GET", "/api/v1/me", api.Viewer, s.me, false},
		{"GET", "/api/v1/accounts", api.Admin, s.listAccounts, false},
		{"POST", "/api/v1/accounts", api.Admin, s.addAccount, false},
		{"PUT", "/api/v1/accounts/:account", api.Admin, s.changeAccount, false},
		{"PUT", "/api/v1/me/password", api.Viewer, s.changePassword, true},
		{"GET", "/api/v1/tokens", api.Viewer, s.listTokens, false},
		{"DELETE", "/api/v1/tokens/:token", api.Viewer, s.revokeToken, false},
		{"GET", "/api/v1/bench", api.Viewer, s.benchConfig, false},
		{"GET", "/api/v1/instruments", api.Viewer, s.instruments, false},
		{"PUT", "/api/v1/instruments/:instrument", api.Engineer, s.putInstrument, false},
		{"DELETE", "/api/v1/instruments/:instrument", api.Engineer, s.removeInstrument, false},
		{"GET", "/api/v1/instruments/:instrument/messages", api.Viewer, s.exchanges, false},
		{"POST", "/api/v1/discover", api.Engineer, s.discover, false},
		{"GET", "/api/v1/dialects", api.Viewer, s.listDialects, false},
		{"POST", "/api/v1/dialects", api.Engineer, s.pushDialect, false},
		{"POST", "/api/v1/dialects/check", api.Viewer, s.checkDialect, false},
		{"GET", "/api/v1/dialects/:dialect", api.Viewer, s.showDialect, false},
		{"GET", "/api/v1/bays", api.Viewer, s.bays, false},
		{"GET", "/api/v1/bays/:bay", api.Viewer, s.bay, false},
		{"PUT", "/api/v1/bays/:bay", api.Engineer, s.putBay, false},
		{"DELETE", "/api/v1/bays/:bay", api.Engineer, s.removeBay, false},
		{"POST", "/api/v1/bays/:bay/take-over", api.Engineer, s.takeOver, false},
		{"PUT", "/api/v1/bays/:bay/sensors/:seat/:quantity", api.Engineer, s.changeSensor, false},
		{"POST", "/api/v1/bays/:bay/drill", api.Engineer, s.drill, false},
		{"POST", "/api/v1/drill", api.Engineer, s.drillHouse, false},
		{"GET", "/api/v1/drill", api.Viewer, s.lastDrill, false},
		{"PUT", "/api/v1/bays/:bay/setting", api.Engineer, s.setByHand, false},
		{"POST", "/api/v1/bays/:bay/intervene", api.Operator, s.intervene, false},
		{"POST", "/api/v1/bays/:bay/stop", api.Operator, s.stopBay, false},
		{"POST", "/api/v1/bays/:bay/safe", api.Operator, s.makeSafe, false},
		{"POST", "/api/v1/stop-all", api.Operator, s.stopAll, false},
		{"POST", "/api/v1/go-on", api.Operator, s.goOn, false},
		{"POST", "/api/v1/bays/:bay/looked", api.Engineer, s.looked, false},
		{"DELETE", "/api/v1/left/:left", api.Engineer, s.forgetOutputs, false},
		{"POST", "/api/v1/bays/:bay/still-there", api.Operator, s.stillThere, false},
		{"POST", "/api/v1/bays/:bay/go-on", api.Operator, s.goOnBay, false},
		{"GET", "/api/v1/live", api.Viewer, s.live, false},
		{"GET", "/api/v1/procedures", api.Viewer, s.listProcedures, false},
		{"POST", "/api/v1/procedures", api.Engineer, s.pushProcedure, false},
		{"POST", "/api/v1/procedures/check", api.Viewer, s.checkProcedure, false},
		{"POST", "/api/v1/procedures/outline", api.Viewer, s.outline, false},
		{"GET", "/api/v1/procedures/:name", api.Viewer, s.showProcedure, false},
		{"GET", "/api/v1/procedures/:name/revisions", api.Viewer, s.revisions, false},
		{"GET", "/api/v1/procedures/:name/difference", api.Viewer, s.difference, false},
		{"PUT", "/api/v1/procedures/:name/release", api.Engineer, s.releaseRevision, false},
		{"GET", "/api/v1/catalogue", api.Viewer, s.catalogue, false},
		{"GET", "/api/v1/first-steps", api.Viewer, s.firstSteps, false},
		{"GET", "/api/v1/ready", api.Viewer, s.ready, false},
		{"POST", "/api/v1/tables", api.Viewer, s.readTable, false},
		{"POST", "/api/v1/tables/export", api.Viewer, s.writeTable, false},
		{"POST", "/api/v1/rehearsals", api.Viewer, s.rehearse, false},
		{"POST", "/api/v1/judgements", api.Engineer, s.judgeAgain, false},
		{"GET", "/api/v1/nameplates", api.Viewer, s.listNameplates, false},
		{"POST", "/api/v1/nameplates", api.Engineer, s.pushNameplate, false},
		{"GET", "/api/v1/nameplates/:name", api.Viewer, s.showNameplate, false},
		{"POST", "/api/v1/nameplates/check", api.Viewer, s.checkNameplate, false},
		{"GET", "/api/v1/chemistries", api.Viewer, s.chemistries, false},
		{"GET", "/api/v1/queue", api.Viewer, s.queue, false},
		{"POST", "/api/v1/queue", api.Operator, s.enqueue, false},
		{"DELETE", "/api/v1/queue/:id", api.Operator, s.dequeue, false},
		{"POST", "/api/v1/queue/:id/release", api.Operator, s.release, false},
		{"POST", "/api/v1/overlays", api.Viewer, s.overlay, false},
		{"POST", "/api/v1/overlays/report", api.Viewer, s.overlayReport, false},
		{"GET", "/api/v1/lots", api.Viewer, s.listLots, false},
		{"GET", "/api/v1/lots/:lot", api.Viewer, s.lot, false},
		{"PUT", "/api/v1/lots/:lot", api.Engineer, s.orderLot, false},
		{"GET", "/api/v1/lots/:lot/log", api.Viewer, s.lotLog, false},
		{"GET", "/api/v1/lots/:lot/report", api.Viewer, s.lotReport, false},
		{"GET", "/api/v1/lots/:lot/difference", api.Viewer, s.lotDifference, false},
		{"GET", "/api/v1/selection", api.Viewer, s.selection, false},
		{"GET", "/api/v1/office", api.Viewer, s.showOffice, false},
		{"PUT", "/api/v1/office", api.Admin, s.setOffice, false},
		{"GET", "/api/v1/outbox", api.Engineer, s.listOutbox, false},
		{"GET", "/api/v1/units/:serial", api.Viewer, s.unit, false},
		{"GET", "/api/v1/units/:serial/report", api.Viewer, s.unitReport, false},
		{"PUT", "/api/v1/units/:serial", api.Engineer, s.changeUnit, false},
		{"GET", "/api/v1/places", api.Viewer, s.listPlaces, false},
		{"POST", "/api/v1/places/begin", api.Operator, s.beginTogether, false},
		{"GET", "/api/v1/bays/:bay/place", api.Viewer, s.place, false},
		{"PUT", "/api/v1/bays/:bay/place", api.Operator, s.setUpPlace, false},
		{"DELETE", "/api/v1/bays/:bay/place", api.Operator, s.clearPlace, false},
		{"POST", "/api/v1/bays/:bay/place/scan", api.Operator, s.scan, false},
		{"DELETE", "/api/v1/bays/:bay/place/scan", api.Operator, s.takeBack, false},
		{"POST", "/api/v1/bays/:bay/place/begin", api.Operator, s.beginPlace, false},
		{"POST", "/api/v1/matches", api.Viewer, s.match, false},
		{"POST", "/api/v1/matches/labels", api.Viewer, s.matchLabels, false},
		{"POST", importsPath, api.Engineer, s.importLog, false},
		{"POST", importsPath + "/look", api.Engineer, s.lookAtLog, false},
		{"GET", importsPath + "/sources", api.Viewer, s.sources, false},
		{"POST", "/api/v1/preflight", api.Operator, s.preflight, false},
		{"POST", "/api/v1/runs", api.Operator, s.startRun, false},
		{"GET", "/api/v1/runs", api.Viewer, s.listRuns, false},
		{"GET", "/api/v1/runs/:run", api.Viewer, s.showRun, false},
		{"GET", "/api/v1/runs/:run/pictures/:picture", api.Viewer, s.picture, false},
		{"GET", "/api/v1/runs/:run/rehearsal", api.Viewer, s.showRehearsal, false},
		{"GET", "/api/v1/runs/:run/judgements", api.Viewer, s.judgements, false},
		{"GET", "/api/v1/runs/:run/window", api.Viewer, s.window, false},
		{"GET", "/api/v1/runs/:run/captures", api.Viewer, s.captures, false},
		{"GET", "/api/v1/runs/:run/captures/:capture", api.Viewer, s.capture, false},
		{"GET", "/api/v1/runs/:run/captures/:capture/export", api.Viewer, s.exportCapture, false},
		{"GET", "/api/v1/runs/:run/captures/:capture/statistics", api.Viewer, s.captureStatistics, false},
		{"GET", "/api/v1/runs/:run/captures/:capture/makeup", api.Viewer, s.captureMakeup, false},
		{"GET", "/api/v1/runs/:run/statistics", api.Viewer, s.statistics, false},
		{"GET", "/api/v1/runs/:run/excursions", api.Viewer, s.excursions, false},
		{"GET", "/api/v1/runs/:run/excerpts", api.Viewer, s.excerpts, false},
		{"PUT", "/api/v1/runs/:run/excerpts/:excerpt", api.Operator, s.putExcerpt, false},
		{"DELETE", "/api/v1/runs/:run/excerpts/:excerpt", api.Operator, s.dropExcerpt, false},
		{"GET", "/api/v1/runs/:run/wiring", api.Viewer, s.wiring, false},
		{"GET", "/api/v1/connections/:wiring", api.Viewer, s.connection, false},
		{"GET", "/api/v1/runs/:run" + attachmentsPath, api.Viewer, s.attachments, false},
		{"POST", "/api/v1/runs/:run" + attachmentsPath, api.Operator, s.attach, false},
		{"GET", "/api/v1/runs/:run" + attachmentsPath + "/:attachment", api.Viewer, s.attachment, false},
		{"DELETE", "/api/v1/runs/:run" + attachmentsPath + "/:attachment", api.Engineer, s.dropAttachment, false},
		{"GET", "/api/v1/runs/:run/export", api.Viewer, s.export, false},
		{"GET", "/api/v1/runs/:run/report", api.Viewer, s.report, false},
		{"GET", "/api/v1/journal", api.Viewer, s.journal, false},
		{"GET", "/api/v1/journal/verify", api.Viewer, s.verifyJournal, false},
		{"GET", "/api/v1/records/check", api.Engineer, s.checkRecords, false},
		{"GET", copyPath, api.Admin, s.copyRecords, false},
		{"GET", "/api/v1/records/copies", api.Engineer, s.listCopies, false},
	}
}

// New makes the service. It is an http.Handler. The error is about accounts that cannot be read.
func New(st *store.Store, en *engine.Engine, ln *line.Line, places *operate.Places, log *slog.Logger,
	o Options) (*Service, error) {
	s := &Service{store: st, engine: en, line: ln, places: places, log: log, accounts: newAccounts(st, o),
		echo:    echo.New(),
		options: o, streams: perAccount{most: mostStreams}, shrinking: make(chan struct{}, 1)}
	if o.Desk == nil {
		s.options.Desk = inHouse{Apart(st, log)}
	}
	if err := s.accounts.load(); err != nil {
		return nil, fmt.Errorf("who may use the service: %w", err)
	}
	s.metrics = newMetrics(en, s.store, func() time.Time { return s.copies.newest() })
	s.echo.Logger = log
	s.echo.HTTPErrorHandler = s.answerError
	s.echo.Use(middleware.Recover(), s.protect, bodyLimit(),
		middleware.GzipWithConfig(middleware.GzipConfig{
			Skipper: func(c *echo.Context) bool { return c.Path() == "/api/v1/live" || c.Path() == copyPath },
		}))
	limiter := middleware.RateLimiterWithConfig(middleware.RateLimiterConfig{
		Store: middleware.NewRateLimiterMemoryStoreWithConfig(middleware.RateLimiterMemoryStoreConfig{Rate: 0.2, Burst: 10,
			ExpiresIn: 10 * time.Minute}),
		DenyHandler: func(*echo.Context, string, error) error {
			return &api.Problem{Title: "Too many attempts", Status: http.StatusTooManyRequests,
				Detail: "sign-in was tried too often from here", Remedy: "wait a minute and try again"}
		},
	})
	few := atOnce(mostHeavy)
	for _, r := range s.routes() {
		var chain []echo.MiddlewareFunc
		if r.limited {
			chain = append(chain, limiter)
		}
		if r.role != "" {
			chain = append(chain, s.allow(r.role))
		}
		if slices.Contains(heavy, r.path) {
			chain = append(chain, few)
			if !slices.Contains(here, r.path) {
				r.handle = s.atDesk
			}
		}
		s.echo.Add(r.method, r.path, r.handle, chain...)
	}
	s.echo.Any("/api/*", func(c *echo.Context) error {
		if _, err := s.accounts.of(c.Request()); err != nil {
			return errSignIn
		}
		return echo.ErrNotFound
	})
	s.echo.GET("/*", s.consoleFile)
	return s, nil
}

// mostHeavy is how many heavy requests are worked on at once, mostWaiting how many of one account may wait for that
// or be worked on, heavyPatience how long one waits for its turn, and heavyWithin how long its answer may take to
// be read.
const (
	mostHeavy     = 2
	mostWaiting   = 4
	heavyPatience = 2 * time.Minute
	heavyWithin   = 30 * time.Minute
)

// atOnce lets so many requests be worked on at a time, and so many of one account wait.
func atOnce(most int) echo.MiddlewareFunc {
	places := make(chan struct{}, most)
	accounts := perAccount{most: mostWaiting}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			leave, ok := accounts.enter(who(c))
			if !ok {
				return &api.Problem{Title: "Too many at once", Status: http.StatusTooManyRequests,
					Detail: fmt.Sprintf("%d exports, reports or rehearsals of this account are not answered yet", mostWaiting),
					Remedy: "wait for them, or end them"}
			}
			defer leave()
			timer := time.NewTimer(heavyPatience)
			defer timer.Stop()
			select {
			case places <- struct{}{}:
			case <-c.Request().Context().Done():
				return c.Request().Context().Err()
			case <-timer.C:
				return &api.Problem{Title: "The service is busy", Status: http.StatusServiceUnavailable,
					Detail: "others are exporting, judging or importing", Remedy: "try again in a few minutes"}
			}
			defer func() { <-places }()
			connection := http.NewResponseController(c.Response())
			_ = connection.SetWriteDeadline(time.Now().Add(heavyWithin))
			defer func() { _ = connection.SetWriteDeadline(time.Time{}) }() // the connection serves other requests after it
			return next(c)
		}
	}
}

// bodyLimit bounds what is sent.
func bodyLimit() echo.MiddlewareFunc {
	limit := func(bytes int64) echo.MiddlewareFunc { return middleware.BodyLimit(bytes) }
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		short, long := limit(largestBody)(next), limit(largestLog)(next)
		file := limit(attachment.Largest + 1)(next) // so that one that is too large is told so in words of its own
		return func(c *echo.Context) error {
			switch path := c.Request().URL.Path; {
			case strings.HasPrefix(path, importsPath):
				inTime(c, logWithin)
				return long(c)
			case strings.HasSuffix(path, attachmentsPath):
				inTime(c, fileWithin)
				return file(c)
			}
			inTime(c, bodyWithin)
			return short(c)
		}
	}
}

// bodyWithin is how long the body of a request may take to come, logWithin that of a log, fileWithin of an attachment.
const (
	bodyWithin = 20 * time.Second
	logWithin  = 5 * time.Minute
	fileWithin = time.Minute
)

// inTime bounds how long the body of a request may take: many slow ones would hold as many connections for ever.
func inTime(c *echo.Context, within time.Duration) {
	r := c.Request()
	if r.Body == nil || r.Body == http.NoBody {
		return
	}
	connection := http.NewResponseController(c.Response())
	if connection.SetReadDeadline(time.Now().Add(within)) == nil {
		r.Body = &timedBody{r.Body, connection}
	}
}

// timedBody lifts the deadline when the body has come, since the connection is read on for other reasons.
type timedBody struct {
	io.ReadCloser
	connection *http.ResponseController
}

func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.connection.SetReadDeadline(time.Time{})
	}
	return n, err
}

func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.echo.ServeHTTP(w, r) }

// SetupCode makes a new one-time code for the first account; empty if there is an account already.
func (s *Service) SetupCode() (string, error) { return s.accounts.setupCode() }

// LocalToken gives the program on this machine that may read the data folder a token, in place of an older one.
func (s *Service) LocalToken() (string, error) { return s.accounts.localToken() }

func (s *Service) health(c *echo.Context) error {
	setUp, err := s.accounts.exist()
	h := api.Health{Status: "ok", Version: Version, SetUp: setUp, Now: s.store.Now(), Problems: s.options.Problems}
	if err != nil {
		h.Problems = append(h.Problems, "the records cannot be read: "+err.Error())
	}
	h.Problems = append(h.Problems, s.engine.Problems()...)
	for _, b := range s.engine.Bays() {
		if status := b.Status(); status.Alarm != "" {
			h.Problems = append(h.Problems, status.Name+": "+status.Alarm)
		}
	}
	code := http.StatusOK
	if len(h.Problems) > 0 {
		h.Status = "degraded"
	}
	if _, notSignedIn := s.accounts.of(c.Request()); notSignedIn != nil {
		h.Problems = nil // strangers learn that something is wrong, not what
	}
	if err != nil {
		code = http.StatusServiceUnavailable
	}
	return c.JSON(code, h)
}

// bind reads the JSON body of a request.
func bind[T any](c *echo.Context) (T, error) {
	var body T
	if err := c.Bind(&body); err != nil {
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return body, err
		}
		return body, &api.Problem{Title: "The request cannot be read", Status: http.StatusBadRequest,
			Detail: rootCause(err).Error(), Remedy: "send JSON as /api/v1/openapi.json describes it"}
	}
	return body, nil
}

func rootCause(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// Entry is a route as the table has it, for checks against the OpenAPI document.
type Entry struct {
	// Operation is method and path as the document writes them: "GET /api/v1/bays/{bay}".
	Operation string
	Role      api.Role
}

var pathParameter = regexp.MustCompile(`:(\w+)`)

// Table lists every route of the service.
func (s *Service) Table() []Entry {
	var entries []Entry
	for _, r := range s.routes() {
		entries = append(entries, Entry{r.method + " " + pathParameter.ReplaceAllString(r.path, "{$1}"), r.role})
	}
	return entries
}
