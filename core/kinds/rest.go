package kinds

import (
	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/core/stage"
)

// RestKind is a hold with every output off.
var RestKind = procedure.Kind{
	Word: "rest", About: "outputs off, still recording", Keys: procedure.Waits, Read: readRest,
}

// Rest is a hold with every output off.
type Rest struct {
	Hold
	Settings []procedure.Setting // that switch the outputs off
}

// Kind implements procedure.Action.
func (*Rest) Kind() string { return "rest" }

// Feeds implements procedure.Feeding.
func (*Rest) Feeds() []figure.Need { return []figure.Need{figure.Rest} }

// Words implements procedure.Worded.
func (r *Rest) Words() string { return "outputs off, " + r.Hold.Words() }

// Run implements stage.Runnable.
func (r *Rest) Run(p *stage.Parts) stage.Runner { return r.runner(p, r.Settings) }

// readRest reads a hold before which every output is switched off.
func readRest(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	rest := &Rest{Hold: holding(r, c, n, nil)}
	for _, s := range r.Program().Seats {
		if s.Kind.HasOutput() {
			rest.Settings = append(rest.Settings, procedure.Setting{Seat: s.Name, Quantity: seats.Output, Word: seats.Off})
		}
	}
	procedure.InSafeOrder(rest.Settings)
	return rest
}
