package api

import (
	"time"
)

// Waiting is a run that waits in line for a bay.
type Waiting struct {
	ID         uint              `json:"id"`
	Bay        string            `json:"bay"`
	Serial     string            `json:"serial"`
	Lot        string            `json:"lot,omitempty"`
	Procedure  string            `json:"procedure"`
	Revision   int               `json:"revision,omitempty"`
	Parameters map[string]string `json:"parameters,omitempty"`
	By         string            `json:"by"`
	At         time.Time         `json:"at"`
	NotBefore  *time.Time        `json:"notBefore,omitempty"`
	// Held says why it does not begin; empty: it will.
	Held string `json:"held,omitempty"`
	// Asks names the checks for which who lets it begin vouches.
	Asks []string `json:"asks,omitempty"`
}

// Enqueue puts units and procedures in line: every unit goes through every procedure, the units dealt out over
// the bays.
type Enqueue struct {
	Bays       []string          `json:"bays"`
	Serials    []string          `json:"serials"`
	Lot        string            `json:"lot,omitempty"`
	Procedures []string          `json:"procedures"`
	Parameters map[string]string `json:"parameters,omitempty"`
	NotBefore  *time.Time        `json:"notBefore,omitempty"`
}

// The x axes of an overlay, beside the columns of a run.
const (
	OverTime   = "time"   // s since the origin
	OverCharge = "charge" // Ah moved
	OverState  = "state"  // % of the charge of the curve
	OverCycle  = "cycle"  // capacity over the number of the cycle
)

// OverlayRequest chooses runs and how their curves are laid over each other.
type OverlayRequest struct {
	// Runs by id, or every run of a Lot or Serial, of one Procedure if that is given.
	Runs      []string `json:"runs,omitempty"`
	Lot       string   `json:"lot,omitempty"`
	Serial    string   `json:"serial,omitempty"`
	Procedure string   `json:"procedure,omitempty"`
	// Group names a set of runs that is compared with the others, by run id: "before", "after".
	Groups map[string]string `json:"groups,omitempty"`
	// Quantity is the column on the y axis; empty: the battery's volts.
	Quantity string `json:"quantity,omitempty"`
	// Over is the x axis: time, charge, state or cycle, or a column as load.volts, over which a sweep up and the sweep
	// back are curves of their own.
	Over string `json:"over,omitempty"`
	// Half is charge, discharge, both, run for the whole run, points for its settled operating points, or excerpts for
	// what was kept of it under names; empty: discharge, over a column run, and excerpts where one is named.
	Half string `json:"half,omitempty"`
	// Excerpt is the name of the excerpts that are drawn; empty: all of a run.
	Excerpt string `json:"excerpt,omitempty"`
	// Mark aligns time at the first mark with this label; Level at the first crossing of a level of the quantity,
	// in its unit.
	Mark  string   `json:"mark,omitempty"`
	Level *float64 `json:"level,omitempty"`
	// Most is how many labels are drawn; 0: all. The band and the table are of all.
	Most int `json:"most,omitempty"`
	// Reference is the run that the differences refer to; empty: the first.
	Reference string `json:"reference,omitempty"`
	// Less is what every curve is drawn less of: LessMean of all, or LessReference, the curve of the reference; empty:
	// nothing.
	Less string `json:"less,omitempty"`
}

// What curves may be drawn less of.
const (
	LessMean      = "mean"
	LessReference = "reference"
)

// Overlay is curves of several runs on one picture.
type Overlay struct {
	XLabel string         `json:"xLabel"`
	XUnit  string         `json:"xUnit"`
	YLabel string         `json:"yLabel"`
	YUnit  string         `json:"yUnit"`
	Curves []OverlayCurve `json:"curves"`
	// Band is where all curves of the first half lie; nil if they have nothing in common.
	Band *OverlayBand `json:"band,omitempty"`
	// Spots are where figures of the runs lie on the picture.
	Spots []OverlaySpot `json:"spots,omitempty"`
	// Differences of each curve from the reference.
	Reference   string              `json:"reference,omitempty"`
	Differences []OverlayDifference `json:"differences"`
	// Figures that every run has, and their spread.
	Figures []OverlayFigure `json:"figures"`
	// Pairs are the figures of two runs side by side; there are none of more.
	Pairs []OverlayPair `json:"pairs,omitempty"`
	// Comparisons of the figures of two groups.
	Comparisons []OverlayComparison `json:"comparisons,omitempty"`
	// Left names runs that have no such curve, and why.
	Left []OverlayLeft `json:"left,omitempty"`
}

// OverlayCurve is one line. Drawn is false for one that a fuller picture leaves out.
type OverlayCurve struct {
	Run    string    `json:"run"`
	Label  string    `json:"label"`
	Group  string    `json:"group,omitempty"`
	Half   string    `json:"half"`
	Pass   int       `json:"pass"`
	Drawn  bool      `json:"drawn"`
	X      []float64 `json:"x"`
	Y      []float64 `json:"y"`
	Serial string    `json:"serial"`
	// Excerpt is the name of what was kept of the run; empty: the curve is of none.
	Excerpt string `json:"excerpt,omitempty"`
	// Contract is the position of the contract of a charger in which the points were taken; 0: in none.
	Contract int `json:"contract,omitempty"`
}

// OverlaySpot is where a figure of a run lies, in the units of the picture.
type OverlaySpot struct {
	Run    string  `json:"run"`
	Serial string  `json:"serial"`
	Label  string  `json:"label"`
	X      float64 `json:"x"`
	Y      float64 `json:"y"`
}

// OverlayBand is min, max and mean at places of the common range.
type OverlayBand struct {
	X      []float64 `json:"x"`
	Min    []float64 `json:"min"`
	Max    []float64 `json:"max"`
	Mean   []float64 `json:"mean"`
	Widest float64   `json:"widest"`
	At     float64   `json:"at"`
}

// OverlayDifference is how far a curve is from the reference; null where they have nothing in common.
type OverlayDifference struct {
	Label   string   `json:"label"`
	Mean    *float64 `json:"mean"`
	RMS     *float64 `json:"rms"`
	Largest *float64 `json:"largest"`
	At      *float64 `json:"at"`
	End     *float64 `json:"end"`
}

// OverlayFigure is one figure of several runs.
type OverlayFigure struct {
	Figure string               `json:"figure"`
	Title  string               `json:"title"`
	Unit   string               `json:"unit"`
	Values []OverlayFigureValue `json:"values"`
	Mean   float64              `json:"mean"`
	Spread *float64             `json:"spread"` // %, (max − min)/mean
	SD     *float64             `json:"sd"`     // %
	// Without names units that do not have it.
	Without []string `json:"without,omitempty"`
}

// OverlayFigureValue is the figure of one run.
type OverlayFigureValue struct {
	Run   string  `json:"run"`
	Label string  `json:"label"`
	Value float64 `json:"value"`
	U     float64 `json:"u"`
}

// OverlayPair is one figure of two runs side by side. Difference is that of the second from the first, with its 95 %
// interval U where both are known that well; Differs is true for two words, or two values, that are not the same.
type OverlayPair struct {
	Figure     string      `json:"figure"`
	Title      string      `json:"title"`
	Unit       string      `json:"unit"`
	First      OverlaySide `json:"first"`
	Second     OverlaySide `json:"second"`
	Difference *float64    `json:"difference"`
	U          *float64    `json:"u"`
	Differs    bool        `json:"differs"`
}

// OverlaySide is a figure of one of two runs: a value, a word, or why there is none.
type OverlaySide struct {
	Value   *float64 `json:"value"`
	U       *float64 `json:"u"`
	Text    string   `json:"text,omitempty"`
	Why     string   `json:"why,omitempty"`
	Outcome string   `json:"outcome,omitempty"`
}

// OverlayComparison says how one figure of the second group differs from that of the first, with its 95 % interval.
type OverlayComparison struct {
	Figure  string  `json:"figure"`
	Title   string  `json:"title"`
	Unit    string  `json:"unit"`
	First   string  `json:"first"`
	Second  string  `json:"second"`
	Before  float64 `json:"before"`
	After   float64 `json:"after"`
	Value   float64 `json:"value"`
	U       float64 `json:"u"`
	Percent float64 `json:"percent"`
	Differs bool    `json:"differs"`
	By      string  `json:"by"`
	Words   string  `json:"words"`
}

// OverlayLeft is a run that is not on the picture.
type OverlayLeft struct {
	Run   string `json:"run"`
	Label string `json:"label"`
	Why   string `json:"why"`
}

// MatchRequest asks to group the cells of a lot.
type MatchRequest struct {
	Lot       string `json:"lot"`
	Procedure string `json:"procedure,omitempty"` // only runs of it
	Size      int    `json:"size"`
	Groups    int    `json:"groups,omitempty"`
	// Weights of capacity, resistance and curve; null: 1.
	Capacity   *float64 `json:"capacity,omitempty"`
	Resistance *float64 `json:"resistance,omitempty"`
	Curve      *float64 `json:"curve,omitempty"`
	Seed       uint64   `json:"seed,omitempty"`
}

// Matching is cells in groups, and those left over.
type Matching struct {
	Lot     string        `json:"lot"`
	Size    int           `json:"size"`
	Groups  []MatchGroup  `json:"groups"`
	Rejects []MatchReject `json:"rejects"`
	// Score is that of the groups, Sorted that of groups cut from the list sorted by capacity. Smaller is better.
	Score  float64 `json:"score"`
	Sorted float64 `json:"sorted"`
}

// MatchGroup is cells that belong together.
type MatchGroup struct {
	Name             string      `json:"name"`
	Cells            []MatchCell `json:"cells"`
	Score            float64     `json:"score"`
	CapacitySpread   float64     `json:"capacitySpread"`   // %
	ResistanceSpread float64     `json:"resistanceSpread"` // %
	CurveDistance    float64     `json:"curveDistance"`    // mV
}

// MatchCell is one cell of a group.
type MatchCell struct {
	Serial     string  `json:"serial"`
	Run        string  `json:"run"`
	Capacity   float64 `json:"capacity"`   // Ah
	Resistance float64 `json:"resistance"` // mΩ
}

// MatchReject is a cell in no group.
type MatchReject struct {
	Serial string `json:"serial"`
	Why    string `json:"why"`
}

// Mapping says how the columns of a foreign log are read.
type Mapping struct {
	// Source is what the log comes from, by which the mapping is remembered.
	Source string `json:"source"`
	// Time, Volts … name columns by their header; an empty one is not read. Units are those of the numbers: "s",
	// "min", "h", "ms"; "mV"; "mA" …
	Time    MappedColumn `json:"time"`
	Volts   MappedColumn `json:"volts"`
	Amps    MappedColumn `json:"amps"`
	Celsius MappedColumn `json:"celsius"`
	// DischargeIs says which amps a discharge has: "negative" or "positive"; empty: negative, unless the volts tell
	// otherwise, which is asked then.
	DischargeIs string `json:"dischargeIs,omitempty"`
	// Separator and Decimal of the file; empty: found out.
	Separator string `json:"separator,omitempty"`
	Decimal   string `json:"decimal,omitempty"`
	// Skip is how many lines stand before the header.
	Skip int `json:"skip,omitempty"`
	// Date is a column of dates beside that of the times; empty: they have theirs.
	Date string `json:"date,omitempty"`
	// UnitRow says that a row of units stands below the header, Join that the log goes on where its time goes back.
	UnitRow bool `json:"unitRow,omitempty"`
	Join    bool `json:"join,omitempty"`
}

// MappedColumn is a column of a file.
type MappedColumn struct {
	Column string `json:"column"`
	Unit   string `json:"unit"`
}

// ImportLog brings a foreign log in as a run.
type ImportLog struct {
	Name string `json:"name"` // of the file
	// Text is the log, or Data the file as it is where that is no UTF-8: another coding, or a workbook.
	Text    string  `json:"text,omitempty"`
	Data    []byte  `json:"data,omitempty"`
	Mapping Mapping `json:"mapping"`
	// Accuracy says how well the log knows its volts, amps and celsius, as "0.05 % + 2 mV".
	Accuracy map[string]string `json:"accuracy,omitempty"`
	Serial   string            `json:"serial"`
	Lot      string            `json:"lot,omitempty"`
	// Nameplate and Procedure give ratings, figures and limits; empty: none, and the usual figures of a battery.
	Nameplate string `json:"nameplate,omitempty"`
	Procedure string `json:"procedure,omitempty"`
	// Capture says that it is a fast capture of volts, and perhaps amps, in equal steps; Stage is that of the procedure
	// whose capture it stands for; empty: the first.
	Capture bool   `json:"capture,omitempty"`
	Stage   string `json:"stage,omitempty"`
	// BeganAt is when the log began; null: not known.
	BeganAt *time.Time `json:"beganAt,omitempty"`
}

// LogLook is a first look at a foreign log.
type LogLook struct {
	Headers []string   `json:"headers"`
	Rows    [][]string `json:"rows"`
	// Mapping is the remembered one of the source, or a guess.
	Mapping    Mapping `json:"mapping"`
	Remembered bool    `json:"remembered"`
}

// NameplateRating is a rating as people read it, and where it is from if the text does not state it.
type NameplateRating struct {
	Name    string `json:"name"`
	Value   string `json:"value"`
	Assumed string `json:"assumed,omitempty"`
}

// NameplateOutline is what a nameplate says and what follows from it.
type NameplateOutline struct {
	Name      string            `json:"name"`
	Kind      string            `json:"kind"`
	Chemistry string            `json:"chemistry,omitempty"`
	Series    int               `json:"series,omitempty"`
	Parallel  int               `json:"parallel,omitempty"`
	Ratings   []NameplateRating `json:"ratings"`
}

// Chemistry is a known chemistry with what it bears, for people to choose from.
type Chemistry struct {
	Name   string `json:"name"`
	Source string `json:"source"`
}
