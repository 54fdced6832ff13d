package kinds

import (
	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/stage"
)

// WatchKind records what others do.
var WatchKind = procedure.Kind{
	Word: "watch", About: "records what others do", Keys: procedure.Waits, Read: readWatch,
}

// Watch records what others do; the bay's outputs are left alone.
type Watch struct{ For float64 }

// Kind implements procedure.Action.
func (*Watch) Kind() string { return "watch" }

// Duration implements procedure.Lasting.
func (w *Watch) Duration() float64 { return w.For }

// Ends implements procedure.Ending.
func (w *Watch) Ends() procedure.Ends { return procedure.Ends{Open: true} }

// Feeds implements procedure.Feeding: somebody else's charger, or load, does it.
func (*Watch) Feeds() []figure.Need { return []figure.Need{figure.Charge, figure.Discharge} }

// Words implements procedure.Worded.
func (w *Watch) Words() string {
	if w.For == 0 {
		return "recorded only"
	}
	return "recorded only, for " + procedure.SpanWords(w.For)
}

// Run implements stage.Runnable.
func (w *Watch) Run(p *stage.Parts) stage.Runner { return (&Hold{For: w.For}).runner(p, nil) }

// readWatch reads a stage that only records; without for and until it goes on until somebody ends it.
func readWatch(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	seat, opens := "crosspoint", document.Node{}
	h := holding(r, c, n, map[string]func(document.Node){
		"opens": func(n document.Node) { opens = n },
		"seat":  func(n document.Node) { seat = n.Text() },
	})
	if h.Stable != nil {
		n.Fail("watch ends by for, until or by hand; use hold to wait until something is stable")
	}
	w := Watch{For: h.For}
	if opens.Present() {
		return readOpenings(r, w, n, opens, seat)
	}
	return &w
}
