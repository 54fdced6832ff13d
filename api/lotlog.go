package api

import "time"

// LotLog is a line for every attempt of a lot, in the order in which they began.
type LotLog struct {
	Name    string        `json:"name"`
	Order   LotOrder      `json:"order"`
	Entries []LotLogEntry `json:"entries"`
	Tally   Tally         `json:"tally"`
	// Took is from the first beginning to the last end, s; Mean is how long an attempt took.
	Took float64 `json:"took"`
	Mean float64 `json:"mean"`
}

// LotLogEntry is one attempt.
type LotLogEntry struct {
	Began     time.Time `json:"began"`
	Serial    string    `json:"serial"`
	Bay       string    `json:"bay"`
	Operator  string    `json:"operator"`
	Procedure string    `json:"procedure"`
	Run       string    `json:"run"`
	// Took is in s of the wall clock.
	Took    float64 `json:"took"`
	Outcome string  `json:"outcome"`
	// Failing are the figures that failed, in words, or what ended the run before.
	Failing []string `json:"failing"`
}
