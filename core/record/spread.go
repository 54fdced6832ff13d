package record

import (
	"fmt"

	"usherbench/core/quantity"
)

// Spread is a frame whose readings took unusually long to come: an instrument, a line or the computer stood still for a
// moment. Its time is the middle; when in between its readings were taken is not known.
type Spread struct {
	From float64 `json:"from"` // when the first of them was asked for, s
	To   float64 `json:"to"`   // when the last of them came
}

func (Spread) is() string { return "spread" }

// Mark is the mark that says it, at the time of the frame.
func (s Spread) Mark(t float64) Mark {
	return Mark{T: t, Kind: MarkBench, About: s, Label: fmt.Sprintf("the readings of this frame took %s s to come",
		quantity.Digits(s.To-s.From, 2))}
}

// takenWithin is when the readings of a frame were taken, at the earliest and at the latest: its time, where no mark
// says more.
func (rec *Record) takenWithin(t float64) (from, to float64) {
	for _, m := range rec.Marks {
		if s, ok := m.About.(Spread); ok && m.T == t {
			return min(s.From, t), max(s.To, t)
		}
	}
	return t, t
}
