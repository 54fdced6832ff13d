// Package nameplate reads the ratings and safe windows of a type of unit.
//
//	nameplate: tern
//	title: Harbour lantern DC-DC module
//	maker: Skerry Light Works
//	kind: converter
//	ratings:
//	  nominal_line: 48 V
//	  rated_volts: 15 V
//	  rated_current: 8 A
//	windows:
//	  source.volts: {min: 0 V, max: 62 V}
//	at rest:
//	  load.volts: {min: −0.1 V, max: 16 V}
//
// A unit with several outputs states those of each, by the seat that is to drain it:
//
//	outputs:
//	  load: {title: radio, rated_volts: 12 V, rated_current: 2 A}
//	  load2: {title: computer, rated_volts: 5 V, rated_current: 3 A}
//
// Of a battery it states the chemistry and the cells; what it does not say is then taken from [Chemistry]:
//
//	nameplate: gannet
//	kind: battery
//	chemistry: NMC
//	cells: {series: 7, parallel: 2}
//	ratings: {rated_capacity: 9.6 Ah, charge_volts: 29.2 V}
package nameplate

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"usherbench/core/contract"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/wiring"
)

// Nameplate is what a type of unit is rated for.
type Nameplate struct {
	Name, Title, Maker, Model, Kind string
	// Plant names the model of the unit for rehearsals; empty: one that is made from kind and ratings.
	Plant string
	// Ratings by name, as conditions and figures ask for them: nominal_line, rated_volts, rated_current … Those of one
	// output of several have its seat before them: load2.rated_volts.
	Ratings map[string]quantity.Quantity
	// Outputs are what the unit gives where it has several outputs, in the order of the text.
	Outputs []Output
	// Windows are the safe setpoints by quantity of a run ("source.volts").
	Windows map[string]Window
	// AtRest are the plausible readings with every output off, by column: what a right and whole unit shows by itself.
	AtRest map[string]Window
	// Chemistry of a battery, and its cells in series and parallel; a zero Name if it is none or does not say.
	Chemistry        Chemistry
	Series, Parallel int
	// Contracts are what a charger is rated to offer over USB Power Delivery; nil: it says nothing of that.
	Contracts contract.Offer
	// Pins of a harness, in the order of the terminals that it is plugged into, and Nets that they shall form.
	Pins []string
	Nets []wiring.Net
	// Assumed says of each rating that the text leaves out where it was taken from.
	Assumed map[string]string
	Text    string
	Production
}

// Output is one of several outputs of a unit, by the seat that is to drain it.
type Output struct{ Seat, Title string }

// Window is a safe range, ends included, in SI.
type Window struct{ Min, Max float64 }

// Holds tells whether a setpoint lies inside the window.
func (w Window) Holds(x float64) bool { return x >= w.Min && x <= w.Max }

// NamePattern is what names of nameplates, procedures, bays and instruments look like.
var NamePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

var ratingName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Parse reads a nameplate. The error is a document.Findings.
func Parse(text []byte) (*Nameplate, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	p := &Nameplate{Ratings: map[string]quantity.Quantity{}, Windows: map[string]Window{}, AtRest: map[string]Window{},
		Text: string(text)}
	var nets document.Node
	fields := map[string]func(document.Node){
		"nameplate": func(n document.Node) {
			if p.Name = n.Text(); !NamePattern.MatchString(p.Name) {
				n.Fail("%q is not a name; use small letters, digits and hyphens, beginning with a letter", p.Name)
			}
		},
		"title":     func(n document.Node) { p.Title = n.Text() },
		"maker":     func(n document.Node) { p.Maker = n.Text() },
		"model":     func(n document.Node) { p.Model = n.Text() },
		"plant":     func(n document.Node) { p.Plant = n.Text() },
		"kind":      func(n document.Node) { p.Kind = n.Text() },
		"chemistry": p.readChemistry,
		"cells":     p.readCells,
		"ratings":   func(n document.Node) { p.readRatings("", n) },
		"outputs":   p.readOutputs,
		"contracts": p.readContracts,
		"pins":      func(n document.Node) { p.Pins = texts(n) },
		"nets":      func(n document.Node) { nets = n; p.readNets(n) },
		"windows":   func(n document.Node) { p.Windows = readWindows(n) },
		"at rest":   func(n document.Node) { p.AtRest = readWindows(n) },
	}
	maps.Copy(fields, p.fields())
	doc.Root().Fields(fields, "nameplate", "ratings")
	p.completeNets(nets)
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	p.complete(doc.Root())
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	return p, nil
}

// readOutputs reads what the unit gives at each of several outputs: a title, and ratings of its own.
func (p *Nameplate) readOutputs(n document.Node) {
	for _, e := range n.Entries() {
		kind, ok := seats.KindOf(e.Key)
		if !ok || !kind.Is(seats.Drains) {
			e.At.Fail("%q is not a seat that drains an output, such as load2", e.Key)
			continue
		}
		p.Outputs = append(p.Outputs, Output{Seat: e.Key})
		p.readRatings(e.Key+".", e.Value)
	}
}

// readRatings reads ratings, whose names get something before them.
func (p *Nameplate) readRatings(of string, n document.Node) {
	for _, e := range n.Entries() {
		if e.Key == "title" && of != "" {
			p.Outputs[len(p.Outputs)-1].Title = e.Value.Text()
			continue
		}
		if !ratingName.MatchString(e.Key) {
			e.At.Fail("%q is not a name of a rating; use small letters, digits and underscores", e.Key)
			continue
		}
		q, err := quantity.Parse(e.Value.Text())
		if err != nil {
			e.Value.Fail("%s", err)
			continue
		}
		if kind, named := ratedQuantity(e.Key); named && q.Dim == quantity.Number && q.Value != 0 {
			e.Value.Fail("%s has no unit; write %s: %s %s", e.Key, e.Key, e.Value.Text(), kind.Unit.Symbol)
		}
		p.Ratings[of+e.Key] = q
	}
}

// ratedQuantity is the quantity that the name of a rating ends with: "rated_volts" is in volts.
func ratedQuantity(name string) (quantity.Kind, bool) {
	_, last, found := strings.Cut(name, "_")
	for found && strings.Contains(last, "_") {
		_, last, found = strings.Cut(last, "_")
	}
	if last == "capacity" {
		last = "charge"
	}
	kind, ok := quantity.KindOf(last)
	return kind, ok && found && kind.Unit.Dim != quantity.Number
}

func readWindows(n document.Node) map[string]Window {
	windows := map[string]Window{}
	for _, e := range n.Entries() {
		kind, ok := quantity.KindOfColumn(e.Key)
		if !ok {
			e.At.Fail("%q is not a quantity of a seat, such as source.volts", e.Key)
			continue
		}
		w := Window{Min: math.Inf(-1), Max: math.Inf(1)}
		e.Value.Fields(map[string]func(document.Node){
			"min": func(n document.Node) { w.Min = n.Quantity(kind.Unit.Dim).Value },
			"max": func(n document.Node) { w.Max = n.Quantity(kind.Unit.Dim).Value },
		})
		if w.Min > w.Max {
			e.Value.Fail("min is above max; swap them")
		}
		windows[e.Key] = w
	}
	return windows
}

// Rating looks up a rating of the given dimension.
func (p *Nameplate) Rating(name string, dim quantity.Dimension) (float64, error) {
	if p == nil {
		return 0, fmt.Errorf("the procedure is for any unit, so there is no nameplate to take %s from", name)
	}
	q, ok := p.Ratings[name]
	if !ok {
		return 0, fmt.Errorf("nameplate %s does not state %s; %s", p.Name, name,
			document.Suggest(name, slices.Collect(maps.Keys(p.Ratings))))
	}
	if q.Dim != dim {
		return 0, fmt.Errorf("nameplate %s states %s in %s, not in %s", p.Name, name, q.Dim, dim)
	}
	return q.Value, nil
}
