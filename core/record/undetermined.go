package record

import (
	"errors"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// Undetermined is the reason why a figure has no value.
type Undetermined struct {
	Code     string `json:"code"`
	Sentence string `json:"sentence"`
	// Known is what can be said all the same; often empty.
	Known string `json:"known,omitempty"`
	// AtLeast and AtMost bound the figure, in its unit, where that much is known: a limit may be judged by them.
	AtLeast *float64 `json:"atLeast,omitempty"`
	AtMost  *float64 `json:"atMost,omitempty"`
}

// Least says that a figure is at least so much, in its unit, with the words for people.
func (u *Undetermined) Least(x float64, unit string) *Undetermined {
	u.AtLeast, u.Known = &x, quantity.Sprintf("≥ %.5g %s", x, unit)
	return u
}

// Most says that a figure is at most so much, in its unit, with the words for people.
func (u *Undetermined) Most(x float64, unit string) *Undetermined {
	u.AtMost, u.Known = &x, quantity.Sprintf("≤ %.5g %s", x, unit)
	return u
}

// Between says between which values a figure lies, in its unit.
func (u *Undetermined) Between(a, b float64, unit string) *Undetermined {
	a, b = min(a, b), max(a, b)
	u.AtLeast, u.AtMost, u.Known = &a, &b, quantity.Sprintf("%.5g to %.5g %s", a, b, unit)
	return u
}

func (u *Undetermined) Error() string { return u.Code + ": " + u.Sentence }

// The codes of what keeps a figure from being known.
const (
	NoData          = "no-data"
	TooFew          = "too-few"
	IsMissing       = "missing"
	Gap             = "gap"
	TimeOrder       = "time-order"
	NoPoint         = "no-point"
	NoMark          = "no-mark"
	NoRating        = "no-rating"
	NotSettled      = "not-settled"
	ZeroDivisor     = "zero-divisor"
	BelowFloor      = "below-floor"
	Limited         = "limited"
	WrongConditions = "wrong-conditions"
	Implausible     = "implausible"
	Ambiguous       = "ambiguous"
	NotReached      = "not-reached"
	AlreadyBeyond   = "already-beyond" // past the level at the start
	WrongSign       = "wrong-sign"
	NotFound        = "not-found"
	Clipped         = "clipped"
	TooUncertain    = "too-uncertain" // there is a value, but its U is too large for what it is used for
)

// Because makes the reason why a figure has no value.
func Because(code, format string, args ...any) *Undetermined {
	return &Undetermined{Code: code, Sentence: quantity.Sprintf(format, args...)}
}

// ReasonOf is the reason that an error is, or no data with its words.
func ReasonOf(err error) *Undetermined {
	var why *Undetermined
	if errors.As(err, &why) {
		return why
	}
	return Because(NoData, "%s", err)
}

// CodeOf gives an error of the trace package the code of an undetermined figure.
func CodeOf(err error, column string) error {
	for _, c := range []struct {
		err  error
		code string
	}{{trace.ErrNoData, NoData}, {trace.ErrTooFew, TooFew}, {trace.ErrMissing, IsMissing}, {trace.ErrOrder, TimeOrder}} {
		if errors.Is(err, c.err) {
			return Because(c.code, "%s: %s", column, err)
		}
	}
	return err
}

// AddRemark adds a remark that is not there yet.
func AddRemark(remarks []string, remark string) []string {
	if slices.Contains(remarks, remark) {
		return remarks
	}
	return append(remarks, remark)
}
