package kinds

import (
	"encoding/json"
	"fmt"
	"math"

	"usherbench/core/contract"
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// ContractKind asks a charger under test for a contract.
var ContractKind = procedure.Kind{
	Word: "contract", About: "asks a charger for a contract", Keys: procedure.Bounded, Read: readContract,
}

// Contract asks the charger under test for a contract, and waits until it agrees or refuses.
type Contract struct {
	Seat  string
	Asked contract.Terms // position 0: the one that gives the volts and amps
}

// agreesWithin is how long a charger has to agree where nothing is said, s.
const agreesWithin = 5.0

// offered is the word for the contract that a loop over contracts is at.
const offered = "offered"

// Kind implements procedure.Action.
func (*Contract) Kind() string { return "contract" }

// Commands implements procedure.Commanding.
func (a *Contract) Commands() []procedure.Setting { return a.settings(a.Asked.Position) }

// settings ask for a position with the volts and amps that are wanted.
func (a *Contract) settings(position int) []procedure.Setting {
	return []procedure.Setting{{Seat: a.Seat, Quantity: "volts", Value: a.Asked.Volts},
		{Seat: a.Seat, Quantity: "amps", Value: a.Asked.Amps},
		{Seat: a.Seat, Quantity: seats.Position, Value: float64(position)}}
}

// Extremes implements procedure.Moving.
func (a *Contract) Extremes(add func(column string, low, high float64)) {
	add(a.Seat+".volts", a.Asked.Volts, a.Asked.Volts)
}

// Reads implements procedure.Reading.
func (a *Contract) Reads() []string {
	return []string{a.Seat + "." + seats.Position, a.Seat + ".refused", seats.OfferColumn(a.Seat, 1)}
}

// Ends implements procedure.Ending.
func (*Contract) Ends() procedure.Ends { return procedure.Ends{Waits: true} }

// Words implements procedure.Worded.
func (a *Contract) Words() string {
	if a.Asked.Position == 0 {
		return fmt.Sprintf("for %g V, %g A", a.Asked.Volts, a.Asked.Amps)
	}
	return fmt.Sprintf("in place %d, %g V, %g A", a.Asked.Position, a.Asked.Volts, a.Asked.Amps)
}

// Run implements stage.Runnable.
func (a *Contract) Run(p *stage.Parts) stage.Runner {
	at := func(reading string) int { return p.Program.Columns.Index(a.Seat + "." + reading) }
	return &contractRunner{spec: a, within: p.Stage.Within, position: at(seats.Position), refused: at("refused"),
		volts: at("volts" + quantity.Part{Agreed: true}.String()), offers: p.OfferColumns(a.Seat)}
}

// readContract reads "offered", for the contract that a loop is at, or {position: 2, volts: 9 V, amps: 2 A}.
func readContract(r *procedure.Reader, c *procedure.Common, n document.Node) procedure.Action {
	a := &Contract{}
	if c.Stage.Within == 0 {
		c.Stage.Within = agreesWithin
	}
	seat, ok := r.ContractSeat(n)
	if !ok {
		return a
	}
	a.Seat = seat.Name
	position := func(n document.Node) {
		x := r.Value(n, quantity.Number)
		if x < 1 || x > contract.MostPlaces || x != math.Trunc(x) {
			n.Fail("a position is a whole number from 1 to %d, not %g", contract.MostPlaces, x)
			return
		}
		a.Asked.Position = int(x)
	}
	if !n.IsMap() {
		n.Word(offered)
		x, inside := r.ValueOf(n, "offered.position", 1, quantity.Number)
		if !inside {
			return a
		}
		a.Asked.Position = int(x)
		a.Asked.Volts, _ = r.ValueOf(n, "offered.volts", 1, quantity.Voltage)
		a.Asked.Amps, _ = r.ValueOf(n, "offered.amps", 1, quantity.Current)
		r.Bounded(n, seat, "volts", a.Asked.Volts)
		return a
	}
	var volts document.Node
	n.Fields(map[string]func(document.Node){
		"position": position,
		"volts":    func(n document.Node) { volts, a.Asked.Volts = n, r.Value(n, quantity.Voltage) },
		"amps":     func(n document.Node) { a.Asked.Amps = r.Value(n, quantity.Current) },
	})
	switch {
	case volts.Present():
		r.Bounded(volts, seat, "volts", a.Asked.Volts)
	case a.Asked.Position == 0:
		n.Fail("say which contract: a position, or volts and amps")
	}
	return a
}

// contractRunner asks, and waits for the answer.
type contractRunner struct {
	stage.Idle
	spec                     *Contract
	within                   float64
	position, refused, volts int // columns; −1: it is not read
	offers                   []int
	state                    contractState
}

// contractState is what a run remembers of a contract that it asks for.
type contractState struct {
	Since float64 `json:"since"`
	// Position is what was asked for; 0: it is still looked for in what is offered.
	Position int `json:"position"`
}

func (r *contractRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.state = contractState{Since: m.Now(), Position: r.spec.Asked.Position}
	if r.state.Position == 0 {
		return nil, stage.GoesOn
	}
	return r.ask(), stage.GoesOn
}

func (r *contractRunner) ask() []stage.Effect {
	return []stage.Effect{stage.Command{Settings: r.spec.settings(r.state.Position)}}
}

func (r *contractRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	r.state.Since = t
	return []stage.Effect{stage.Commanded(t, r.spec.settings(r.state.Position))}, stage.GoesOn
}

func (r *contractRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	late := f.T-r.state.Since > r.within
	if r.state.Position == 0 {
		if position, found := stage.OfferIn(f, r.offers).Find(r.spec.Asked.Volts, r.spec.Asked.Amps); found {
			r.state.Position = position
			return r.ask(), stage.GoesOn
		}
		if late {
			return nil, m.InVain(fmt.Sprintf("the unit does not offer %s within %s", r.spec.Words(),
				stage.Seconds(r.within)))
		}
		return nil, stage.GoesOn
	}
	switch {
	case r.agreed(f):
		words := fmt.Sprintf("agreed: contract %d, %s", r.state.Position, r.spec.Words())
		return []stage.Effect{stage.NewMark(f.T, record.MarkCondition, words)}, stage.Over
	case r.reads(f, r.refused) == 1:
		return nil, m.InVain(fmt.Sprintf("the unit refused contract %d, %s", r.state.Position, r.spec.Words()))
	case late:
		return nil, m.InVain(fmt.Sprintf("the unit did not agree to contract %d within %s", r.state.Position,
			stage.Seconds(r.within)))
	}
	return nil, stage.GoesOn
}

// agreed tells whether the contract that was asked for is in force: an adjustable one with its volts.
func (r *contractRunner) agreed(f trace.Frame) bool {
	if r.reads(f, r.position) != float64(r.state.Position) || r.reads(f, r.refused) == 1 {
		return false
	}
	if r.volts < 0 || r.spec.Asked.Volts == 0 {
		return true
	}
	return math.Abs(r.reads(f, r.volts)-r.spec.Asked.Volts) <= voltStep
}

// voltStep is the coarsest step in which adjustable volts are agreed, V.
const voltStep = 0.1

func (r *contractRunner) reads(f trace.Frame, column int) float64 {
	if column < 0 || column >= len(f.Values) {
		return math.NaN()
	}
	return f.Values[column]
}

func (r *contractRunner) Progress(*stage.Machine) (share, left float64, detail string) {
	return 0, 0, "asks " + r.spec.Words()
}

func (r *contractRunner) Shift(s float64)        { r.state.Since += s }
func (r *contractRunner) Save() any              { return r.state }
func (r *contractRunner) Load(data []byte) error { return json.Unmarshal(data, &r.state) }
