package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"usherbench/api"
)

// Printed says how a report is to look; empty is as the office has set, as PDF.
type Printed struct {
	// Format is pdf or html, Language en, de or fr, Paper a4 or letter.
	Format, Language, Paper string
}

func (p Printed) query() url.Values {
	query := url.Values{}
	for name, text := range map[string]string{"format": p.Format, "language": p.Language, "paper": p.Paper} {
		if text != "" {
			query.Set(name, text)
		}
	}
	return query
}

// LotReport writes the report of a lot.
func (c *Client) LotReport(ctx context.Context, lot string, p Printed, w io.Writer) error {
	return c.download(ctx, one("lots", lot, "report"), p.query(), w)
}

// LotLog tells every attempt of a lot.
func (c *Client) LotLog(ctx context.Context, lot string) (api.LotLog, error) {
	return get[api.LotLog](ctx, c, one("lots", lot, "log"), nil)
}

// WriteLotLog writes the log of a lot as text, csv, xlsx, html or pdf.
func (c *Client) WriteLotLog(ctx context.Context, lot, format string, w io.Writer) error {
	return c.download(ctx, one("lots", lot, "log"), url.Values{"format": {format}}, w)
}

// LotDifference compares a lot with another; an empty procedure is all.
func (c *Client) LotDifference(ctx context.Context, lot, with, procedure string) (api.LotDifference, error) {
	query := url.Values{"with": {with}}
	if procedure != "" {
		query.Set("procedure", procedure)
	}
	return get[api.LotDifference](ctx, c, one("lots", lot, "difference"), query)
}

// UnitReport writes the history of a unit, or its card.
func (c *Client) UnitReport(ctx context.Context, serial, kind string, p Printed, w io.Writer) error {
	query := p.query()
	if kind != "" {
		query.Set("kind", kind)
	}
	return c.download(ctx, one("units", serial, "report"), query, w)
}

// Selection writes runs with their figures, a row a run, as csv, json, xlsx or parquet.
func (c *Client) Selection(ctx context.Context, f api.RunFilter, format string, w io.Writer) error {
	query := filterQuery(f)
	query.Set("format", format)
	return c.download(ctx, one("selection"), query, w)
}

// Office is what the office has set.
func (c *Client) Office(ctx context.Context) (api.Office, error) {
	return get[api.Office](ctx, c, one("office"), nil)
}

// SetOffice sets what the office wants.
func (c *Client) SetOffice(ctx context.Context, o api.Office) (api.Office, error) {
	return call[api.Office](ctx, c, http.MethodPut, one("office"), nil, o)
}

// Outbox lists who is to be told of what; waiting: only what was not sent yet.
func (c *Client) Outbox(ctx context.Context, waiting bool) ([]api.OutboxMessage, error) {
	query := url.Values{}
	if waiting {
		query.Set("waiting", "true")
	}
	return get[[]api.OutboxMessage](ctx, c, one("outbox"), query)
}

// ReleaseRevision makes a revision of a procedure one that operators may run, or a draft again.
func (c *Client) ReleaseRevision(ctx context.Context, procedure string, r api.ReleaseRequest) (api.Procedure, error) {
	return call[api.Procedure](ctx, c, http.MethodPut, one("procedures", procedure, "release"), nil, r)
}

// Journal lists entries of the journal, newest first.
func (c *Client) Journal(ctx context.Context, f api.JournalFilter) ([]api.JournalEntry, error) {
	return get[[]api.JournalEntry](ctx, c, one("journal"), journalQuery(f))
}

func journalQuery(f api.JournalFilter) url.Values {
	query := url.Values{}
	for name, text := range map[string]string{"bay": f.Bay, "run": f.Run, "by": f.By, "what": f.What} {
		if text != "" {
			query.Set(name, text)
		}
	}
	for name, at := range map[string]time.Time{"since": f.Since, "until": f.Until} {
		if !at.IsZero() {
			query.Set(name, at.Format(time.RFC3339))
		}
	}
	if f.Limit > 0 {
		query.Set("limit", strconv.Itoa(f.Limit))
	}
	return query
}

// WriteJournal writes entries of the journal as CSV.
func (c *Client) WriteJournal(ctx context.Context, f api.JournalFilter, w io.Writer) error {
	query := journalQuery(f)
	query.Set("format", "csv")
	return c.download(ctx, one("journal"), query, w)
}
