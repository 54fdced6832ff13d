package report

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/store"
)

// accuraciesOf words the accuracies by which the figures of a run have their uncertainty.
func accuraciesOf(run store.Run) ([]api.Accuracy, error) {
	list := []api.Accuracy{}
	if run.Specs == "" {
		return list, nil
	}
	var specs map[string]uncertainty.Spec
	if err := json.Unmarshal([]byte(run.Specs), &specs); err != nil {
		return list, fmt.Errorf("accuracies of run %s: %w", run.ID, err)
	}
	for _, column := range slices.SortedFunc(maps.Keys(specs), seats.CompareColumns) {
		seat, reading, _ := strings.Cut(column, ".")
		whole := seat + "." + quantity.WholeOf(reading)
		if column != whole && slices.Equal(specs[column], specs[whole]) {
			continue // what is said of a quantity holds for its parts
		}
		if words := accuracyWords(column, specs[column]); words != "" {
			list = append(list, api.Accuracy{Column: column, Words: words})
		}
	}
	return list, nil
}

// unbounded is the end of a range that holds every reading.
const unbounded = 1e9

// accuracyWords words the ranges of a reading: "to 8 V: 0.02 % + 3 mV; to 80 V: 0.02 % + 30 mV".
func accuracyWords(column string, spec uncertainty.Spec) string {
	unit := trace.UnitOf(column)
	show := func(x float64) string { return quantity.Quantity{Value: x, Dim: unit.Dim}.Format(4) }
	var ranges []string
	for _, r := range spec {
		var terms []string
		if r.Reading > 0 {
			terms = append(terms, quantity.Digits(100*r.Reading, 4)+" %")
		}
		if r.Offset > 0 {
			terms = append(terms, show(r.Offset))
		}
		if len(terms) == 0 {
			continue
		}
		words := "± (" + strings.Join(terms, " + ") + ")"
		if r.Burden > 0 {
			words += " with " + quantity.Quantity{Value: r.Burden, Dim: quantity.Resistance}.Format(4) + " of its own"
		}
		if r.To < unbounded {
			words = "to " + show(r.To) + ": " + words
		}
		ranges = append(ranges, words)
	}
	if len(spec) > 0 && spec[0].Leads.Ohms > 0 {
		ohms := func(x float64) string { return quantity.Quantity{Value: x, Dim: quantity.Resistance}.Format(4) }
		ranges = append(ranges, "corrected for leads of "+ohms(spec[0].Leads.Ohms)+" ± "+ohms(spec[0].Leads.Within))
	}
	if len(spec) > 0 && spec[0].Wiring != "" {
		ranges = append(ranges, spec[0].Wiring)
	}
	return strings.Join(ranges, "; ")
}

// accuracies prints the accuracies that were used.
func (p page) accuracies(doc api.Run) {
	if len(doc.Accuracies) == 0 {
		return
	}
	p.section("Accuracies used")
	for _, a := range doc.Accuracies {
		p.row([]cell{{a.Column, 40, "L", inkColor, false}, {a.Words, inner - 40, "L", mutedColor, false}}, 5.2)
	}
	p.gap(3)
}
