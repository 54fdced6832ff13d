package procedure

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/quantity"
	"usherbench/core/record"
)

// Judged is a figure with its limit and what came of it.
type Judged struct {
	figure.Result
	Title string `json:"title"`
	// Where words the place or stage of the figure.
	Where string `json:"where,omitempty"`
	// Min, Max and Marginal are the limit in the figure's unit; nil: open.
	Min      *float64        `json:"min,omitempty"`
	Max      *float64        `json:"max,omitempty"`
	Marginal float64         `json:"marginal,omitempty"`
	Rule     outcome.Rule    `json:"rule,omitempty"`
	Outcome  outcome.Outcome `json:"outcome,omitempty"`
	Version  int             `json:"version"`
}

// MarshalJSON implements json.Marshaler: the figure, then how it was judged.
func (j Judged) MarshalJSON() ([]byte, error) {
	result, err := json.Marshal(j.Result)
	if err != nil {
		return nil, err
	}
	verdict, err := json.Marshal(struct {
		Title    string          `json:"title"`
		Where    string          `json:"where,omitempty"`
		Min      *float64        `json:"min,omitempty"`
		Max      *float64        `json:"max,omitempty"`
		Marginal float64         `json:"marginal,omitempty"`
		Rule     outcome.Rule    `json:"rule,omitempty"`
		Outcome  outcome.Outcome `json:"outcome,omitempty"`
		Version  int             `json:"version"`
	}{j.Title, j.Where, j.Min, j.Max, j.Marginal, j.Rule, j.Outcome, j.Version})
	if err != nil {
		return nil, err
	}
	return slices.Concat(result[:len(result)-1], []byte{','}, verdict[1:]), nil
}

// Judge computes every figure that the program asks for from the record and judges it against its limit. A
// figure without a limit has no outcome.
func (p *Program) Judge(rec *record.Record) []Judged {
	judged := make([]Judged, 0, len(p.Figures))
	for _, f := range p.asked(rec) {
		j := Judged{Result: f.Compute(rec), Title: f.Definition.Title, Version: figure.Version}
		var where []string
		for _, w := range []string{j.Request.Where(), f.Stage} {
			if w != "" {
				where = append(where, w)
			}
		}
		if f.Pass > 0 {
			where = append(where, fmt.Sprintf("pass %d", f.Pass))
		}
		j.Where = strings.Join(where, ", ")
		for _, missed := range rec.MissedBeside(f.Stage, f.Row, j.At) {
			j.Remarks = record.AddRemark(j.Remarks, "beside a gap: "+missed.Words())
		}
		if f.Limit != nil {
			j.judge(*f.Limit)
		}
		judged = append(judged, j)
	}
	return judged
}

// asked are the figures that the program asks for of a record: one of each contract stands for every contract that the
// unit offered, so that one which it did not keep is not forgotten.
func (p *Program) asked(rec *record.Record) (all []FigureRequest) {
	if !slices.ContainsFunc(p.Figures, func(f FigureRequest) bool { return f.EachContract }) {
		return p.Figures
	}
	contracts := rec.Contracts()
	for _, f := range p.Figures {
		if !f.EachContract || len(contracts) == 0 {
			all = append(all, f)
			continue
		}
		for _, k := range contracts {
			one := f
			one.At = figure.With(maps.Clone(f.At), record.ContractColumn, float64(k))
			all = append(all, one)
		}
	}
	return all
}

func (j *Judged) judge(l outcome.Limit) {
	if !math.IsInf(l.Min, 0) {
		j.Min = &l.Min
	}
	if !math.IsInf(l.Max, 0) {
		j.Max = &l.Max
	}
	j.Marginal, j.Rule = l.Marginal, l.Rule
	if u := j.Undetermined; u != nil {
		least, most := math.Inf(-1), math.Inf(1)
		if u.AtLeast != nil {
			least = *u.AtLeast
		}
		if u.AtMost != nil {
			most = *u.AtMost
		}
		j.Outcome = l.JudgeBounds(least, most)
		return
	}
	if j.Permitted > 0 && !(j.U > 0 && j.U <= j.Permitted) {
		j.Outcome = outcome.Undetermined
		j.Remarks = record.AddRemark(j.Remarks, quantity.Sprintf("%s: U is %.4g %s, and at most %.4g %s are permitted",
			record.TooUncertain, j.U, j.Unit, j.Permitted, j.Unit))
		return
	}
	j.Outcome = l.Judge(j.Value, j.U)
}

// Outcomes lists the outcomes of the judged figures.
func Outcomes(judged []Judged) []outcome.Outcome {
	var all []outcome.Outcome
	for _, j := range judged {
		if j.Outcome != outcome.None {
			all = append(all, j.Outcome)
		}
	}
	return all
}
