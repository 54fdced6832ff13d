package archive

import (
	"fmt"
	"math"
	"strings"

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
	if j.Undetermined != nil {
		return name + ": undetermined, " + j.Undetermined.Sentence
	}
	value := valueWords(j.Result)
	if j.U > 0 {
		scale, unit := quantity.Readable(j.Unit, j.Value)
		value = quantity.Fixed(j.Value/scale, quantity.Decimals(j.U/scale, 4)) + " " + unit
	}
	return name + ": " + value + limitWords(j)
}

// limitWords say the limit beside a value: ", at least 14.8 V".
func limitWords(j procedure.Judged) string {
	switch {
	case j.Min != nil && j.Max != nil:
		scale, unit := quantity.Readable(j.Unit, math.Max(math.Abs(*j.Min), math.Abs(*j.Max)))
		return fmt.Sprintf(", limit %.6g to %.6g %s", *j.Min/scale, *j.Max/scale, unit)
	case j.Min != nil:
		return ", at least " + readable(*j.Min, j.Unit)
	case j.Max != nil:
		return ", at most " + readable(*j.Max, j.Unit)
	}
	return ""
}

func readable(x float64, unit string) string {
	scale, unit := quantity.Readable(unit, x)
	return fmt.Sprintf("%.6g %s", x/scale, unit)
}
