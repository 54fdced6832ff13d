package client

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"usherbench/api"
)

// Excerpts lists the parts of a run that somebody has named.
func (c *Client) Excerpts(ctx context.Context, run string) ([]api.Excerpt, error) {
	return get[[]api.Excerpt](ctx, c, one("runs", run, "excerpts"), nil)
}

// PutExcerpt names a part of a run, in place of an excerpt of the same name.
func (c *Client) PutExcerpt(ctx context.Context, run, name string, e api.ExcerptRequest) (api.Excerpt, error) {
	return call[api.Excerpt](ctx, c, http.MethodPut, one("runs", run, "excerpts", name), nil, e)
}

// DropExcerpt forgets an excerpt; the frames stay.
func (c *Client) DropExcerpt(ctx context.Context, run, name string) error {
	_, err := call[any](ctx, c, http.MethodDelete, one("runs", run, "excerpts", name), nil, nil)
	return err
}

// Excursions lists where the columns of a part of a run go furthest from where they usually are; columns nil: all.
func (c *Client) Excursions(ctx context.Context, run string, columns []string, s Stretch, most int) ([]api.Excursion,
	error) {
	query := s.query()
	query.Set("most", strconv.Itoa(most))
	if len(columns) > 0 {
		query.Set("columns", strings.Join(columns, ","))
	}
	return get[[]api.Excursion](ctx, c, one("runs", run, "excursions"), query)
}
