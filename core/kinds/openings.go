package kinds

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/core/wiring"
)

// Openings has a crosspoint watch the contacts of a harness while somebody bends it: each time that one opens is
// marked.
type Openings struct {
	Watch
	Seat  string
	Pins  []string
	Nets  []wiring.Net
	Least float64 // the shortest opening that counts, s
}

// mostOpenings bounds the openings of a watch that have marks of their own.
const mostOpenings = 1000

// Feeds implements procedure.Feeding.
func (*Openings) Feeds() []figure.Need { return []figure.Need{figure.Openings} }

// Words implements procedure.Worded.
func (o *Openings) Words() string {
	words := fmt.Sprintf("%d contacts, openings of %s or longer", len(o.Contacts()),
		quantity.Quantity{Value: o.Least, Dim: quantity.Time}.Format(3))
	if o.For > 0 {
		words += ", for " + procedure.SpanWords(o.For)
	}
	return words
}

// Contacts are those that are watched: every pin of a net with its anchor, by terminals.
func (o *Openings) Contacts() (pairs [][2]int) {
	at := map[string]int{}
	for i, pin := range o.Pins {
		at[pin] = i
	}
	for _, net := range o.Nets {
		for _, pin := range net[1:] {
			pairs = append(pairs, [2]int{at[net.Anchor()], at[pin]})
		}
	}
	return pairs
}

// FramesEvery implements procedure.Sampled.
func (o *Openings) FramesEvery() float64 {
	if o.For == 0 {
		return math.Inf(1)
	}
	return o.For / 100
}

// Run implements stage.Runnable.
func (o *Openings) Run(p *stage.Parts) stage.Runner {
	return &openingsRunner{spec: o, until: p.Condition(p.Stage.Until), within: p.Stage.Within}
}

// readOpenings reads {opens: 1 ms} of a watch, with the seat of the crosspoint.
func readOpenings(r *procedure.Reader, w Watch, at, opens document.Node, seat string) procedure.Action {
	o := &Openings{Watch: w, Seat: seat}
	if o.Least = r.Value(opens, quantity.Time); o.Least <= 0 {
		opens.Fail("the shortest opening that counts lasts more than no time")
	}
	if plate := r.Plate(); plate != nil {
		o.Pins, o.Nets = plate.Pins, plate.Nets
	}
	switch s, ok := r.Seat(seat); {
	case !ok:
		at.Fail("unknown seat %q; %s", seat, document.Suggest(seat, r.SeatNames()))
	case !s.Kind.Is(seats.Scans):
		at.Fail("%s cannot watch a harness; a crosspoint can", seat)
	case len(o.Nets) == 0:
		at.Fail("nobody says which contacts there are: write the nets on the nameplate of the harness")
	}
	return o
}

// openingsRunner has the contacts watched, marks what is seen, and has the rest told at its end.
type openingsRunner struct {
	stage.Idle
	spec   *Openings
	until  *condition.Condition
	within float64
	watch  openingsState
}

type openingsState struct {
	Shot  int     `json:"shot"` // counts the watches
	Since float64 `json:"since"`
	Count int     `json:"count"`
	// Began is true once the crosspoint watches: it may have been with another bay.
	Began bool `json:"began,omitempty"`
	// Ending is true once the rest was asked for.
	Ending bool `json:"ending,omitempty"`
	// Anew says that the watch begins anew with the next frame.
	Anew  bool    `json:"anew,omitempty"`
	Extra float64 `json:"extra,omitempty"`
}

func (r *openingsRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.watch = openingsState{Shot: r.watch.Shot + 1, Since: m.Now(), Extra: r.watch.Extra}
	if r.until != nil {
		r.until.Reset()
	}
	return []stage.Effect{stage.WatchOpenings{Seat: r.spec.Seat, Pairs: r.spec.Contacts(), Least: r.spec.Least,
		Shot: r.watch.Shot}}, stage.GoesOn
}

// Frame ends the watch when its time is over or its condition holds; it is over when the rest was told.
func (r *openingsRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	switch {
	case r.watch.Anew:
		return r.Enter(m)
	case r.watch.Ending, !r.watch.Began:
		return nil, stage.GoesOn
	case r.spec.For > 0 && f.T-r.watch.Since >= r.spec.For+r.watch.Extra:
		return r.end(), stage.GoesOn
	}
	effects, verdict := m.Await(f, r.until, r.watch.Since, r.within)
	if verdict != stage.Over {
		return effects, verdict
	}
	return append(effects, r.end()...), stage.GoesOn
}

func (r *openingsRunner) end() []stage.Effect {
	r.watch.Ending = true
	return []stage.Effect{stage.EndWatch{Shot: r.watch.Shot}}
}

// Opened implements stage.Heeding.
func (r *openingsRunner) Opened(_ *stage.Machine, e stage.Opened) (effects []stage.Effect, v stage.Verdict) {
	if e.Shot != r.watch.Shot {
		return nil, stage.GoesOn
	}
	if !r.watch.Began {
		r.watch.Began, r.watch.Since = true, e.Since
	}
	pairs := r.spec.Contacts()
	for _, o := range e.All {
		if o.Pair < 0 || o.Pair >= len(pairs) || o.Lasted < r.spec.Least {
			continue
		}
		if r.watch.Count++; r.watch.Count <= mostOpenings {
			p := pairs[o.Pair]
			effects = append(effects, stage.Mark{Mark: record.Opening{From: r.spec.Pins[p[0]], To: r.spec.Pins[p[1]],
				At: e.Since + o.Began, Lasted: o.Lasted}.Mark()})
		}
	}
	if !e.Done {
		return effects, stage.GoesOn
	}
	return append(effects, stage.Mark{Mark: record.Watched{Seconds: e.T - e.Since, Least: r.spec.Least,
		Count: r.watch.Count}.Mark(e.T)}), stage.Over
}

// Leave implements stage.Leaving.
func (r *openingsRunner) Leave() []stage.Effect { return []stage.Effect{stage.Disarm{}} }

// Extend implements stage.Extending.
func (r *openingsRunner) Extend(seconds float64) { r.watch.Extra += seconds }

// Progress implements stage.Runner.
func (r *openingsRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	if !r.watch.Began {
		return 0, r.spec.For, "waits for the crosspoint"
	}
	past := m.Now() - r.watch.Since
	detail = fmt.Sprintf("%d openings", r.watch.Count)
	if longest := r.spec.For + r.watch.Extra; r.spec.For > 0 {
		return math.Min(past/longest, 1), math.Max(longest-past, 0), detail
	}
	return 0, 0, detail
}

// Shift watches anew: what was seen before a pause is marked, and counts no longer.
func (r *openingsRunner) Shift(float64) {
	r.watch.Anew = true
	r.watch.Shot++
}

func (r *openingsRunner) Save() any              { return r.watch }
func (r *openingsRunner) Load(data []byte) error { return json.Unmarshal(data, &r.watch) }
