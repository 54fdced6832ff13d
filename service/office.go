package service

import (
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
