package report

import (
	"fmt"
	"math"
	"time"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
)

// Value words a figure: "93.31 ± 0.13 %", with two digits of uncertainty and the value to the same place.
func Value(f procedure.Judged) string {
	if f.Undetermined != nil {
		return "undetermined"
	}
	if f.Text != "" {
		if f.ID == "termination" {
			return fmt.Sprintf("%s after %s", f.Text, Seconds(f.Value))
		}
		return fmt.Sprintf("%s %s, %s", quantity.Fixed(f.Value, 2), f.Unit, f.Text)
	}
	if f.Unit == "cycles" {
		return quantity.Sprintf("%.4g cycles", f.Value)
	}
	return Uncertain(f.Value, f.U, f.Unit)
}

// Uncertain words a value with its expanded uncertainty, two digits of it and the value to the same place. Without an
// uncertainty nobody knows how many digits count: then there are five.
func Uncertain(x, u float64, unit string) string {
	scale, prefixed := quantity.Readable(unit, x)
	x, u = x/scale, u/scale
	return quantity.Uncertain(x, u, prefixed)
}

// Side words a figure of one of two runs that are held against each other.
func Side(s api.OverlaySide, unit string) string {
	switch {
	case s.Value == nil && s.Why == "":
		return "—"
	case s.Value == nil:
		return s.Why
	case s.Text != "":
		return s.Text
	case s.U == nil:
		return Uncertain(*s.Value, 0, unit)
	}
	return Uncertain(*s.Value, *s.U, unit)
}

// Apart words the difference of two runs in one figure, with its sign; a dot before it says that it is a true one.
func Apart(p api.OverlayPair) string {
	sign := "○ "
	if p.Differs {
		sign = "● "
	}
	switch {
	case p.Difference == nil && p.Differs:
		return sign + "not the same"
	case p.Difference == nil:
		return "—"
	}
	u := 0.0
	if p.U != nil {
		u = *p.U
	}
	words := Uncertain(*p.Difference, u, p.Unit)
	if *p.Difference > 0 {
		words = "+" + words
	}
	return sign + words
}

// Sides are the serial numbers of the two runs of an overlay whose figures stand side by side.
func Sides(o api.Overlay) (first, second string) {
	first, second = "first", "second"
	for _, c := range o.Curves {
		if c.Run == o.Curves[0].Run {
			first = c.Serial
		} else {
			second = c.Serial
		}
	}
	return first, second
}

// Limit words the limit of a figure: "≥ 93 %", "≤ 0.5 % (marginal from 0.4)", "14.85 … 15.15 V"; "—"
// without one.
func Limit(f procedure.Judged) string {
	most := 0.0
	for _, bound := range []*float64{f.Min, f.Max} {
		if bound != nil {
			most = math.Max(most, math.Abs(*bound))
		}
	}
	scale, prefixed := quantity.Readable(f.Unit, most)
	short, unit := func(x float64) string { return quantity.Quantity{Value: x / scale}.Format(6) }, " "+prefixed
	// Nobody reads it in seconds
	if f.Unit == "s" && (f.Max != nil && *f.Max >= 120 || f.Max == nil && f.Min != nil && *f.Min >= 120) {
		short, unit = Seconds, ""
	}
	var text string
	switch {
	case f.Min == nil && f.Max == nil:
		return "—"
	case f.Min == nil:
		text = "≤ " + short(*f.Max) + unit
		if f.Marginal > 0 {
			text += fmt.Sprintf(" (marginal above %s)", short(*f.Max-f.Marginal))
		}
	case f.Max == nil:
		text = "≥ " + short(*f.Min) + unit
		if f.Marginal > 0 {
			text += fmt.Sprintf(" (marginal below %s)", short(*f.Min+f.Marginal))
		}
	default:
		text = short(*f.Min) + " … " + short(*f.Max) + unit
	}
	return text
}

// Sign is the shape that goes with an outcome, so that colour is never the only sign.
func Sign(o string) string {
	switch outcome.Outcome(o) {
	case outcome.Pass:
		return "●"
	case outcome.Marginal:
		return "▲"
	case outcome.Fail:
		return "■"
	case outcome.Aborted:
		return "×"
	case outcome.Undetermined:
		return "?"
	}
	return "○"
}

// Seconds words a time in a run: "12.35 s", "2 min 03 s", "1 h 20 min".
func Seconds(s float64) string {
	switch whole := int(math.Round(s)); {
	case s < 0 || math.IsNaN(s):
		return "—"
	case s < 60:
		return fmt.Sprintf("%.2f s", s)
	case whole < 3600:
		return fmt.Sprintf("%d min %02d s", whole/60, whole%60)
	default:
		return fmt.Sprintf("%d h %02d min", whole/3600, whole%3600/60)
	}
}

// moment words a time of day in the report, with its zone.
func moment(t *time.Time) string {
	if t == nil {
		return "—"
	}
	return t.Format("2006-01-02 15:04:05 MST")
}
