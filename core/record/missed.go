package record

import (
	"fmt"
	"slices"
	"strings"

	"usherbench/core/quantity"
)

// Missed is a time in which readings stayed away for as long as a run says so. Its mark stands where they came again,
// or where the run ended.
type Missed struct {
	// Columns that had no readings; empty: none had any.
	Columns []string `json:"columns,omitempty"`
	From    float64  `json:"from"` // s
	To      float64  `json:"to"`
}

func (Missed) is() string { return "missed" }

// namedColumns is how many columns are named; of more the seats are, since the list would hide what is said of it.
const namedColumns = 6

// Words says it to people.
func (m Missed) Words() string {
	of := ""
	switch n := len(m.Columns); {
	case n > namedColumns:
		of = fmt.Sprintf(" of %d quantities of %s", n, strings.Join(seatsOf(m.Columns), ", "))
	case n > 0:
		of = " of " + strings.Join(m.Columns, ", ")
	}
	return fmt.Sprintf("no readings%s for %s s, from %s s on", of, quantity.Digits(m.To-m.From, 3),
		quantity.Digits(m.From, 6))
}

// seatsOf are the seats of columns, each once, in the order of their first column.
func seatsOf(columns []string) (seats []string) {
	for _, column := range columns {
		if seat, _, _ := strings.Cut(column, "."); !slices.Contains(seats, seat) {
			seats = append(seats, seat)
		}
	}
	return seats
}

// Mark is the mark that says it.
func (m Missed) Mark() Mark { return Mark{T: m.To, Kind: MarkGap, Label: m.Words(), About: m} }

// MissedBeside are the times without readings that lie in a stage or in those of a row or place; with neither, all of
// the run, and none of a stage or row that the run did not come to. What a figure says beside one of them is less well
// founded than its uncertainty tells.
func (rec *Record) MissedBeside(stage, row string, place map[string]float64) (all []Missed) {
	spans := rec.spansNamed(rec.stagesOf(stage, row, place))
	if len(spans) == 0 && (stage != "" || row != "") {
		return nil
	}
	for _, mark := range rec.Marks {
		m, ok := mark.About.(Missed)
		touches := func(s Span) bool { return s.T0 < m.To && s.T1 > m.From }
		if ok && (len(spans) == 0 || slices.ContainsFunc(spans, touches)) {
			all = append(all, m)
		}
	}
	return all
}

func (rec *Record) stagesOf(stage, row string, place map[string]float64) []string {
	if stage != "" {
		return []string{stage}
	}
	var names []string
	for _, p := range rec.Points {
		if row != "" && p.Row == row || row == "" && len(place) > 0 && p.At(place) {
			names = append(names, p.Stage)
		}
	}
	return names
}

func (rec *Record) spansNamed(names []string) (spans []Span) {
	for _, s := range rec.Stages {
		if slices.Contains(names, s.Name) {
			spans = append(spans, s)
		}
	}
	return spans
}
