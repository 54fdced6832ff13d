package api

import "time"

// LotSummary is a lot as lists show it.
type LotSummary struct {
	Name  string `json:"name"`
	Units int    `json:"units"`
	Runs  int    `json:"runs"`
	// Newest is when its newest run began; null: there is none yet.
	Newest *time.Time `json:"newest,omitempty"`
	LotOrder
}

// LotRequest says how a lot is judged.
type LotRequest struct {
	// Procedure leaves the others out; empty: none.
	Procedure string
	// Strict has marginal count as a failure, Each has every failing figure of a unit counted and not its first alone.
	Strict, Each bool
}

// Lot is what the runs of a lot say of it, procedure by procedure.
type Lot struct {
	Name       string         `json:"name"`
	Order      LotOrder       `json:"order"`
	Procedures []LotProcedure `json:"procedures"`
}

// LotProcedure is a lot by one procedure. A unit counts once, by serial number; its values are of its last attempt.
type LotProcedure struct {
	Procedure string `json:"procedure"`
	Title     string `json:"title"`
	Units     int    `json:"units"`
	// Attempts ended in pass, marginal or fail; Beside are those that did not, which count for nothing.
	Attempts int `json:"attempts"`
	Beside   int `json:"beside"`
	// Yield, FirstPass and Retest are null where no unit was tested.
	Yield     *LotShare `json:"yield"`
	FirstPass *LotShare `json:"firstPass"`
	Retest    *LotShare `json:"retest"`
	// Failing are the serial numbers of the units whose last attempt failed.
	Failing []string    `json:"failing"`
	Pareto  []LotCause  `json:"pareto"`
	Figures []LotFigure `json:"figures"`
	Bays    []LotPace   `json:"bays"`
	// Saved is the time that bays side by side saved, s.
	Saved float64 `json:"saved"`
}

// LotShare is a share of the units in %, with its 95 % interval (Wilson).
type LotShare struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// LotCause is a figure by which units failed, %.
type LotCause struct {
	Figure     string  `json:"figure"`
	Title      string  `json:"title"`
	Units      int     `json:"units"`
	Share      float64 `json:"share"`
	Cumulative float64 `json:"cumulative"`
}

// LotFigure is one figure over the units of a lot, in its unit. What cannot be told is null; Why says why its
// capability is.
type LotFigure struct {
	Figure string   `json:"figure"`
	Title  string   `json:"title"`
	Where  string   `json:"where,omitempty"`
	Unit   string   `json:"unit"`
	Min    *float64 `json:"min,omitempty"`
	Max    *float64 `json:"max,omitempty"`
	N      int      `json:"n"`
	Mean   *float64 `json:"mean"`
	SD     *float64 `json:"sd"`
	// Cp, Cpk, Pp and Ppk with their 95 % intervals (terms of ISO 22514).
	Cp  *LotIndex `json:"cp"`
	Cpk *LotIndex `json:"cpk"`
	Pp  *LotIndex `json:"pp"`
	Ppk *LotIndex `json:"ppk"`
	Why string    `json:"why,omitempty"`
	// Drift is from unit to unit, ± DriftU.
	Drift    *float64     `json:"drift"`
	DriftU   *float64     `json:"driftU"`
	Outliers []LotOutlier `json:"outliers"`
	Bins     []LotBin     `json:"bins"`
	// Sequence are the values in the order of the units, several units a step where there are many.
	Sequence []LotStep `json:"sequence"`
	Remarks  []string  `json:"remarks,omitempty"`
	// Repeat tells the bench apart from the units; null where no unit was measured twice in one bay.
	Repeat *LotRepeat `json:"repeat,omitempty"`
}

// LotRepeat is how far a figure of one unit scatters in one bay, with its degrees of freedom, and how far the units do
// without that.
type LotRepeat struct {
	SD      float64  `json:"sd"`
	Freedom int      `json:"freedom"`
	Units   *float64 `json:"units"`
}

// LotIndex is a capability with its 95 % interval.
type LotIndex = LotShare

// LotOutlier is a unit far from the others, z by the median of the deviations.
type LotOutlier struct {
	Serial string  `json:"serial"`
	Value  float64 `json:"value"`
	Z      float64 `json:"z"`
}

// LotBin is one bar of a histogram.
type LotBin struct {
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Units int     `json:"units"`
}

// LotStep is one unit of a sequence, or some that follow each other: the serial number of the first, their mean, least
// and greatest.
type LotStep struct {
	Serial string  `json:"serial"`
	Mean   float64 `json:"mean"`
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
}

// LotPace is how long units take in one bay, s: medians, pauses left out.
type LotPace struct {
	Bay     string   `json:"bay"`
	Test    *float64 `json:"test"`
	Idle    *float64 `json:"idle"`
	PerUnit *float64 `json:"perUnit"`
	Paused  float64  `json:"paused"`
	Why     string   `json:"why,omitempty"`
	// Use is how much of the time in which the bay was at work it tested, %.
	Use float64 `json:"use"`
}
