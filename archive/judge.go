package archive

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/stage"
	"usherbench/store"
)

// ErrLive means that a run has not ended.
var ErrLive = errors.New("the run is live")

// Judge computes the figures of a run from its record and stores them with the outcome and other columns of the run, at
// once.
func Judge(s *store.Store, run store.Run, columns map[string]any) ([]procedure.Judged, error) {
	program, record, err := Record(s, run)
	if err != nil {
		return nil, err
	}
	judged := program.Judge(record)
	columns["outcome"] = string(OutcomeOf(run, judged))
	return judged, s.SaveFigures(run.ID, judged, columns)
}

// openContact is the state of a run whose unit had no contact.
const openContact = string(stage.OpenContact)

// Vain tells that a run of a state did not come to the end of its program.
func Vain(state string) bool {
	return state == string(stage.Failure) || state == string(stage.Aborted) || state == openContact
}

// OutcomeOf is the outcome of a run from how it ended and its figures. A run that failed before its limits
// could be judged is a failed unit all the same, and so is one whose contact stays open however often it is put in
// anew; before that an open contact says nothing of the unit.
func OutcomeOf(run store.Run, judged []procedure.Judged) outcome.Outcome {
	switch stage.Ending(run.State) {
	case stage.Failure:
		return outcome.Fail
	case stage.OpenContact:
		if run.ReseatsLeft > 0 {
			return outcome.Aborted
		}
		return outcome.Fail
	}
	return outcome.OfRun(run.State == string(stage.Aborted), procedure.Outcomes(judged))
}

// JudgeAgain computes the figures of a run anew, with a changed procedure or with the one that ran. It keeps nothing.
// It fails with ErrLive, or the findings of the text.
func JudgeAgain(s *store.Store, library procedure.Library, run store.Run, by string,
	j api.JudgeAgain) (store.Judgement, error) {
	out := store.Judgement{RunID: run.ID, By: by, At: s.Now(), Why: j.Why, Text: run.ProcedureText, Before: run.Outcome}
	if run.State == store.Live {
		return out, fmt.Errorf("%w: the figures of run %s are judged when it ends", ErrLive, run.ID)
	}
	before, err := s.Figures(run.ID)
	if err != nil {
		return out, err
	}
	program, record, err := Record(s, run)
	if err != nil {
		return out, err
	}
	if j.Text != "" {
		out.Text = j.Text
		_, plate, err := run.Program()
		if err != nil {
			return out, err
		}
		if program, err = catalogue.Parse([]byte(j.Text), plate, run.Parameters, library); err != nil {
			return out, err
		}
	}
	judged := program.Judge(record)
	out.Outcome = string(OutcomeOf(run, judged))
	figures, err := json.Marshal(judged)
	if err != nil {
		return out, err
	}
	changes, err := json.Marshal(changed(before, judged))
	out.Figures, out.Changes = string(figures), string(changes)
	return out, err
}

// KeepJudgement keeps a judgement beside the earlier ones of its run; with adopt its figures become those of the run.
func KeepJudgement(s *store.Store, run store.Run, j store.Judgement, adopt bool) (api.Judgement, error) {
	stored, err := s.AddJudgement(j, adopt)
	if err != nil {
		return api.Judgement{}, err
	}
	err = s.Journal(store.JournalEntry{By: j.By, Bay: run.Bay, RunID: run.ID, What: "judged again",
		Detail: strings.TrimSuffix(fmt.Sprintf("%s → %s; %s", j.Before, j.Outcome, j.Why), "; ")})
	if err != nil {
		return api.Judgement{}, err
	}
	return JudgementOf(stored, run.Serial)
}

// JudgementOf is a stored judgement as clients get it.
func JudgementOf(j store.Judgement, serial string) (api.Judgement, error) {
	out := api.Judgement{ID: j.ID, Run: j.RunID, Serial: serial, By: j.By, At: j.At, Why: j.Why, Outcome: j.Outcome,
		Before: j.Before, Changes: []string{}}
	figures, err := j.Judged()
	if err != nil {
		return out, err
	}
	out.Figures = figures
	return out, json.Unmarshal([]byte(j.Changes), &out.Changes)
}

// changed says what is different between two judgements.
func changed(before, after []procedure.Judged) []string {
	changes := []string{}
	name := func(j procedure.Judged) string { return strings.TrimSpace(j.ID + " " + j.Where) }
	earlier := map[string]procedure.Judged{}
	for _, j := range before {
		earlier[name(j)] = j
	}
	for _, j := range after {
		was, ok := earlier[name(j)]
		delete(earlier, name(j))
		switch {
		case !ok:
			changes = append(changes, name(j)+" is new: "+valueWords(j.Result)+outcomeWords(j))
		case valueWords(was.Result) != valueWords(j.Result):
			changes = append(changes, fmt.Sprintf("%s: %s → %s", name(j), valueWords(was.Result)+outcomeWords(was),
				valueWords(j.Result)+outcomeWords(j)))
		case was.Outcome != j.Outcome:
			changes = append(changes, fmt.Sprintf("%s: %s → %s", name(j), orNone(string(was.Outcome)),
				orNone(string(j.Outcome))))
		}
	}
	for _, gone := range slices.Sorted(maps.Keys(earlier)) {
		changes = append(changes, gone+" is no longer asked for")
	}
	return changes
}

func valueWords(r figure.Result) string {
	if r.Undetermined != nil {
		return "undetermined (" + r.Undetermined.Code + ")"
	}
	return quantity.Sprintf("%.6g %s", r.Value, r.Unit)
}

func outcomeWords(j procedure.Judged) string {
	if j.Outcome == "" {
		return ""
	}
	return ", " + string(j.Outcome)
}

func orNone(s string) string {
	if s == "" {
		return "no limit"
	}
	return s
}
