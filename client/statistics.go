package client

import (
	"context"
	"strconv"

	"usherbench/api"
)

// Statistics are those of every column of a run over a part of it.
func (c *Client) Statistics(ctx context.Context, run string, s Stretch) ([]api.Statistic, error) {
	return get[[]api.Statistic](ctx, c, one("runs", run, "statistics"), s.query())
}

// CaptureStatistics are those of every channel of a capture over a part of it.
func (c *Client) CaptureStatistics(ctx context.Context, run string, index int, s Stretch) ([]api.Statistic, error) {
	return get[[]api.Statistic](ctx, c, one("runs", run, "captures", strconv.Itoa(index), "statistics"), s.query())
}
