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
		if err := c.set(ctx, "choose the pairs", s.Fill(c.Number, some), 0); err != nil {
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

// Opening is a time in which a pair of terminals was open: which of the pairs that are watched, when it began, s since
// the watch began, and for how long.
type Opening struct {
	Pair          int
	Began, Lasted float64
}

// BeginWatch has pairs of terminals watched for openings of at least so many seconds.
func (c *Channel) BeginWatch(ctx context.Context, pairs [][2]int, least float64) error {
	s := c.Dialect.Scan
	if s == nil || s.Watch == nil {
		return c.wrap("watch", fmt.Errorf("dialect %s watches nothing", c.Dialect.Name))
	}
	if _, err := c.Identify(ctx); err != nil {
		return err
	}
	return c.set(ctx, "begin to watch", s.FillWatch(c.Number, pairs), least)
}

// EndWatch has nothing watched any longer; what was seen can still be asked for.
func (c *Channel) EndWatch(ctx context.Context) error {
	return c.set(ctx, "end the watch", c.Dialect.Scan.Watch.End, 0)
}

// Openings are those that were seen since they were asked for last.
func (c *Channel) Openings(ctx context.Context) ([]Opening, error) {
	answer, err := c.tongue.ask(ctx, c.Dialect, c.Dialect.Scan.Watch.Ask, c.Number)
	if err != nil {
		return nil, c.wrap("ask for openings", err)
	}
	all, err := openingsIn(answer)
	if err != nil {
		return nil, c.wrap("ask for openings", err)
	}
	return all, nil
}

// openingsIn reads how many there are, and three numbers for each.
func openingsIn(answer string) (all []Opening, err error) {
	numbers, err := numbersIn(answer)
	if err != nil {
		return nil, err
	}
	if len(numbers)%3 != 1 || numbers[0] != float64(len(numbers)/3) {
		return nil, fmt.Errorf("the answer %s is no number of openings with three numbers for each", messages.Excerpt(answer))
	}
	for x := range slices.Chunk(numbers[1:], 3) {
		if x[0] < 1 || x[0] != math.Trunc(x[0]) || x[1] < 0 || x[2] < 0 {
			return nil, fmt.Errorf("the answer %s has an opening that cannot be", messages.Excerpt(answer))
		}
		all = append(all, Opening{int(x[0]) - 1, x[1], x[2]})
	}
	return all, nil
}

func numbersIn(answer string) (numbers []float64, err error) {
	for part := range strings.SplitSeq(answer, ",") {
		x, err := strconv.ParseFloat(strings.TrimSpace(part), 64)
		if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
			return nil, fmt.Errorf("%s is no number", messages.Excerpt(part))
		}
		numbers = append(numbers, x)
	}
	return numbers, nil
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
