package procedure

import (
	"fmt"
	"math"
	"strings"

	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
)

// Draft reads a procedure that may still have mistakes: the program as far as it could be read, for people to
// look at, and everything that is wrong with it. The program of a draft with findings must not be executed.
func (l Language) Draft(text []byte, plate *nameplate.Nameplate, values map[string]string, library Library) (*Program,
	document.Findings) {
	doc, err := document.Parse(text)
	if err != nil {
		findings, _ := err.(document.Findings)
		return &Program{}, findings
	}
	r := newReader(l, plate, values, library)
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
		words += ", within " + SpanWords(s.Within)
	}
	return strings.TrimPrefix(words, ", ")
}

func actionWords(a Action) string {
	if w, ok := a.(Worded); ok {
		return w.Words()
	}
	return ""
}

// Words implements Worded.
func (a *Repeat) Words() string {
	switch {
	case len(a.Enough) > 0:
		var ends []string
		for _, b := range a.Enough {
			ends = append(ends, b.Words())
		}
		return fmt.Sprintf("%d times, or until %s", a.Times, strings.Join(ends, " or "))
	case a.Until != "":
		return fmt.Sprintf("%d times, or until %s", a.Times, a.Until)
	}
	return fmt.Sprintf("%d times", a.Times)
}

// Words implements Worded.
func (a *When) Words() string {
	if a.Figure != nil {
		return "depends on " + a.Figure.ID
	}
	return a.If
}

// SettingWords says what is set: "source.volts = 48 V, load.mode = current".
func SettingWords(settings []Setting) string {
	var words []string
	for _, s := range settings {
		words = append(words, s.String())
	}
	return strings.Join(words, ", ")
}

// Show words a value with four digits.
func Show(x float64, dim quantity.Dimension) string {
	return quantity.Quantity{Value: x, Dim: dim}.Format(4)
}

// SpanWords shows a time in the unit that people would use.
func SpanWords(s float64) string {
	switch {
	case s >= 2*3600:
		return quantity.Sprintf("%.4g h", s/3600)
	case s >= 120:
		return quantity.Sprintf("%.4g min", s/60)
	}
	return Show(s, quantity.Time)
}

// Words say which figure is to lie where: "capacity ≥ 9.3 Ah".
func (b Band) Words() string {
	words, unit := b.Figure.ID, b.Figure.Definition.UnitOf(b.Figure.Request)
	if !math.IsInf(b.Min, 0) {
		words += quantity.Sprintf(" ≥ %.4g %s", b.Min, unit)
	}
	if !math.IsInf(b.Max, 0) {
		words += quantity.Sprintf(" ≤ %.4g %s", b.Max, unit)
	}
	return words
}
