package archive

import (
	"usherbench/api"
	"usherbench/core/population"
	"usherbench/core/procedure"
)

// pairOf holds one figure of two runs against each other: as numbers where both have one, and with the 95 % interval of
// the difference where both are known that well.
func pairOf(title string, first, second *procedure.Judged) api.OverlayPair {
	pair := api.OverlayPair{Title: title, First: sideOf(first), Second: sideOf(second)}
	for _, j := range []*procedure.Judged{second, first} {
		if j != nil {
			pair.Figure, pair.Unit = j.ID, j.Unit
		}
	}
	a, b := pair.First, pair.Second
	pair.Differs = a.Text != b.Text
	if a.Value == nil || b.Value == nil || a.Text != "" || b.Text != "" {
		return pair
	}
	difference := *b.Value - *a.Value
	pair.Difference, pair.Differs = &difference, difference != 0
	if a.U != nil && b.U != nil {
		d := population.Single(*a.Value, *a.U, *b.Value, *b.U)
		pair.U, pair.Differs = &d.U, d.Differs
	}
	return pair
}

func sideOf(j *procedure.Judged) (s api.OverlaySide) {
	switch {
	case j == nil:
		s.Why = "no such figure"
	case j.Undetermined != nil:
		s.Why, s.Outcome = j.Undetermined.Code, string(j.Outcome)
	default:
		s.Value, s.Text, s.Outcome = &j.Value, j.Text, string(j.Outcome)
		if j.U > 0 {
			s.U = &j.U
		}
	}
	return s
}
