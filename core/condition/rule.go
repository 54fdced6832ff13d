package condition

import (
	"strconv"
	"strings"
)

// Rule is a condition that the program makes of numbers, where a person would write one: comparisons that must all
// hold, for some time. It is shown, kept and compiled as its text, so that there is one meaning of a condition only.
type Rule struct {
	All []Comparison
	// For is how long they must hold without a break, s; 0: no time.
	For float64
}

// Comparison holds while a number is on one side of a level.
type Comparison struct {
	Of    Number
	Op    Op
	Level Level
}

// Number is what a comparison looks at.
type Number string

// Op is the sign of a comparison.
type Op string

// The signs that rules use.
const (
	AtLeast Op = ">="
	AtMost  Op = "<="
	Above   Op = ">"
	Below   Op = "<"
)

// Level is a value in a unit.
type Level struct {
	Value float64
	Unit  string
}

// Column is the newest reading of a column.
func Column(name string) Number { return Number(name) }

// Neg is a number with the other sign.
func Neg(n Number) Number { return "-" + n }

// Mean is that of a number over the last seconds.
func Mean(n Number, over float64) Number { return call("mean", n, over) }

// Rate is how fast a number has changed over the last seconds, a second.
func Rate(n Number, over float64) Number { return call("rate", n, over) }

// Drop is how far a number lies below the highest that it has been since so many seconds of the stage had passed.
func Drop(n Number, from float64) Number { return call("drop", n, from) }

// Gain is how far a number lies above its mean over the first seconds of the stage.
func Gain(n Number, over float64) Number { return call("gain", n, over) }

func call(word string, n Number, over float64) Number {
	return Number(word + "(" + string(n) + ", " + seconds(over) + ")")
}

// Holds is the rule of one comparison.
func Holds(of Number, op Op, level float64, unit string) Rule {
	return Rule{All: []Comparison{{of, op, Level{level, unit}}}}
}

// And is the rule that another comparison must hold as well.
func (r Rule) And(of Number, op Op, level float64, unit string) Rule {
	all := make([]Comparison, 0, len(r.All)+1)
	return Rule{append(append(all, r.All...), Comparison{of, op, Level{level, unit}}), r.For}
}

// Lasting is the rule that must hold for so many seconds.
func (r Rule) Lasting(s float64) Rule { return Rule{r.All, s} }

// String writes the rule in the language of conditions; empty for the rule without comparisons.
func (r Rule) String() string {
	parts := make([]string, len(r.All))
	for i, c := range r.All {
		parts[i] = string(c.Of) + " " + string(c.Op) + " " + c.Level.String()
	}
	text := strings.Join(parts, " and ")
	switch {
	case r.For <= 0:
		return text
	case len(parts) > 1:
		return "(" + text + ") for " + seconds(r.For)
	}
	return text + " for " + seconds(r.For)
}

// String writes the value with its unit; digits beyond what an instrument resolves are left out.
func (l Level) String() string {
	text := strings.TrimRight(strings.TrimRight(strconv.FormatFloat(l.Value, 'f', 9, 64), "0"), ".")
	return text + " " + l.Unit
}

// seconds writes a time as people do: 500 ms, 10 s, 5 min.
func seconds(s float64) string {
	switch {
	case s < 1:
		return Level{s * 1000, "ms"}.String()
	case s >= 300 && s == float64(int(s/60))*60:
		return Level{s / 60, "min"}.String()
	}
	return Level{s, "s"}.String()
}
