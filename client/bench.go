package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"usherbench/api"
)

// BenchConfig reads how the bench is configured.
func (c *Client) BenchConfig(ctx context.Context) (api.BenchConfig, error) {
	return get[api.BenchConfig](ctx, c, one("bench"), nil)
}

// PutInstrument adds an instrument or changes one.
func (c *Client) PutInstrument(ctx context.Context, name string, i api.InstrumentConfig) (api.BenchConfig, error) {
	return call[api.BenchConfig](ctx, c, http.MethodPut, one("instruments", name), nil, i)
}

// RemoveInstrument takes an instrument away.
func (c *Client) RemoveInstrument(ctx context.Context, name string) (api.BenchConfig, error) {
	return call[api.BenchConfig](ctx, c, http.MethodDelete, one("instruments", name), nil, nil)
}

// PutBay adds a bay or changes one.
func (c *Client) PutBay(ctx context.Context, name string, b api.BayConfig) (api.BenchConfig, error) {
	return call[api.BenchConfig](ctx, c, http.MethodPut, one("bays", name), nil, b)
}

// RemoveBay takes a bay away.
func (c *Client) RemoveBay(ctx context.Context, name string) (api.BenchConfig, error) {
	return call[api.BenchConfig](ctx, c, http.MethodDelete, one("bays", name), nil, nil)
}

// Discover asks who answers at the named places.
func (c *Client) Discover(ctx context.Context, where api.Discovery) ([]api.Found, error) {
	return call[[]api.Found](ctx, c, http.MethodPost, one("discover"), nil, where)
}

// Exchanges lists the last messages to an instrument, oldest first.
func (c *Client) Exchanges(ctx context.Context, instrument string, limit int) ([]api.Exchange, error) {
	return get[[]api.Exchange](ctx, c, one("instruments", instrument, "messages"),
		url.Values{"limit": {strconv.Itoa(limit)}})
}

// ExchangesCSV writes the last messages to an instrument as CSV.
func (c *Client) ExchangesCSV(ctx context.Context, instrument string, limit int, w io.Writer) error {
	return c.download(ctx, one("instruments", instrument, "messages"), url.Values{"limit": {strconv.Itoa(limit)},
		"format": {"csv"}}, w)
}

// TakeOver reads what is set now in a bay, as text for a procedure.
func (c *Client) TakeOver(ctx context.Context, bay string) (api.TakenOver, error) {
	return call[api.TakenOver](ctx, c, http.MethodPost, one("bays", bay, "take-over"), nil, nil)
}

// ChangeSensor zeroes, calibrates or replaces a sensor.
func (c *Client) ChangeSensor(ctx context.Context, bay, seat, quantity string,
	change api.SensorChange) (api.BenchConfig, error) {
	return call[api.BenchConfig](ctx, c, http.MethodPut, one("bays", bay, "sensors", seat, quantity), nil, change)
}

// DrillHouse has the service give no sign of life on purpose, to see the warden make every energised bay safe.
func (c *Client) DrillHouse(ctx context.Context) (api.Drills, error) {
	return call[api.Drills](ctx, c, http.MethodPost, one("drill"), nil, nil)
}

// LastDrill tells when the warden last passed a drill.
func (c *Client) LastDrill(ctx context.Context) (api.Drills, error) {
	return get[api.Drills](ctx, c, one("drill"), nil)
}

// Drill stalls the conductor of a bay on purpose, to see the warden make it safe.
func (c *Client) Drill(ctx context.Context, bay string) (api.Drill, error) {
	return call[api.Drill](ctx, c, http.MethodPost, one("bays", bay, "drill"), nil, nil)
}

// Preflight checks whether a run could start.
func (c *Client) Preflight(ctx context.Context, start api.StartRun) (api.Preflight, error) {
	return call[api.Preflight](ctx, c, http.MethodPost, one("preflight"), nil, start)
}

// Dialects lists the dialects that the service knows.
func (c *Client) Dialects(ctx context.Context) ([]api.Dialect, error) {
	return get[[]api.Dialect](ctx, c, one("dialects"), nil)
}

// Dialect reads a dialect with its text.
func (c *Client) Dialect(ctx context.Context, name string) (api.Dialect, error) {
	return get[api.Dialect](ctx, c, one("dialects", name), nil)
}

// PushDialect stores a dialect and puts it into force.
func (c *Client) PushDialect(ctx context.Context, text string) (api.Dialect, error) {
	return call[api.Dialect](ctx, c, http.MethodPost, one("dialects"), nil, api.PushText{Text: text})
}
