package trial

import (
	"fmt"
	"math"
	"strings"

	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
)

func (t *trial) reading(as string, q dialect.Query) {
	var names []string
	for _, g := range q.Gives {
		if g.Quantity != "" {
			names = append(names, g.Quantity)
		}
	}
	t.step(as+"read "+strings.Join(names, ", "), q.Place, func() (string, string, error) {
		values := make([]float64, len(names))
		if err := t.channel.ReadQuery(t.ctx, q, values); err != nil {
			return "", t.readRemedy(q, names, err), err
		}
		var shown []string
		for i, name := range names {
			shown = append(shown, name+" = "+dialect.Show(name, values[i]))
			spec := t.channel.Dialect.ReadRange(name)
			if len(spec) > 0 && math.Abs(values[i]) > 1.2*spec[len(spec)-1].To {
				return "", "compare the order of gives with the answer, and its unit with units",
					fmt.Errorf("%s is beyond the range of %s", shown[i], dialect.Show(name, spec[len(spec)-1].To))
			}
		}
		return strings.Join(shown, ", "), "", nil
	})
}

// readRemedy looks for what answers instead.
func (t *trial) readRemedy(q dialect.Query, names []string, err error) string {
	if t.channel.Dialect.Protocol == dialect.Registers {
		return ""
	}
	answer, askErr := t.channel.Ask(t.ctx, q)
	if askErr == nil && answer != "" {
		return fmt.Sprintf("the answer is %s: let gives, separator, pattern or block describe it", messages.Excerpt(answer))
	}
	var better []string
	for _, name := range names {
		if found := t.alternative(q.Message, name); found != "" {
			better = append(better, found)
		}
	}
	return strings.Join(better, "; ")
}
