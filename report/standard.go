package report

import (
	"usherbench/api"
	"usherbench/core/figure"
	"usherbench/core/figure/mains"
)

// standard says for each requirement of IEC 62301, in its order, what was found; nothing for a run that measured no low
// power.
func (p page) standard(doc api.Run) {
	asked := mains.Standard(func(id string) (figure.Result, bool) {
		for _, f := range doc.Figures {
			if f.Request.ID == id {
				return f.Result, true
			}
		}
		return figure.Result{}, false
	})
	if len(asked) == 0 {
		return
	}
	p.titled("IEC 62301")
	if err := p.drawn(p.connected(doc), connectionWidth, connectionHeight); err != nil {
		p.remark(err.Error()) // it costs no report
	}
	p.row([]cell{p.heading("Requirement", 66, "L"), p.heading("found", 86, "L"), p.heading("met", 22, "L")}, 6)
	for _, q := range asked {
		word, color := "?", mutedColor
		switch {
		case q.Met == nil:
		case *q.Met:
			word, color = "met", outcomes["pass"][0]
		default:
			word, color = "not met", outcomes["fail"][0]
		}
		p.row([]cell{{p.look.say(q.Asked), 66, "L", inkColor, true}, {p.look.number(q.Found), 86, "L", inkColor, false},
			{p.look.say(word), 22, "L", color, true}}, 6)
	}
	p.gap(3)
}
