package api

import "time"

// Excerpt is a part of a run that somebody has named, s since its start. The frames stay the run's.
type Excerpt struct {
	Name string    `json:"name"`
	Note string    `json:"note,omitempty"`
	From float64   `json:"from"`
	To   float64   `json:"to"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

// ExcerptRequest says which part of a run is kept under a name.
type ExcerptRequest struct {
	Note string  `json:"note,omitempty"`
	From float64 `json:"from"`
	To   float64 `json:"to"`
}

// Excursion is a place where a column goes far from where it usually is around there, in its unit.
type Excursion struct {
	Column string  `json:"column"`
	Unit   string  `json:"unit"`
	T      float64 `json:"t"`
	Value  float64 `json:"value"`
	Usual  float64 `json:"usual"`
	// Unlike is how many times the column's usual scatter it is away.
	Unlike float64 `json:"unlike"`
}
