package procedure

import (
	"fmt"
	"math"
	"strings"

	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
)

// Draft reads a procedure that may still have mistakes: the program as far as it could be read, for people to
// look at, and everything that is wrong with it. The program of a draft with findings must not be executed.
func Draft(text []byte, plate *nameplate.Nameplate, values map[string]string, library Library) (*Program,
	document.Findings) {
	doc, err := document.Parse(text)
	if err != nil {
		findings, _ := err.(document.Findings)
		return &Program{}, findings
	}
	r := newReader(plate, values, library)
	r.read(doc.Root())
	return r.p, doc.Findings()
}

// Words says in a few words what a stage does.
func (s Stage) Words() string {
	words := actionWords(s.Action)
	if s.Until != "" {
		words += ", until " + s.Until
	}
	if s.Within > 0 {
		words += ", within " + span(s.Within)
	}
	return strings.TrimPrefix(words, ", ")
}

func actionWords(a Action) string {
	switch a := a.(type) {
	case *Set:
		return settingWords(a.Settings)
	case *Hold:
		return holdWords(*a)
	case *Rest:
		return "outputs off, " + holdWords(a.Hold)
	case *Watch:
		if a.For == 0 {
			return "recorded only"
		}
		return "recorded only, for " + span(a.For)
	case *Grid:
		var axes []string
		for _, x := range a.Axes {
			kind, _ := quantity.KindOf(x.Quantity)
			axes = append(axes, fmt.Sprintf("%s %s to %s", x.Column(), show(x.Values[0], kind.Unit.Dim),
				show(x.Values[len(x.Values)-1], kind.Unit.Dim)))
		}
		return fmt.Sprintf("%d points: %s", a.Places(), strings.Join(axes, " by "))
	case *Play:
		var columns []string
		for _, t := range a.Tracks {
			columns = append(columns, t.Column())
		}
		words := strings.Join(columns, ", ") + " for " + span(a.Once())
		if a.Times > 1 {
			words += fmt.Sprintf(", %d times", a.Times)
		}
		return words
	case *Seek:
		kind, _ := quantity.KindOf(a.Quantity)
		return fmt.Sprintf("%s from %s to %s until %s", a.Column(), show(a.From, kind.Unit.Dim), show(a.To, kind.Unit.Dim),
			a.Until)
	case *Acquire:
		return fmt.Sprintf("row %q, %d × %s", a.Row, a.Times, span(a.Average))
	case *Ask:
		return string(a.Form) + ": " + a.Prompt
	case *Signal:
		return a.Message
	case *Drive:
		var ends []string
		for _, e := range a.Ends {
			ends = append(ends, e.Word)
		}
		return settingWords(a.Settings) + ", until " + strings.Join(ends, " or ")
	case *Repeat:
		if len(a.Enough) > 0 {
			var ends []string
			for _, b := range a.Enough {
				ends = append(ends, b.words())
			}
			return fmt.Sprintf("%d times, or until %s", a.Times, strings.Join(ends, " or "))
		}
		if a.Until != "" {
			return fmt.Sprintf("%d times, or until %s", a.Times, a.Until)
		}
		return fmt.Sprintf("%d times", a.Times)
	case *When:
		if a.Figure != nil {
			return "depends on " + a.Figure.ID
		}
		return a.If
	}
	return ""
}

func holdWords(h Hold) string {
	switch {
	case h.Stable != nil:
		return "until " + h.Stable.Column + " is stable"
	case h.For > 0:
		return "for " + span(h.For)
	}
	return ""
}

func settingWords(settings []Setting) string {
	var words []string
	for _, s := range settings {
		words = append(words, s.String())
	}
	return strings.Join(words, ", ")
}

func show(x float64, dim quantity.Dimension) string {
	return quantity.Quantity{Value: x, Dim: dim}.Format(4)
}

// span shows a time in the unit that people would use.
func span(s float64) string {
	switch {
	case s >= 2*3600:
		return fmt.Sprintf("%.4g h", s/3600)
	case s >= 120:
		return fmt.Sprintf("%.4g min", s/60)
	}
	return show(s, quantity.Time)
}

// words says which figure is to lie where: "capacity ≥ 9.3 Ah".
func (b Band) words() string {
	definition, _ := figure.Lookup(b.Figure.ID)
	words := b.Figure.ID
	if !math.IsInf(b.Min, 0) {
		words += fmt.Sprintf(" ≥ %.4g %s", b.Min, definition.Unit)
	}
	if !math.IsInf(b.Max, 0) {
		words += fmt.Sprintf(" ≤ %.4g %s", b.Max, definition.Unit)
	}
	return words
}
