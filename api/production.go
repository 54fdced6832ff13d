package api

import "time"

// Unit is what is known of a unit: what is in it, what was found of it, and what its card asks for.
type Unit struct {
	Serial string `json:"serial"`
	// Nameplate is that of its newest run, or what was stated; empty: it was tested as any unit.
	Nameplate string            `json:"nameplate,omitempty"`
	Lots      []string          `json:"lots"`
	Parts     map[string]string `json:"parts"`
	// Quarantine says why it is not to be tested; empty: it may be.
	Quarantine string `json:"quarantine,omitempty"`
	// Extra are attempts beyond those that its nameplate allows.
	Extra int          `json:"extra,omitempty"`
	Runs  []RunSummary `json:"runs"`
	// Card is null where its nameplate has none.
	Card *Card `json:"card"`
	// Across compares what several bays found of it, figure by figure.
	Across []BaysFigure `json:"across"`
}

// BaysFigure is a figure of one unit as several bays found it.
type BaysFigure struct {
	Procedure string `json:"procedure"`
	Figure    string `json:"figure"`
	Title     string `json:"title"`
	Where     string `json:"where,omitempty"`
	Unit      string `json:"unit,omitempty"`
	// Bays are the newest attempts that count, one of each bay.
	Bays []BayValue `json:"bays"`
	// From and To are the two bays that agree least; Difference is what the second found more than the first, with its
	// expanded uncertainty U (95 %). U is 0 where the figures have none: then nothing is said of agreement.
	From       string  `json:"from"`
	To         string  `json:"to"`
	Difference float64 `json:"difference"`
	U          float64 `json:"u"`
	// Differs tells that the uncertainties do not explain the difference.
	Differs bool `json:"differs"`
}

// BayValue is what a bay found, with the expanded uncertainty (95 %); 0: it is not known.
type BayValue struct {
	Bay   string  `json:"bay"`
	Run   string  `json:"run"`
	Value float64 `json:"value"`
	U     float64 `json:"u"`
}

// UnitChange changes what is kept of a unit; what is null stays.
type UnitChange struct {
	Parts      *map[string]string `json:"parts,omitempty"`
	Quarantine *string            `json:"quarantine,omitempty"`
	// Extra is how many attempts there may be beyond those that the nameplate allows.
	Extra *int `json:"extra,omitempty"`
	// Why is kept in the journal.
	Why string `json:"why,omitempty"`
}

// CardState is how far a unit is with a procedure of its card, or with the whole card.
type CardState string

// The states of a card. Marginal is passed, close to a limit; one that is left out is optional or of type.
const (
	CardToDo     CardState = "to do"
	CardPassed   CardState = "pass"
	CardMarginal CardState = "marginal"
	CardFailed   CardState = "fail"
)

// Card lists the procedures that a unit must pass, with what is done and to do.
type Card struct {
	Nameplate string `json:"nameplate"`
	// State is that of the routine procedures together, and of others that were run.
	State CardState  `json:"state"`
	Items []CardItem `json:"items"`
	// GoOn runs what is left after a failure.
	GoOn bool `json:"goOn"`
}

// CardItem is one procedure of a card.
type CardItem struct {
	Procedure string `json:"procedure"`
	Title     string `json:"title"`
	// Kind is routine, type or optional.
	Kind  string    `json:"kind"`
	State CardState `json:"state"`
	// Attempts that counted, and the newest run that did.
	Attempts int        `json:"attempts"`
	Run      string     `json:"run,omitempty"`
	At       *time.Time `json:"at,omitempty"`
}

// LotOrder is what is kept of a lot beside its runs.
type LotOrder struct {
	Nameplate string `json:"nameplate,omitempty"`
	// Quantity is how many units it has; 0: nobody said.
	Quantity int    `json:"quantity,omitempty"`
	Closed   bool   `json:"closed,omitempty"`
	Note     string `json:"note,omitempty"`
}

// How a test begins at an operator's place.
const (
	BeginsByScan    = "scan"    // at once when a unit is scanned
	BeginsByKey     = "key"     // when the operator says so
	BeginsByContact = "contact" // when a condition comes true: a voltage appears, a button is pressed
)

// PlaceSetup is what a bay is set up for: every unit that is scanned there is tested so.
type PlaceSetup struct {
	// Procedures are run on each unit in this order. Where there are none, Card names a nameplate whose routine procedures
	// are run, those left out that the unit has passed.
	Procedures []string `json:"procedures,omitempty"`
	Card       string   `json:"card,omitempty"`
	Lot        string   `json:"lot,omitempty"`
	// Begins is scan, key or contact; empty: scan. When is the condition of contact: "meter.volts > 3 V for 0.5 s".
	Begins string `json:"begins,omitempty"`
	When   string `json:"when,omitempty"`
	// Make gives the next unit a serial number by its nameplate where nothing is scanned.
	Make bool `json:"make,omitempty"`
	// GoOn runs what is left of a unit's procedures after a failure.
	GoOn bool `json:"goOn,omitempty"`
}

// UnitVerdict is what an operator is to do with a unit.
type UnitVerdict string

// The verdicts. Attention is about the contact, the bench or the test, and says nothing of the unit.
const (
	VerdictPass      UnitVerdict = "pass"
	VerdictMarginal  UnitVerdict = "marginal"
	VerdictFail      UnitVerdict = "fail"
	VerdictAttention UnitVerdict = "attention"
)

// Place is an operator's place: what the bay is set up for, which unit is in it, and what came of the last one.
type Place struct {
	Bay   string      `json:"bay"`
	Title string      `json:"title"`
	Setup *PlaceSetup `json:"setup"`
	// Unit was scanned and is not through; null: the next one is waited for.
	Unit  *PlaceUnit   `json:"unit"`
	Last  *PlaceResult `json:"last"`
	Tally Tally        `json:"tally"`
	// Held says why nothing begins; empty: it may.
	Held string `json:"held,omitempty"`
	// Change grows with every change of the place: what comes late and has a smaller one is how it was before.
	Change int64 `json:"change"`
}

// PlaceUnit is a unit at an operator's place.
type PlaceUnit struct {
	Serial string    `json:"serial"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	// Wanted are the parts that are still to be scanned, in order.
	Wanted []string          `json:"wanted"`
	Parts  map[string]string `json:"parts,omitempty"`
	// ToDo are the procedures that are still to be run, the one that runs first.
	ToDo []string `json:"toDo"`
	// Of is how many there were.
	Of int `json:"of"`
	// Run is live, or what stood in the way of it is in Problem.
	Run     string `json:"run,omitempty"`
	Problem string `json:"problem,omitempty"`
	// Runs have ended before it, and Worst is the worst of their verdicts.
	Runs  []string    `json:"runs,omitempty"`
	Worst UnitVerdict `json:"worst,omitempty"`
}

// PlaceResult is what came of a unit.
type PlaceResult struct {
	Serial  string      `json:"serial"`
	Verdict UnitVerdict `json:"verdict"`
	// Words say what is wrong and what to do, a line each.
	Words []string  `json:"words"`
	Runs  []string  `json:"runs"`
	At    time.Time `json:"at"`
}

// Tally counts the units of a lot, or without one of the place since it was set up.
type Tally struct {
	// Quantity is how many units the lot has; 0: nobody said.
	Quantity int `json:"quantity,omitempty"`
	Units    int `json:"units"`
	Passed   int `json:"passed"`
	Marginal int `json:"marginal"`
	Failed   int `json:"failed"`
}

// PlaceScan is what was scanned or typed at a place: a unit, or the part that is wanted. Without a serial number one
// is made, where the place makes them.
type PlaceScan struct {
	Serial string `json:"serial"`
}

// Together names the bays at whose places tests begin side by side.
type Together struct {
	Bays []string `json:"bays"`
}
