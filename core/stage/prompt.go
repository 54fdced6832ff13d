package stage

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/quantity"
)

// Prompt is a question to the operator.
type Prompt struct {
	Form AskForm `json:"form"`
	Text string  `json:"prompt"`         // what is asked
	Into string  `json:"into,omitempty"` // name of the answer
	Unit string  `json:"unit,omitempty"`
	// Picture is the name of one that the operator sees beside it.
	Picture string   `json:"picture,omitempty"`
	Choice  []string `json:"choice,omitempty"`
	// Min and Max bound a number, in Unit; nil: open.
	Min *float64 `json:"min,omitempty"`
	Max *float64 `json:"max,omitempty"`
	// Take is what a reading would take that a person is to take.
	Take Taking `json:"take,omitzero"`
}

// Taking is a row into which a person takes readings, one after the other, until it is said that it is done.
type Taking struct {
	Row string `json:"row"`
	// Columns are what a reading takes; none: everything.
	Columns []string `json:"columns,omitempty"`
	// Taken is how many there are by now, Least how many there must be.
	Taken int `json:"taken"`
	Least int `json:"least"`
	// Limits say what of a reading is good, by column, each in the unit of that.
	Limits map[string]TakeLimit `json:"limits,omitempty"`
}

// TakeLimit is what a reading is to be; marginal is the band inside the limit in which it is neither good nor bad.
type TakeLimit struct {
	Min      *float64 `json:"min,omitempty"`
	Max      *float64 `json:"max,omitempty"`
	Marginal float64  `json:"marginal,omitempty"`
}

// What a person says who takes readings.
const (
	TakeOne  = "take"
	TakeDone = "done"
)

// AskForm is what kind of answer is wanted.
type AskForm string

// The forms of prompts.
const (
	AskConfirm AskForm = "confirm"
	AskNumber  AskForm = "number"
	AskText    AskForm = "text"
	AskChoice  AskForm = "choice"
	AskSerial  AskForm = "serial"
	// AskPicture wants a picture joined to the run; the answer is the number of the attachment.
	AskPicture AskForm = "picture"
	// AskTake has a person take readings: take, and when there are enough, done.
	AskTake AskForm = "take"
)

// AnswerUnit is the unit of a number that is asked for.
func (a *Prompt) AnswerUnit() (quantity.Unit, error) {
	if a.Unit == "" {
		return quantity.Unit{Factor: 1}, nil
	}
	return quantity.ParseUnit(a.Unit)
}

// Prompting actions ask the operator.
type Prompting interface{ Prompting() *Prompt }

func (m *Machine) onAnswer(e Answered) []Effect {
	r, ok := m.runner().(Answering)
	if !ok || m.state.Finished {
		return nil
	}
	m.state.Now = math.Max(m.state.Now, e.T)
	return m.follow(r.Answered(m, e))
}

// Asking is the prompt that waits for an answer; nil if there is none.
func (m *Machine) Asking() *Prompt {
	if m.state.Finished || m.state.Stage < 0 {
		return nil
	}
	if r, ok := m.runner().(Prompting); ok { // it asks only now and then
		return r.Prompting()
	}
	if a, ok := m.program.Stages[m.state.Stage].Action.(Prompting); ok {
		return a.Prompting()
	}
	return nil
}

// CheckAnswer tells whether a text answers the present prompt, and what is wrong with it otherwise.
func (m *Machine) CheckAnswer(text string) error {
	a := m.Asking()
	if a == nil {
		return fmt.Errorf("nothing is asked now")
	}
	_, err := AnswerOf(a, text)
	return err
}

// answerOf reads an answer; of a number its value in SI.
func AnswerOf(a *Prompt, text string) (float64, error) {
	text = strings.TrimSpace(text)
	switch a.Form {
	case AskConfirm:
		if text != "yes" && text != "no" {
			return 0, fmt.Errorf("%q does not answer it; say yes or no", text)
		}
	case AskChoice:
		if !slices.Contains(a.Choice, text) {
			return 0, fmt.Errorf("%q is not among the choices: %s", text, strings.Join(a.Choice, ", "))
		}
	case AskText, AskSerial:
		if text == "" {
			return 0, fmt.Errorf("the answer is empty")
		}
	case AskNumber:
		return numberOf(a, text)
	case AskTake:
		switch {
		case text == TakeDone && a.Take.Taken < a.Take.Least:
			return 0, fmt.Errorf("%d of %d readings were taken into %s; take the others first", a.Take.Taken, a.Take.Least,
				a.Take.Row)
		case text != TakeOne && text != TakeDone:
			return 0, fmt.Errorf("%q does not answer it; say take, or done", text)
		}
	case AskPicture:
		if n, err := strconv.Atoi(text); err != nil || n < 1 {
			return 0, fmt.Errorf("%q is not the number of an attachment; join a picture to the run, and answer with its number",
				text)
		}
	}
	return 0, nil
}

func numberOf(a *Prompt, text string) (float64, error) {
	unit, err := a.AnswerUnit()
	if err != nil {
		return 0, err
	}
	x, err := strconv.ParseFloat(strings.ReplaceAll(text, "−", "-"), 64)
	if err == nil {
		x *= unit.Factor
	} else {
		q, qerr := quantity.Parse(text)
		if q = q.As(unit.Dim); qerr != nil || q.Dim != unit.Dim {
			return 0, fmt.Errorf("%q is not a number in %s", text, a.Unit)
		}
		x = q.Value
	}
	shown := x / unit.Factor
	if math.IsNaN(x) || math.IsInf(x, 0) || a.Min != nil && shown < *a.Min || a.Max != nil && shown > *a.Max {
		return 0, fmt.Errorf("%g %s is outside %s", shown, a.Unit, boundsOf(a))
	}
	return x, nil
}

func boundsOf(a *Prompt) string {
	switch {
	case a.Min != nil && a.Max != nil:
		return fmt.Sprintf("%g to %g %s", *a.Min, *a.Max, a.Unit)
	case a.Min != nil:
		return fmt.Sprintf("from %g %s", *a.Min, a.Unit)
	case a.Max != nil:
		return fmt.Sprintf("up to %g %s", *a.Max, a.Unit)
	}
	return "what is possible"
}
