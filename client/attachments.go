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

// Attaching says what a file is that is joined to a run. With neither T nor Taken it belongs to now, or to the end of a
// run that has ended.
type Attaching struct {
	Name, Note string
	// T is the instant, s since the start of the run; Taken is when it was by the clock.
	T     *float64
	Taken time.Time
	Scale *api.ThermalScale
}

func (a Attaching) query() url.Values {
	query := url.Values{"name": {a.Name}}
	if a.Note != "" {
		query.Set("note", a.Note)
	}
	number := func(name string, x float64) { query.Set(name, strconv.FormatFloat(x, 'g', -1, 64)) }
	if a.T != nil {
		number("t", *a.T)
	}
	if !a.Taken.IsZero() {
		query.Set("taken", a.Taken.Format(time.RFC3339))
	}
	if a.Scale != nil {
		number("coldest", a.Scale.Coldest)
		number("hottest", a.Scale.Hottest)
	}
	return query
}

// Attach joins a file to a run.
func (c *Client) Attach(ctx context.Context, run string, a Attaching, file io.Reader) (api.Attachment, error) {
	return call[api.Attachment](ctx, c, http.MethodPost, one("runs", run, "attachments"), a.query(), file)
}

// Attachments lists what was joined to a run.
func (c *Client) Attachments(ctx context.Context, run string) ([]api.Attachment, error) {
	return get[[]api.Attachment](ctx, c, one("runs", run, "attachments"), nil)
}

// Attachment writes the bytes of an attachment, as they were joined.
func (c *Client) Attachment(ctx context.Context, run string, number int, w io.Writer) error {
	return c.download(ctx, one("runs", run, "attachments", strconv.Itoa(number)), nil, w)
}

// SmallAttachment writes a picture made small, as a JPEG.
func (c *Client) SmallAttachment(ctx context.Context, run string, number int, w io.Writer) error {
	return c.download(ctx, one("runs", run, "attachments", strconv.Itoa(number)), url.Values{"size": {"small"}}, w)
}

// DropAttachment takes an attachment from a run, for a reason.
func (c *Client) DropAttachment(ctx context.Context, run string, number int, why string) error {
	_, err := call[any](ctx, c, http.MethodDelete, one("runs", run, "attachments", strconv.Itoa(number)),
		url.Values{"why": {why}}, nil)
	return err
}

// Connection writes a drawing, as SVG, of how the voltage input of a power meter is joined: voltmeter-at-supply or
// voltmeter-at-unit.
func (c *Client) Connection(ctx context.Context, wiring string, w io.Writer) error {
	return c.download(ctx, one("connections", wiring), nil, w)
}

// Wiring writes a drawing, as SVG, of how a harness is joined by a scan of a run, from 1; 0: the last.
func (c *Client) Wiring(ctx context.Context, run string, scan int, w io.Writer) error {
	query := url.Values{}
	if scan > 0 {
		query.Set("scan", strconv.Itoa(scan))
	}
	return c.download(ctx, one("runs", run, "wiring"), query, w)
}
