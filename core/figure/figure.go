// Package figure says what a figure is: a result computed from the record of a run, with its expanded uncertainty,
// or undetermined with a code and a sentence; it is never a silent zero. Every figure is a pure function of the
// record: the same record gives the same figure, today and after a limit was changed.
//
// A folder beside this file holds one family of figures: their definitions, formulas, and worked examples as tests.
package figure

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// Version names the code that computed a figure; it is raised when a definition changes.
const Version = 2

// Request asks for one figure.
type Request struct {
	ID string `json:"id"`
	// At holds the setpoints, SI, that say where: {"source.volts": 48}.
	At map[string]float64 `json:"at,omitempty"`
	// Output and Input name the seats on the unit's two sides.
	Output string `json:"output,omitempty"`
	Input  string `json:"input,omitempty"`
	// Reference is what a regulation refers to: "nominal" (default), or "rated".
	Reference string `json:"reference,omitempty"`
	// Stage names the stage in whose window the figure is taken, where it needs one.
	Stage string `json:"stage,omitempty"`
	// Gear names the stage in which the gear alone was measured, where what it loses is taken off.
	Gear string `json:"gear,omitempty"`
	// Row and Against name rows of acquire and seek, and Quantity a column of them. Of a pair of outputs Against is the
	// seat of the other.
	Row      string `json:"row,omitempty"`
	Against  string `json:"against,omitempty"`
	Quantity string `json:"quantity,omitempty"`
	// Channel names a channel of the capture that Stage names, and Since the one in which what is timed begins.
	Channel string `json:"channel,omitempty"`
	Since   string `json:"since,omitempty"`
	// State names the state of the unit that the figure is of.
	State string `json:"state,omitempty"`
	// Profile is for how long the unit is in each of its states, s; empty: as it was recorded.
	Profile map[string]float64 `json:"profile,omitempty"`
	// Pass chooses one of several times that a stage ran, from 1; 0: the last.
	Pass int `json:"pass,omitempty"`
	// Args are the numbers that the definition names, SI, and Choices its words; what is not given has the
	// definition's default.
	Args    map[string]float64 `json:"args,omitempty"`
	Choices map[string]string  `json:"choices,omitempty"`
	// Of lists columns, for figures of several.
	Of []string `json:"of,omitempty"`
	// Over is the column over which the Quantity is taken, where the figure is of one over another.
	Over string `json:"over,omitempty"`
	// Rows names further rows by what they are for: cold, hot, no load.
	Rows map[string]string `json:"rows,omitempty"`
	// In is the unit in which a figure of a quantity is asked for, such as r/min; empty: the quantity's.
	In string `json:"in,omitempty"`
}

// Where words the place of a request: "source.volts 48 V, load.amps 8 A", or its row. An output of several, and the one
// that it is held against, come first.
func (r Request) Where() string {
	parts := record.PlaceWords(r.At)
	if r.Against != "" && r.Row == "" && r.Channel == "" {
		parts = append([]string{"against " + r.Against}, parts...)
	}
	if r.ofSeveral() {
		parts = append([]string{r.Output}, parts...)
	}
	if r.Quantity != "" {
		parts = append(parts, r.Quantity)
	}
	if r.Row != "" {
		parts = append(parts, r.Row)
	}
	if r.Channel != "" {
		parts = append(parts, r.Channel)
	}
	if r.State != "" {
		parts = append(parts, r.State)
	}
	return strings.Join(parts, ", ")
}

// ofSeveral tells whether the request is of one of several outputs, so that it must be said which.
func (r Request) ofSeveral() bool {
	kind, ok := seats.KindOf(r.Output)
	if !ok || !kind.Is(seats.Drains) || r.Output == r.Input {
		return false
	}
	further := r.Output != seats.DefaultOutput
	for column := range r.At {
		seat, amps := strings.CutSuffix(column, ".amps")
		if other, ok := seats.KindOf(seat); amps && ok && other.Is(seats.Drains) && seat != r.Output {
			further = true
		}
	}
	return further
}

// Definition is what a figure is.
type Definition struct {
	// Unit is empty for a figure in the unit of the quantity that is asked for.
	ID, Title, Unit string
	// Least and Most bound what the figure can be, for the check of limits.
	Least, Most float64
	// Needs is what it must find in the record; empty: whatever there is.
	Needs Need
	// AllSides is true for a figure of everything that feeds and drains the unit, unless the request names seats.
	AllSides bool
	// Reads are the readings that it needs of the meter, or of the seat that input names: watts, volts.peak. A rehearsal
	// makes them.
	Reads []string
	// PerContract is true for a figure of one contract of a charger, which can be asked for each of them.
	PerContract bool
	// Pairs is true for a figure of one output while another is changed, whose seat against names.
	Pairs bool
	// WithGear is true for a figure from which is taken off what the gear alone loses, in the stage that gear names.
	WithGear bool
	// MayHaveGear is true for one from which that is taken off where gear names a stage.
	MayHaveGear bool
	// AgainstStage is true for a figure that holds one stage against another, which against names.
	AgainstStage bool
	// OfGear is true for a figure of what stands around the unit, of which no model of the unit tells anything.
	OfGear bool
	// Exact says why the figure has no uncertainty: what is counted is not measured. Empty: it has one.
	Exact string
	// OfState is true for a figure of a state of the unit, which state names.
	OfState bool
	// MayHaveState is true for one that may be of a state, or of all there is.
	MayHaveState bool
	// OfProfile is true for a figure of how long the unit is in each of its states, which profile may say.
	OfProfile bool
	// Args are the numbers that can be given.
	Args []Arg
	// Choices are the words that can be given; the first of each is the default.
	Choices map[string][]string
	// Over is true for a figure of one column over another, which over names; InOver says that it is in the unit of
	// that, and Quotient that it is in the unit of the quantity over that of the other, or with InOver the other way
	// round.
	Over, InOver, Quotient bool
	// Rows are the further rows that it may be given, by what they are for.
	Rows []string
	// PerSecond is true for a figure in the unit of its quantity over s.
	PerSecond bool
	// Many is true for a figure of several columns, which of names.
	Many bool
	// Formula computes it. Its request is complete; where the place comes from the nameplate, the result's
	// request says so. It fails with a *record.Undetermined.
	Formula func(*record.Record, Request) (Result, error)
}

// Need is what a figure must find in a record. The check looks for a stage that leaves it behind.
type Need string

// What figures need.
const (
	Grid      Need = "grid"      // points of a grid
	Row       Need = "row"       // a row of an acquire or seek, by name
	Charge    Need = "charge"    // a half-cycle that charges
	Discharge Need = "discharge" // a half-cycle that discharges
	Rest      Need = "rest"      // a rest of a battery
	Capture   Need = "capture"   // a capture, by the name of its stage
	Window    Need = "window"    // a stage, by its name
	Wiring    Need = "wiring"    // a scan of a harness
	Openings  Need = "openings"  // a watch for contacts that open
)

// Arg is a number that a figure can be asked with, SI, between Least and Most.
type Arg struct {
	Name        string
	Dim         quantity.Dimension
	Default     float64 // NaN: there is none
	Least, Most float64
	// Of says that it is in the unit of the quantity, or of what that is taken over, in place of Dim.
	Of ArgOf
}

// ArgOf says whose unit an argument has.
type ArgOf uint8

// The units of arguments: its own, that of the quantity, that of what the quantity is taken over.
const (
	ItsOwn ArgOf = iota
	OfQuantity
	OfOver
)

// Check says what is wrong with a value.
func (a Arg) Check(x float64) error {
	if x >= a.Least && x <= a.Most {
		return nil
	}
	show := func(x float64) string { return quantity.Quantity{Value: x, Dim: a.Dim}.String() }
	return fmt.Errorf("%s is %s; it must lie between %s and %s", a.Name, show(x), show(a.Least), show(a.Most))
}

// Compute computes the figure that a request asks for. Everything that a figure says goes through here: it is a
// finite value with U, or with a remark that says why there is none, or it is undetermined. A figure that cannot be
// computed, for whatever reason, costs no other.
func (d Definition) Compute(rec *record.Record, req Request) Result {
	req = d.completed(req)
	result, err := d.computed(rec, req)
	if req.At == nil {
		req.At = result.At // the place that the nameplate gave
	}
	result.Request, result.Unit = req, d.ownUnit(req)
	result.tidy()
	scale, noScale := d.Scale(req)
	switch {
	case noScale != nil:
		return result.because(record.Because(record.WrongConditions, "%s", noScale))
	case err != nil:
		return result.because(record.ReasonOf(err)).in(scale)
	case !finite(result.Value) || !finite(result.U):
		return result.because(record.Because(record.IsMissing, "a reading that is needed is missing")).in(scale)
	case result.Value == 0 && result.Text == "":
		result.Remarks = record.AddRemark(result.Remarks, TrueZero)
	}
	if result.U == 0 && d.Exact != "" {
		result.Remarks = record.AddRemark(result.Remarks, d.Exact)
	}
	return result.in(scale)
}

// ownUnit is that of the definition; of a figure that is in the unit of what it is asked for, that one.
func (d Definition) ownUnit(req Request) string {
	if d.Unit != "" || req.Quantity == "" {
		return d.Unit
	}
	unit := trace.UnitOf(req.Quantity).Symbol
	over := trace.UnitOf(req.Over).Symbol
	switch {
	case d.Quotient && d.InOver:
		return over + "/" + unit
	case d.Quotient:
		return unit + "/" + over
	case d.InOver:
		return over
	}
	if d.PerSecond {
		unit += "/s"
	}
	return unit
}

// UnitOf is the unit in which a request is answered.
func (d Definition) UnitOf(req Request) string { return cmp.Or(req.In, d.ownUnit(req)) }

// Scale is by what a value in the figure's own unit is multiplied to be one in the unit that is asked for. It fails
// where that is not a unit of the same thing, and for figures that have one unit, so that runs can be compared.
func (d Definition) Scale(req Request) (float64, error) {
	if req.In == "" {
		return 1, nil
	}
	if d.Unit != "" || d.PerSecond {
		return 1, fmt.Errorf("%s is always in %s; only a figure of a quantity can be told in another unit", d.ID, d.Unit)
	}
	own := trace.UnitOf(req.Quantity)
	in, err := quantity.ParseUnit(req.In)
	switch {
	case err != nil:
		return 1, err
	case own.Dim != in.Dim || own.Dim == quantity.Temperature && in.Symbol != own.Symbol:
		return 1, fmt.Errorf("%s is in %s, which cannot be told in %s", req.Quantity, cmp.Or(own.Symbol, "no unit"), req.In)
	}
	return own.Factor / in.Factor, nil
}

// computed is what the formula says of a request that is within its bounds.
func (d Definition) computed(rec *record.Record, req Request) (result Result, err error) {
	for _, a := range d.Args {
		if x, given := req.Args[a.Name]; given {
			if err := a.Check(x); err != nil {
				return result, record.Because(record.WrongConditions, "%s", err)
			}
		}
	}
	defer func() {
		if failure := recover(); failure != nil {
			result, err = Result{}, record.Because(record.NoData, "the figure could not be computed from this record: %v",
				failure)
		}
	}()
	return d.Formula(rec, req)
}

// completed gives a request the defaults of the definition.
func (d Definition) completed(req Request) Request {
	for _, a := range d.Args {
		if _, given := req.Args[a.Name]; !given && !math.IsNaN(a.Default) {
			req.Args = With(req.Args, a.Name, a.Default)
		}
	}
	for name, words := range d.Choices {
		if req.Choices[name] == "" {
			req.Choices = With(req.Choices, name, words[0])
		}
	}
	if !d.AllSides {
		req.Output, req.Input = cmp.Or(req.Output, seats.DefaultOutput), cmp.Or(req.Input, seats.DefaultInput)
	}
	return req
}

// With sets an entry of a copy of a map.
func With[V any](m map[string]V, key string, value V) map[string]V {
	next := maps.Clone(m)
	if next == nil {
		next = map[string]V{}
	}
	next[key] = value
	return next
}

// Asked is a request together with the definition that answers it.
type Asked struct {
	Request
	Definition Definition
}

// Compute computes the figure.
func (a Asked) Compute(rec *record.Record) Result { return a.Definition.Compute(rec, a.Request) }

// Catalogue is the figures that there are, by id.
type Catalogue map[string]Definition

// NewCatalogue puts families of figures together.
func NewCatalogue(families ...[]Definition) Catalogue {
	c := Catalogue{}
	for _, d := range slices.Concat(families...) {
		c[d.ID] = d
	}
	return c
}

// IDs lists all figures.
func (c Catalogue) IDs() []string { return slices.Sorted(maps.Keys(c)) }

// Compute computes the figure that a request asks for, by its id.
func (c Catalogue) Compute(rec *record.Record, req Request) Result {
	d, ok := c[req.ID]
	if !ok {
		return Result{Request: req}.because(record.Because(record.NoData, "there is no figure %q", req.ID))
	}
	return d.Compute(rec, req)
}
