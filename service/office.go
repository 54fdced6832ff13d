package service

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/outbox"
	"usherbench/report"
	"usherbench/store"
)

// office is what the office has set; what it has not is as usual.
func (s *Service) office() (o api.Office, err error) {
	return o, s.store.Setting(archive.OfficeSetting, &o)
}

// showOffice tells what the office has set, without what signs messages.
func (s *Service) showOffice(c *echo.Context) error {
	o, err := s.office()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, withoutSecrets(o))
}

func withoutSecrets(o api.Office) api.Office {
	o.Tell = slices.Clone(o.Tell)
	for i := range o.Tell {
		o.Tell[i].Secret, o.Tell[i].To = "", outbox.Shown(o.Tell[i].To)
	}
	return o
}

// setOffice keeps what the office sets. Whoever is told already keeps the secret and the password in the address where
// they are not given anew.
func (s *Service) setOffice(c *echo.Context) error {
	body, err := bind[api.Office](c)
	if err != nil {
		return err
	}
	before, err := s.office()
	if err != nil {
		return err
	}
	if err := checkOffice(body); err != nil {
		return badRequest(err.Error(), "")
	}
	now := s.store.Now()
	for i, t := range body.Tell {
		for _, known := range before.Tell {
			if outbox.Shown(known.To) == t.To {
				body.Tell[i].To, body.Tell[i].Since = known.To, known.Since
				if t.Secret == "" {
					body.Tell[i].Secret = known.Secret
				}
			}
		}
		if err := outbox.Check(body.Tell[i].To); err != nil {
			return badRequest(err.Error(), "")
		}
		if body.Tell[i].Since.IsZero() {
			body.Tell[i].Since = now
		}
	}
	if body.ReportsSince = before.ReportsSince; body.Reports != before.Reports || body.ReportsSince.IsZero() {
		body.ReportsSince = now
	}
	if err := s.store.PutSetting(who(c), archive.OfficeSetting, body); err != nil {
		return err
	}
	if s.options.Outbox != nil {
		s.options.Outbox.Set(body)
	}
	s.note(who(c), "office", fmt.Sprintf("company %q, paper %s, language %s, %d are told, only released: %t",
		body.Look.Company, body.Look.Paper, body.Look.Language, len(body.Tell), body.OnlyReleased))
	return c.JSON(http.StatusOK, withoutSecrets(body))
}

func checkOffice(o api.Office) error {
	if err := (report.Look{Look: o.Look}).Check(); err != nil {
		return err
	}
	if err := report.CheckPattern(o.File); err != nil {
		return err
	}
	if clean := path.Clean("/" + o.Reports); o.Reports != "" && clean != "/"+strings.TrimSuffix(o.Reports, "/") {
		return fmt.Errorf("reports is %q; name a folder in the data folder, such as reports", o.Reports)
	}
	return nil
}

// listOutbox lists who is to be told of what.
func (s *Service) listOutbox(c *echo.Context) error {
	limit, err := wholeParam(c, "limit", 100, 1, 1000)
	if err != nil {
		return err
	}
	waiting := c.QueryParam("waiting")
	if waiting != "" && waiting != "true" && waiting != "false" {
		return badRequest(fmt.Sprintf("waiting is %q", waiting), "write true or false")
	}
	all, err := s.store.Outbox(waiting == "true", limit)
	if err != nil {
		return err
	}
	list := []api.OutboxMessage{}
	for _, m := range all {
		list = append(list, api.OutboxMessage{ID: m.ID, To: outbox.Shown(m.To), Run: m.RunID, At: m.At, Tries: m.Tries,
			Next: m.Next, Error: m.Error, Sent: m.Sent})
	}
	return c.JSON(http.StatusOK, list)
}

// releaseRevision makes a revision one that operators may run, or a draft again.
func (s *Service) releaseRevision(c *echo.Context) error {
	body, err := bind[api.ReleaseRequest](c)
	if err != nil {
		return err
	}
	if body.Released && strings.TrimSpace(body.Why) == "" {
		return badRequest("nobody has said why it is released", "give why")
	}
	by := who(c)
	if !body.Released {
		by = ""
	}
	r, err := s.store.SetReleased(c.Param("name"), body.Revision, by, body.Why)
	if err != nil {
		return err
	}
	what := map[bool]string{true: "procedure released", false: "release withdrawn"}[body.Released]
	s.note(who(c), what, fmt.Sprintf("%s revision %d: %s", r.Name, r.Number, body.Why))
	return c.JSON(http.StatusOK, procedureOf(r))
}

// mayDraft tells whether somebody may run revisions that are not released.
func mayDraft(c *echo.Context) bool {
	account, _ := c.Get("account").(store.Account)
	return rank[api.Role(account.Role)] >= rank[api.Engineer]
}

// asked is the revision of a start that its account may run.
func (s *Service) asked(c *echo.Context, r api.StartRun) (api.StartRun, error) {
	var err error
	r.Revision, err = archive.RevisionFor(s.store, r.Procedure, r.Revision, mayDraft(c))
	return r, err
}

// lookOf is how a report is to look: as the office has set, in another language or on other paper if that is asked for.
func (s *Service) lookOf(c *echo.Context) (report.Look, string, error) {
	o, err := s.office()
	if err != nil {
		return report.Look{}, "", err
	}
	look, format := report.Look{Look: o.Look}, c.QueryParam("format")
	if text := c.QueryParam("language"); text != "" {
		look.Language = text
	}
	if text := c.QueryParam("paper"); text != "" {
		look.Paper = text
	}
	if format == "" {
		format = report.Formats[0]
	}
	if !slices.Contains(report.Formats, format) {
		return look, "", badRequest(fmt.Sprintf("there are no reports as %q", format),
			"choose "+strings.Join(report.Formats, " or "))
	}
	if err := look.Check(); err != nil {
		return look, "", badRequest(err.Error(), "")
	}
	return look, format, nil
}

// contentTypes are those of files, by format.
var contentTypes = map[string]string{"pdf": "application/pdf", "html": "text/html; charset=utf-8",
	"text": "text/plain; charset=utf-8", "csv": "text/csv; charset=utf-8", "json": "application/json",
	"xlsx":    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	"parquet": "application/vnd.apache.parquet"}

// hand hands over a file.
func hand(c *echo.Context, format, name string, data []byte) error {
	ending := map[string]string{"text": "txt"}[format]
	if ending == "" {
		ending = format
	}
	attach(c.Response(), contentTypes[format], fileName(name)+"."+ending)
	_, err := c.Response().Write(data)
	return err
}

// lotReport makes the report of a lot.
func (s *Service) lotReport(c *echo.Context) error {
	look, format, err := s.lookOf(c)
	if err != nil {
		return err
	}
	lot, err := archive.Lot(s.store, c.Param("lot"), api.LotRequest{})
	if err != nil {
		return err
	}
	log, err := archive.LotLog(s.store, c.Param("lot"))
	if err != nil {
		return err
	}
	data, err := report.Lot(lot, look, format, log.Entries[len(log.Entries)-1].Began)
	if err != nil {
		return err
	}
	return hand(c, format, "lot_"+lot.Name, data)
}

// lotLog is a line for every attempt of a lot.
func (s *Service) lotLog(c *echo.Context) error {
	format := c.QueryParam("format")
	if format != "" && format != "json" && !slices.Contains(report.LotLogFormats, format) {
		return badRequest(fmt.Sprintf("there is no log as %q", format),
			"choose json, "+strings.Join(report.LotLogFormats, ", "))
	}
	log, err := archive.LotLog(s.store, c.Param("lot"))
	if err != nil {
		return err
	}
	if format == "" || format == "json" {
		return c.JSON(http.StatusOK, log)
	}
	o, err := s.office()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := report.WriteLotLog(&b, log, report.Look{Look: o.Look}, format); err != nil {
		return err
	}
	return hand(c, format, "lot_"+log.Name+"_log", b.Bytes())
}

// lotDifference compares a lot with another.
func (s *Service) lotDifference(c *echo.Context) error {
	with := c.QueryParam("with")
	if with == "" {
		return badRequest("nobody has said with which lot it is compared", "give with")
	}
	d, err := archive.CompareLots(s.store, with, c.Param("lot"), api.LotRequest{Procedure: c.QueryParam("procedure")})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, d)
}

// unitReport makes the history of a unit, or its card.
func (s *Service) unitReport(c *echo.Context) error {
	look, format, err := s.lookOf(c)
	if err != nil {
		return err
	}
	kind := c.QueryParam("kind")
	make, known := map[string]func(api.Unit, []api.Run, report.Look, string, time.Time) ([]byte, error){"": report.Unit,
		"history": report.Unit, "card": report.Card}[kind]
	if !known {
		return badRequest(fmt.Sprintf("there is no report of a unit as %q", kind), "choose history or card")
	}
	u, err := archive.Unit(s.store, c.Param("serial"))
	if err != nil {
		return err
	}
	var at time.Time
	var counted []api.Run
	for _, run := range decisive(u) {
		stored, err := s.store.Run(run)
		if err != nil {
			return err
		}
		doc, err := report.Collect(s.store, stored)
		if err != nil {
			return err
		}
		counted = append(counted, doc)
	}
	if len(u.Runs) > 0 {
		at = u.Runs[0].StartedAt
	}
	data, err := make(u, counted, look, format, at)
	if err != nil {
		return err
	}
	return hand(c, format, u.Serial+map[string]string{"card": "_card"}[kind], data)
}

// decisive are the runs of a unit whose figures are printed: those of its card, or without one the newest by each
// procedure.
func decisive(u api.Unit) (runs []string) {
	if u.Card != nil {
		for _, i := range u.Card.Items {
			if i.Run != "" {
				runs = append(runs, i.Run)
			}
		}
		return runs
	}
	var seen []string
	for _, r := range u.Runs {
		if r.State != store.Live && !slices.Contains(seen, r.Procedure) {
			seen, runs = append(seen, r.Procedure), append(runs, r.ID)
		}
	}
	return runs
}

// mostSelected is how many runs a selection has at most.
const mostSelected = 20_000

// selection writes runs with their figures, a row a run.
func (s *Service) selection(c *echo.Context) error {
	format := c.QueryParam("format")
	if format == "" {
		format = report.SelectionFormats[0]
	}
	if !slices.Contains(report.SelectionFormats, format) {
		return badRequest(fmt.Sprintf("there is no selection as %q", format),
			"choose "+strings.Join(report.SelectionFormats, ", "))
	}
	filter, err := runFilter(c)
	if err != nil {
		return err
	}
	filter.Limit = mostSelected
	runs, err := s.store.Runs(filter)
	if err != nil {
		return err
	}
	runs = slices.DeleteFunc(runs, func(r store.Run) bool { return r.State == store.Live })
	slices.Reverse(runs) // oldest first, as in a list that grows
	var b bytes.Buffer
	if err := report.WriteSelection(&b, s.store, runs, format); err != nil {
		return err
	}
	return hand(c, format, "runs", b.Bytes())
}

// journalCSV writes entries as CSV.
func journalCSV(c *echo.Context, entries []api.JournalEntry) error {
	attach(c.Response(), contentTypes["csv"], "journal.csv")
	w := csv.NewWriter(c.Response())
	rows := [][]string{{"id", "at", "by", "bay", "run", "what", "detail"}}
	for _, e := range entries {
		rows = append(rows, []string{strconv.FormatUint(uint64(e.ID), 10), e.At.UTC().Format(time.RFC3339Nano),
			report.Cell(e.By), e.Bay, e.Run, report.Cell(e.What), report.Cell(e.Detail)})
	}
	return w.WriteAll(rows)
}

// Report makes the report of a run for the folder of reports, at the desk.
func (s *Service) Report(ctx context.Context, id string) (name string, data []byte, err error) {
	run, err := s.store.Run(id)
	if err != nil {
		return "", nil, err
	}
	o, err := s.office()
	if err != nil {
		return "", nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "/api/v1/runs/"+id+"/report", nil)
	if err != nil {
		return "", nil, err
	}
	a := &answer{header: http.Header{}}
	if err := s.askDesk(a, r, "service"); err != nil {
		return "", nil, err
	}
	if a.status != 0 && a.status != http.StatusOK {
		return "", nil, fmt.Errorf("the report of run %s could not be made: %s", id, a.text.String())
	}
	pattern := o.File
	if pattern == "" {
		pattern = "{procedure}_{serial}_{run}"
	}
	values := report.Names(run.Summary())
	for word, text := range values {
		values[word] = strings.ReplaceAll(fileName(text), "..", "-")
	}
	inside := path.Join("/", o.Reports, report.Fill(pattern, values)) // whatever the pattern says
	return inside[1:] + ".pdf", a.text.Bytes(), nil
}
