package archive

import (
	"fmt"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/store"
)

// VerdictOf is what an operator is to do with a unit after a run, with the words that say why.
func VerdictOf(run store.Run, judged []procedure.Judged, reseats int) (api.UnitVerdict, []string) {
	verdict, known := map[outcome.Outcome]api.UnitVerdict{outcome.Pass: api.VerdictPass,
		outcome.Marginal: api.VerdictMarginal, outcome.Fail: api.VerdictFail}[outcome.Outcome(run.Outcome)]
	words := []string{}
	reason := run.Reason
	if Vain(run.State) { // the condition of a guard is for engineers
		reason, _, _ = strings.Cut(reason, " (")
	}
	if reason != "" {
		words = append(words, strings.ToUpper(reason[:1])+reason[1:])
	}
	for _, j := range judged {
		if j.Outcome == outcome.Outcome(run.Outcome) && j.Outcome != outcome.Pass ||
			j.Outcome == outcome.Marginal && run.Outcome == string(outcome.Fail) {
			words = append(words, figureWords(j))
		}
	}
	if known {
		return verdict, words
	}
	if run.State == openContact && run.Outcome == string(outcome.Aborted) {
		words = append(words, fmt.Sprintf("Put it in anew (%d of %d)", reseats-run.ReseatsLeft+1, reseats))
	} else if run.Outcome == string(outcome.None) && run.Reason == "" {
		words = append(words, "The procedure has no limits: nothing was judged")
	}
	return api.VerdictAttention, words
}

// figureWords are a figure with its value and limit, as an operator reads it: "Load regulation (source.volts 48 V):
// 0.750 %, at most 0.5 %".
func figureWords(j procedure.Judged) string {
	name := j.Title
	if j.Where != "" {
		name += " (" + j.Where + ")"
	}
	value := valueWords(j.Result)
	if j.Undetermined == nil && j.U > 0 {
		value = quantity.Fixed(j.Value, quantity.Decimals(j.U, 4)) + " " + j.Unit
	}
	return name + ": " + value + limitWords(j)
}

// limitWords say the limit beside a value: ", at least 14.8 V".
func limitWords(j procedure.Judged) string {
	switch {
	case j.Min != nil && j.Max != nil:
		return fmt.Sprintf(", limit %g to %g %s", *j.Min, *j.Max, j.Unit)
	case j.Min != nil:
		return fmt.Sprintf(", at least %g %s", *j.Min, j.Unit)
	case j.Max != nil:
		return fmt.Sprintf(", at most %g %s", *j.Max, j.Unit)
	}
	return ""
}

// Tally counts the units of a lot, or without one those of a bay since an instant: each by the attempts that decide,
// one by each procedure, of which the worst counts.
func Tally(s *store.Store, lot, bay string, since time.Time) (t api.Tally, err error) {
	results, err := s.Results(lot, bay, since)
	if err != nil {
		return t, err
	}
	worst := map[string]api.CardState{}
	for _, r := range results {
		before, known := worst[r.Serial]
		if !known {
			before = api.CardPassed
		}
		worst[r.Serial] = worse(before, api.CardState(r.Outcome))
	}
	for _, state := range worst {
		t.Units++
		switch state {
		case api.CardFailed:
			t.Failed++
		case api.CardMarginal:
			t.Marginal++
		default:
			t.Passed++
		}
	}
	if lot != "" {
		order, err := s.LotOrder(lot)
		if err != nil {
			return t, err
		}
		t.Quantity = order.Quantity
	}
	return t, nil
}
