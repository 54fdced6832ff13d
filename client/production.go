package client

import (
	"context"
	"net/http"

	"usherbench/api"
)

// Unit tells what is known of a unit.
func (c *Client) Unit(ctx context.Context, serial string) (api.Unit, error) {
	return get[api.Unit](ctx, c, one("units", serial), nil)
}

// ChangeUnit changes what is kept of a unit.
func (c *Client) ChangeUnit(ctx context.Context, serial string, change api.UnitChange) (api.Unit, error) {
	return call[api.Unit](ctx, c, http.MethodPut, one("units", serial), nil, change)
}

// OrderLot keeps what is said of a lot.
func (c *Client) OrderLot(ctx context.Context, name string, order api.LotOrder) (api.LotOrder, error) {
	return call[api.LotOrder](ctx, c, http.MethodPut, one("lots", name), nil, order)
}

// Places tells how every operator's place is that is set up.
func (c *Client) Places(ctx context.Context) ([]api.Place, error) {
	return get[[]api.Place](ctx, c, one("places"), nil)
}

// Place tells how the operator's place of a bay is.
func (c *Client) Place(ctx context.Context, bay string) (api.Place, error) {
	return get[api.Place](ctx, c, one("bays", bay, "place"), nil)
}

// SetUpPlace says what is tested at a place from now on.
func (c *Client) SetUpPlace(ctx context.Context, bay string, setup api.PlaceSetup) (api.Place, error) {
	return call[api.Place](ctx, c, http.MethodPut, one("bays", bay, "place"), nil, setup)
}

// ClearPlace forgets what is tested at a place.
func (c *Client) ClearPlace(ctx context.Context, bay string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, one("bays", bay, "place"), nil, nil)
	return err
}

// Scan hands a place what was scanned or typed: a unit, or the part of it that is wanted.
func (c *Client) Scan(ctx context.Context, bay, serial string) (api.Place, error) {
	return call[api.Place](ctx, c, http.MethodPost, one("bays", bay, "place", "scan"), nil, api.PlaceScan{Serial: serial})
}

// TakeBack forgets a unit that was scanned by mistake, before its test begins.
func (c *Client) TakeBack(ctx context.Context, bay string) (api.Place, error) {
	return call[api.Place](ctx, c, http.MethodDelete, one("bays", bay, "place", "scan"), nil, nil)
}

// BeginPlace begins the test of the unit that was scanned.
func (c *Client) BeginPlace(ctx context.Context, bay string) (api.Place, error) {
	return call[api.Place](ctx, c, http.MethodPost, one("bays", bay, "place", "begin"), nil, nil)
}

// BeginTogether begins the tests at several places side by side, where each has a unit that is ready; else none.
func (c *Client) BeginTogether(ctx context.Context, bays ...string) ([]api.Place, error) {
	return call[[]api.Place](ctx, c, http.MethodPost, one("places", "begin"), nil, api.Together{Bays: bays})
}
