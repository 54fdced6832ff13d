package api

// LotDifference is how far the figures of one lot lie from those of another.
type LotDifference struct {
	Before  string                `json:"before"`
	After   string                `json:"after"`
	Figures []LotFigureDifference `json:"figures"`
}

// LotFigureDifference is the difference of the means of a figure, after less before, with its 95 % interval ± U.
type LotFigureDifference struct {
	Procedure   string  `json:"procedure"`
	Figure      string  `json:"figure"`
	Title       string  `json:"title"`
	Where       string  `json:"where,omitempty"`
	Unit        string  `json:"unit"`
	BeforeUnits int     `json:"beforeUnits"`
	AfterUnits  int     `json:"afterUnits"`
	Before      float64 `json:"before"`
	After       float64 `json:"after"`
	// Difference and U are null where there is none, and Why says why.
	Difference *float64 `json:"difference"`
	U          *float64 `json:"u"`
	// Differs is proven; Share is the difference in % of the width of the limits, for proven is not important.
	Differs bool     `json:"differs"`
	Share   *float64 `json:"share"`
	Why     string   `json:"why,omitempty"`
}
