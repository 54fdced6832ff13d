package engine

import (
	"context"
	"slices"

	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/engine/outputs"
)

// works says for people how a seat works that was told a word.
var works = map[string]map[string]string{
	seats.Sensed: {"remote": "senses at its sense terminals", "local": "senses at its output"},
	seats.Measured: {"ac": "measures the alternating part", "dc": "measures the direct part",
		"both": "measures the alternating and the direct part together"},
	seats.Guarded: {seats.On: "drives its guards", seats.Off: "leaves its guards alone"},
}

// choice checks that a seat works as the procedure asks, or can be told to.
func (p *preflight) choice(ctx context.Context, x *outputs.Seat, choice seats.Choice) {
	i := slices.IndexFunc(p.program.Seats, func(s procedure.Seat) bool { return s.Name == x.Name })
	if i < 0 {
		return
	}
	d, want := x.First().Dialect, p.program.Seats[i].Choices[choice.Name]
	_, can := d.Words[choice.Name][want]
	built := d.Built[choice.Name]
	switch {
	case want == "" && built != "":
		p.fine(choice.Name, "%s %s", x.Name, works[choice.Name][built])
	case want == "":
		if now, ok, err := x.First().Word(ctx, choice.Name); ok && err == nil {
			p.fine(choice.Name, "%s %s", x.Name, works[choice.Name][now])
		}
	case can:
		p.fine(choice.Name, "%s %s when the run begins", x.Name, works[choice.Name][want])
	case built == want || choice.Name == seats.Sensed && want == "local" && built == "": // leads that nobody can choose
	case choice.Name == seats.Sensed:
		p.blocks(choice.Name, "use an instrument with sense leads, or sense: local",
			"the procedure asks for remote sense, which %s does not have", x.Channels())
	default:
		p.blocks(choice.Name, "use another instrument, or say in its dialect what it "+choice.Name,
			"the procedure asks that %s %s, but nobody can tell %s so", x.Name, works[choice.Name][want], x.Channels())
	}
}

// sensed says where a seat will read its volts: what its bay has as default, what the procedure asks for, or as it is.
func (p *preflight) sensed(ctx context.Context, x *outputs.Seat) string {
	if word := x.Config.Defaults[seats.Sensed]; word != "" {
		return word
	}
	i := slices.IndexFunc(p.program.Seats, func(s procedure.Seat) bool { return s.Name == x.Name })
	if i >= 0 && p.program.Seats[i].Choices[seats.Sensed] != "" {
		return p.program.Seats[i].Choices[seats.Sensed]
	}
	if built := x.First().Dialect.Built[seats.Sensed]; built != "" {
		return built
	}
	word, _, _ := x.First().Word(ctx, seats.Sensed) // who does not say it reads at its own terminals
	return word
}

// leads says for what the readings of a seat will be corrected.
func (p *preflight) leads(ctx context.Context, x *outputs.Seat) {
	l := x.Config.Leads
	switch {
	case l == nil:
	case p.sensed(ctx, x) == "remote":
		p.fine("leads", "%s senses at the unit, so that its volts are not corrected for its leads", x.Name)
	default:
		p.fine("leads", "volts of %s are corrected for leads of %s ± %s", x.Name, show(l.Ohms, quantity.Resistance),
			show(l.Within, quantity.Resistance))
	}
}

func (p *preflight) interlock(ctx context.Context, x *outputs.Seat) {
	for _, m := range x.Members {
		if !m.Dialect.Interlock.Exists() {
			continue
		}
		open, err := m.YesNo(ctx, m.Dialect.Interlock)
		switch {
		case err != nil:
			p.blocks("interlock", "check the interlock and its wiring", "%s: the interlock cannot be read: %s", m.Name, err)
		case open:
			p.blocks("interlock", "close the cover or the interlock circuit", "the interlock of %s is open", m.Name)
		default:
			p.fine("interlock", "the interlock of %s is closed", m.Name)
		}
	}
}
