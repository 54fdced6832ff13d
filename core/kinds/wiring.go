package kinds

import (
	"encoding/json"
	"fmt"
	"math"

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

// WiringKind scans how a harness is wired.
var WiringKind = procedure.Kind{
	Word: "wiring", About: "how a harness is wired", Keys: procedure.Plain, Read: readWiring,
}

// Wiring has a crosspoint read ohms between the pins of a harness: between all of them, or between so many that nothing
// is missed by it ([wiring.First], [wiring.Scan.Next]).
type Wiring struct {
	Seat   string
	Pins   []string
	Nets   []wiring.Net
	Limits wiring.Limits
	// Smart reads a subset of the pairs.
	Smart bool
}

// pairTakes is about how long a pair takes, s; for foretelling alone.
const pairTakes = 3e-3

// Kind implements procedure.Action.
func (*Wiring) Kind() string { return "wiring" }

// Duration implements procedure.Lasting.
func (w *Wiring) Duration() float64 { return float64(len(w.first())) * pairTakes }

// Feeds implements procedure.Feeding.
func (*Wiring) Feeds() []figure.Need { return []figure.Need{figure.Wiring} }

// Words implements procedure.Worded.
func (w *Wiring) Words() string {
	words := fmt.Sprintf("%d pins, %d nets", len(w.Pins), len(w.Nets))
	if w.Smart {
		return words + fmt.Sprintf(", %d of %d pairs or more", len(w.first()), len(wiring.All(len(w.Pins))))
	}
	return words + ", every pair"
}

// first are the pairs that are read in any case.
func (w *Wiring) first() [][2]int {
	if w.Smart {
		return wiring.First(w.Pins, w.Nets)
	}
	return wiring.All(len(w.Pins))
}

// Run implements stage.Runnable.
func (w *Wiring) Run(*stage.Parts) stage.Runner { return &wiringRunner{spec: w} }

func readWiring(r *procedure.Reader, _ *procedure.Common, n document.Node) procedure.Action {
	w := &Wiring{Seat: "crosspoint", Smart: true, Limits: wiring.Limits{Closed: wiring.UsualClosed,
		Open: wiring.UsualOpen}}
	if plate := r.Plate(); plate != nil {
		w.Pins, w.Nets = plate.Pins, plate.Nets
	}
	limit := func(to *float64) func(document.Node) {
		return func(n document.Node) {
			if *to = r.Value(n, quantity.Resistance); *to <= 0 {
				n.Fail("a limit of what is joined is more than 0 Ω")
			}
		}
	}
	var nets document.Node
	n.Fields(map[string]func(document.Node){
		"seat": func(n document.Node) { w.Seat = n.Text() },
		"nets": func(n document.Node) {
			nets, w.Nets, w.Pins = n, nil, nil
			for _, item := range n.Items() {
				var net wiring.Net
				for _, pin := range item.Items() {
					net = append(net, pin.Text())
				}
				w.Nets = append(w.Nets, net)
			}
			w.Pins = wiring.PinsOf(w.Nets)
		},
		"pairs":  func(n document.Node) { w.Smart = n.Word("smart", "all") == "smart" },
		"closed": limit(&w.Limits.Closed),
		"open":   limit(&w.Limits.Open),
	})
	if !n.IsMap() {
		return w
	}
	switch seat, ok := r.Seat(w.Seat); {
	case !ok:
		n.Fail("unknown seat %q; %s", w.Seat, document.Suggest(w.Seat, r.SeatNames()))
	case !seat.Kind.Is(seats.Scans):
		n.Fail("%s cannot scan a harness; a crosspoint can", w.Seat)
	}
	if w.Limits.Closed >= w.Limits.Open {
		n.Fail("what is joined has fewer ohms than what is parted: closed lies below open")
	}
	if err := wiring.Check(w.Pins, w.Nets); err != nil {
		nets.Fail("%s", err)
	} else if len(w.Nets) == 0 {
		n.Fail("nobody says how the harness shall be wired: write nets here, or on its nameplate")
	}
	return w
}

// wiringRunner has the first pairs read, then those that the readings leave open, until none is.
type wiringRunner struct {
	stage.Idle
	spec *Wiring
	scan scanState
}

type scanState struct {
	Shot  int           `json:"shot"` // counts what was asked
	Asked [][2]int      `json:"asked,omitempty"`
	Pairs []wiring.Pair `json:"pairs,omitempty"`
	Range float64       `json:"range,omitempty"`
	// Anew says that the scan begins anew with the next frame.
	Anew bool `json:"anew,omitempty"`
}

func (r *wiringRunner) Enter(*stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.scan = scanState{Shot: r.scan.Shot}
	return r.ask(r.spec.first()), stage.GoesOn
}

func (r *wiringRunner) ask(pairs [][2]int) []stage.Effect {
	r.scan.Shot++
	r.scan.Asked = pairs
	return []stage.Effect{stage.Scan{Seat: r.spec.Seat, Pairs: pairs, Shot: r.scan.Shot}}
}

// Frame implements stage.Runner.
func (r *wiringRunner) Frame(m *stage.Machine, _ trace.Frame) ([]stage.Effect, stage.Verdict) {
	if !r.scan.Anew {
		return nil, stage.GoesOn
	}
	return r.Enter(m)
}

// Scanned implements stage.Scanning.
func (r *wiringRunner) Scanned(_ *stage.Machine, e stage.Scanned) ([]stage.Effect, stage.Verdict) {
	if e.Shot != r.scan.Shot || len(e.Ohms) != len(r.scan.Asked) {
		return nil, stage.GoesOn
	}
	for i, p := range r.scan.Asked {
		r.scan.Pairs = append(r.scan.Pairs, wiring.Pair{A: p[0], B: p[1], Ohms: e.Ohms[i]})
	}
	r.scan.Range = math.Max(r.scan.Range, e.Range)
	s := r.found()
	if more := s.Next(); r.spec.Smart && len(more) > 0 {
		return r.ask(more), stage.GoesOn
	}
	return []stage.Effect{stage.Mark{Mark: record.Scanned{Seat: r.spec.Seat, Scan: s}.Mark(e.T)}}, stage.Over
}

// found is what was read so far.
func (r *wiringRunner) found() wiring.Scan {
	return wiring.Scan{Pins: r.spec.Pins, Nets: r.spec.Nets, Limits: r.spec.Limits, Range: r.scan.Range,
		Pairs: r.scan.Pairs}
}

// Leave implements stage.Leaving.
func (r *wiringRunner) Leave() []stage.Effect { return []stage.Effect{stage.Disarm{}} }

// Progress implements stage.Runner.
func (r *wiringRunner) Progress(*stage.Machine) (share, left float64, detail string) {
	read, all := len(r.scan.Pairs), len(r.scan.Pairs)+len(r.scan.Asked)
	return float64(read) / math.Max(float64(all), 1), float64(len(r.scan.Asked)) * pairTakes,
		fmt.Sprintf("%d of %d pairs", read, all)
}

// Shift scans anew: the harness may have been moved in a pause.
func (r *wiringRunner) Shift(float64) {
	r.scan.Anew = true
	r.scan.Shot++
}

func (r *wiringRunner) Save() any              { return r.scan }
func (r *wiringRunner) Load(data []byte) error { return json.Unmarshal(data, &r.scan) }
