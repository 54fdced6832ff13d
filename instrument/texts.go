package instrument

import (
	"context"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/scpi"
)

// texts speaks in text messages.
type texts struct{ client *scpi.Client }

func (t *texts) set(ctx context.Context, d *dialect.Dialect, s dialect.Setter, channel int, value float64) error {
	for _, m := range d.Fill(s, channel, value) {
		if err := t.client.Command(ctx, scpi.Request{Select: d.FillChannel(d.Select, channel), Message: m,
			Within: s.Within}); err != nil {
			return err
		}
	}
	return nil
}

func (t *texts) query(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	return t.client.Query(ctx, t.request(d, q, channel))
}

func (t *texts) request(d *dialect.Dialect, q dialect.Query, channel int) scpi.Request {
	return scpi.Request{Select: d.FillChannel(d.Select, channel), Message: d.FillChannel(q.Message, channel),
		Within: q.Within, Block: q.Block != nil}
}

// codes answers a query with the integers of a block.
func (t *texts) codes(ctx context.Context, d *dialect.Dialect, q dialect.Samples, channel, _ int) ([]int16, error) {
	codes := scpi.Codes{Format: *q.Block}
	r := t.request(d, q.Query, channel)
	r.Data = codes.Begin
	if _, err := t.client.Query(ctx, r); err != nil {
		return nil, err
	}
	return codes.All()
}

func (t *texts) ask(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	answer, err := t.query(ctx, d, q, channel)
	return strings.TrimSpace(answer), err
}

// confirm asks twice: the answer to a question before, such as another channel's, must not be taken for this one's.
func (t *texts) confirm(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	r := t.request(d, q, channel)
	r.Twice = true
	answer, err := t.client.Query(ctx, r)
	return strings.TrimSpace(answer), err
}

func (t *texts) read(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int, values []float64) error {
	answer, err := t.query(ctx, d, q, channel)
	if err != nil {
		return err
	}
	if q.Block != nil {
		numbers, err := q.Block.Numbers(answer)
		if err != nil {
			return err
		}
		return place(q, numbers, values)
	}
	if q.Pattern != nil {
		parts := q.Pattern.FindStringSubmatch(answer)
		if parts == nil {
			return fmt.Errorf("the answer %s does not look like %s", messages.Excerpt(answer), q.Pattern)
		}
		return decode(q, parts[1:], values)
	}
	// The usual form is taken apart without making a list.
	separator := q.Separator
	if separator == "" {
		separator = ","
		if strings.Contains(answer, ";") {
			separator = ";"
		}
	}
	k := 0
	for i, g := range q.Gives {
		part, rest, more := strings.Cut(answer, separator)
		if g.Quantity != "" {
			if values[k], err = number(g, part); err != nil {
				return fmt.Errorf("answer %d of %d to %q: %w", i+1, len(q.Gives), q.Message, err)
			}
			k++
		}
		if !more && i < len(q.Gives)-1 {
			return fmt.Errorf("the answer %s to %q has %d parts, but %d were expected", messages.Excerpt(answer), q.Message,
				i+1, len(q.Gives))
		}
		answer = rest
	}
	return nil
}

// place copies numbers, without those that are skipped.
func place(q dialect.Query, numbers, values []float64) error {
	if len(numbers) < len(q.Gives) {
		return fmt.Errorf("the answer to %q has %d numbers, but %d were expected", q.Message, len(numbers), len(q.Gives))
	}
	k := 0
	for i, g := range q.Gives {
		if g.Quantity != "" {
			values[k] = inSI(g, numbers[i])
			if x, is := g.Codes.OfText(strconv.FormatFloat(numbers[i], 'g', -1, 64)); is {
				values[k] = x
			}
			k++
		}
	}
	return nil
}

func decode(q dialect.Query, parts []string, values []float64) (err error) {
	k := 0
	for i, g := range q.Gives {
		if g.Quantity == "" {
			continue
		}
		if values[k], err = number(g, parts[i]); err != nil {
			return fmt.Errorf("part %d of the answer to %q: %w", i+1, q.Message, err)
		}
		k++
	}
	return nil
}

func number(g dialect.Reading, text string) (float64, error) {
	text = strings.TrimSpace(text)
	if x, is := g.Codes.OfText(text); is {
		return x, nil
	}
	if g.Words != nil {
		x, ok := g.Words[text]
		if !ok {
			return 0, fmt.Errorf("%s is not among the answers that the dialect names for %s", messages.Excerpt(text), g.Quantity)
		}
		return x, nil
	}
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		if x, err = parseNumber(text); err != nil {
			return 0, fmt.Errorf("%s is not a number, which was expected for %s", messages.Excerpt(text), g.Quantity)
		}
	}
	return inSI(g, x), nil
}

// numberPattern allows a unit behind a number, which is not read: the dialect says in which unit the instrument
// answers.
var numberPattern = regexp.MustCompile(`^([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*[A-Za-zΩ°%µ]*$`)

func parseNumber(text string) (float64, error) {
	m := numberPattern.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return 0, fmt.Errorf("%s is not a number", messages.Excerpt(text))
	}
	return strconv.ParseFloat(m[1], 64)
}

func inSI(g dialect.Reading, x float64) float64 {
	if g.Bit >= 0 {
		return float64(uint64(math.Abs(x)) >> g.Bit & 1)
	}
	return x * g.Factor
}

func (t *texts) errors(ctx context.Context) ([]string, error) { return t.client.Errors(ctx) }

func (t *texts) trace() *messages.Trace { return &t.client.Trace }

func (t *texts) giveUp() { t.client.GiveUp() }

func (t *texts) close() error { return t.client.Close() }
