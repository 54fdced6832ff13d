package instrument

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/instrument/messages"
)

// isOver and isNoNumber are what SCPI-1999 answers for a reading beyond the range, and for none.
const (
	isOver     = 9.9e37
	isNoNumber = 9.91e37
)

// Scan reads ohms between pairs of terminals, which count from 0. What is beyond the range is +Inf; most is the range.
func (c *Channel) Scan(ctx context.Context, pairs [][2]int) (ohms []float64, most float64, err error) {
	s := c.Dialect.Scan
	if s == nil {
		return nil, 0, c.wrap("scan", fmt.Errorf("dialect %s scans nothing", c.Dialect.Name))
	}
	if _, err := c.Identify(ctx); err != nil { // nobody has spoken to it since the last scan
		return nil, 0, err
	}
	if spec := c.Dialect.ReadRange("ohms"); len(spec) > 0 {
		most = spec[len(spec)-1].To
	}
	for some := range slices.Chunk(pairs, s.Most) {
		if err := c.set(ctx, "choose the pairs", s.Fill(some), 0); err != nil {
			return nil, 0, err
		}
		answer, err := c.tongue.ask(ctx, c.Dialect, s.Ask, c.Number)
		if err != nil {
			return nil, 0, c.wrap("scan", err)
		}
		read, err := ohmsIn(answer, len(some))
		if err != nil {
			return nil, 0, c.wrap("scan", err)
		}
		ohms = append(ohms, read...)
	}
	return ohms, most, nil
}

// ohmsIn are the readings of an answer.
func ohmsIn(answer string, pairs int) (ohms []float64, err error) {
	parts := strings.Split(answer, ",")
	if len(parts) != pairs {
		return nil, fmt.Errorf("the answer %s has %d readings, and %d pairs were chosen", messages.Excerpt(answer),
			len(parts), pairs)
	}
	for _, part := range parts {
		x, err := strconv.ParseFloat(strings.TrimSpace(part), 64)
		switch {
		case err != nil, math.IsNaN(x), x == isNoNumber:
			return nil, fmt.Errorf("%s is no resistance", messages.Excerpt(part))
		case x >= isOver:
			x = math.Inf(1)
		}
		ohms = append(ohms, x)
	}
	return ohms, nil
}
