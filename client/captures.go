package client

import (
	"context"
	"io"
	"math"
	"net/url"
	"strconv"

	"usherbench/api"
)

// Stretch is a part of a capture, s from the trigger; an end that is NaN is that of the capture.
type Stretch struct{ From, To float64 }

// Open is the whole of a capture.
func Open() Stretch { return Stretch{math.NaN(), math.NaN()} }

func (s Stretch) query() url.Values {
	query := url.Values{}
	for name, x := range map[string]float64{"from": s.From, "to": s.To} {
		if !math.IsNaN(x) {
			query.Set(name, strconv.FormatFloat(x, 'g', -1, 64))
		}
	}
	return query
}

// Captures lists the captures of a run.
func (c *Client) Captures(ctx context.Context, run string) ([]api.Capture, error) {
	return get[[]api.Capture](ctx, c, one("runs", run, "captures"), nil)
}

// Capture reads a part of a capture, at most so many entries of each channel.
func (c *Client) Capture(ctx context.Context, run string, index int, s Stretch, points int) (api.CaptureWindow, error) {
	query := s.query()
	query.Set("points", strconv.Itoa(points))
	return get[api.CaptureWindow](ctx, c, one("runs", run, "captures", strconv.Itoa(index)), query)
}

// ExportCapture writes the samples of a capture as CSV.
func (c *Client) ExportCapture(ctx context.Context, run string, index int, s Stretch, w io.Writer) error {
	return c.download(ctx, one("runs", run, "captures", strconv.Itoa(index), "export"), s.query(), w)
}

// CaptureMakeup gives the spectrum and the histogram of every channel of a capture over a part of it.
func (c *Client) CaptureMakeup(ctx context.Context, run string, index int, s Stretch) ([]api.Makeup, error) {
	return get[[]api.Makeup](ctx, c, one("runs", run, "captures", strconv.Itoa(index), "makeup"), s.query())
}
