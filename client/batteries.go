package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"usherbench/api"
)

// Queue lists what waits in line; an empty bay lists all.
func (c *Client) Queue(ctx context.Context, bay string) ([]api.Waiting, error) {
	q := url.Values{}
	if bay != "" {
		q.Set("bay", bay)
	}
	return get[[]api.Waiting](ctx, c, one("queue"), q)
}

// Enqueue puts units in line.
func (c *Client) Enqueue(ctx context.Context, e api.Enqueue) ([]api.Waiting, error) {
	return call[[]api.Waiting](ctx, c, http.MethodPost, one("queue"), nil, e)
}

// Dequeue takes a run out of the line.
func (c *Client) Dequeue(ctx context.Context, id uint) error {
	_, err := call[any](ctx, c, http.MethodDelete, one("queue", strconv.FormatUint(uint64(id), 10)), nil, nil)
	return err
}

// Release lets a held run begin.
func (c *Client) Release(ctx context.Context, id uint) (api.Waiting, error) {
	return call[api.Waiting](ctx, c, http.MethodPost, one("queue", strconv.FormatUint(uint64(id), 10), "release"), nil,
		nil)
}

// Overlay lays the curves of runs over each other.
func (c *Client) Overlay(ctx context.Context, r api.OverlayRequest) (api.Overlay, error) {
	return call[api.Overlay](ctx, c, http.MethodPost, one("overlays"), nil, r)
}

// OverlayReport writes an overlay as PDF.
func (c *Client) OverlayReport(ctx context.Context, r api.OverlayRequest, w io.Writer) error {
	return c.fetch(ctx, one("overlays", "report"), r, w)
}

// Match groups the cells of a lot.
func (c *Client) Match(ctx context.Context, r api.MatchRequest) (api.Matching, error) {
	return call[api.Matching](ctx, c, http.MethodPost, one("matches"), nil, r)
}

// MatchLabels writes the labels of matched cells as PDF.
func (c *Client) MatchLabels(ctx context.Context, r api.MatchRequest, w io.Writer) error {
	return c.fetch(ctx, one("matches", "labels"), r, w)
}

// Import brings a foreign log in as a run.
func (c *Client) Import(ctx context.Context, l api.ImportLog) (api.RunSummary, error) {
	return call[api.RunSummary](ctx, c, http.MethodPost, one("imports"), nil, l)
}

// LookAtLog takes a first look at a foreign log.
func (c *Client) LookAtLog(ctx context.Context, l api.ImportLog) (api.LogLook, error) {
	return call[api.LogLook](ctx, c, http.MethodPost, one("imports", "look"), nil, l)
}

// Sources lists the sources of logs whose mapping is remembered.
func (c *Client) Sources(ctx context.Context) ([]string, error) {
	return get[[]string](ctx, c, one("imports", "sources"), nil)
}

// ExportLayout writes the data of a run in a format (csv, json, parquet, xlsx) and a layout (recorded, battery).
func (c *Client) ExportLayout(ctx context.Context, ref, format, layout string, r Range, w io.Writer) error {
	query := r.query()
	query.Set("format", format)
	if layout != "" {
		query.Set("layout", layout)
	}
	return c.download(ctx, one("runs", ref, "export"), query, w)
}

// fetch sends a request and writes what comes back.
func (c *Client) fetch(ctx context.Context, path string, body any, w io.Writer) error {
	response, err := c.send(ctx, http.MethodPost, path, nil, body, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}
