package record

import (
	"fmt"
	"slices"

	"usherbench/core/quantity"
)

// Opening is a time in which a contact was open that shall be closed, while a harness was watched.
type Opening struct {
	From   string  `json:"from"` // pin
	To     string  `json:"to"`
	At     float64 `json:"at"` // s since the start of the run
	Lasted float64 `json:"lasted"`
}

func (Opening) is() string { return "opening" }

// Words name the contact, and for how long it was open.
func (o Opening) Words() string {
	return fmt.Sprintf("%s to %s open for %s", o.From, o.To, seconds(o.Lasted))
}

// Mark is where it began.
func (o Opening) Mark() Mark { return Mark{T: o.At, Kind: MarkOpening, Label: o.Words(), About: o} }

// Watched is what a watch of a harness came to: for how long, and how many openings of at least Least it saw. Of very
// many only the first have marks of their own.
type Watched struct {
	Seconds float64 `json:"seconds"`
	Least   float64 `json:"least"`
	Count   int     `json:"count"`
}

func (Watched) is() string { return "watched" }

// Mark is where it ended.
func (w Watched) Mark(t float64) Mark {
	return Mark{T: t, Kind: MarkPointDone, Label: fmt.Sprintf("watched for %s: %d openings of %s or longer",
		seconds(w.Seconds), w.Count, seconds(w.Least)), About: w}
}

func seconds(x float64) string { return quantity.Quantity{Value: x, Dim: quantity.Time}.Format(3) }

// OpeningsOf are the openings that a stage watched, and what its last watch came to.
func (rec *Record) OpeningsOf(stage string) (all []Opening, last Watched, err error) {
	ended := false
	var some []Opening
	for _, m := range rec.Marks {
		switch about := m.About.(type) {
		case Opening:
			some = append(some, about)
		case Watched:
			if stage == "" || rec.isIn(stage, m.T) {
				began := m.T - about.Seconds // what was seen before a pause counts no longer
				all, last, ended = slices.DeleteFunc(some, func(o Opening) bool { return o.At < began-1e-6 }), about, true
			}
			some = nil
		}
	}
	if !ended {
		return nil, last, Because(NoData, "no watch for openings came to its end in %s", orRun(stage))
	}
	return all, last, nil
}
