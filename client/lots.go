package client

import (
	"context"
	"net/url"
	"strconv"

	"usherbench/api"
)

// Lots lists the lots, the one with the newest run first.
func (c *Client) Lots(ctx context.Context) ([]api.LotSummary, error) {
	return get[[]api.LotSummary](ctx, c, one("lots"), nil)
}

// Lot tells what the runs of a lot say of it.
func (c *Client) Lot(ctx context.Context, name string, r api.LotRequest) (api.Lot, error) {
	query := url.Values{}
	if r.Procedure != "" {
		query.Set("procedure", r.Procedure)
	}
	for name, is := range map[string]bool{"strict": r.Strict, "each": r.Each} {
		if is {
			query.Set(name, strconv.FormatBool(is))
		}
	}
	return get[api.Lot](ctx, c, one("lots", name), query)
}
