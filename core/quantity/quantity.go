// Package quantity turns text such as "1.5 A" into a number with a dimension and back.
//
// A [Quantity] holds its value in SI units (volts, amperes, seconds, coulombs for Ah, joules for Wh), so that
// values of one dimension can be compared and combined without thinking of prefixes. Temperatures are held in
// degrees Celsius; a kelvin is a difference of one degree, and no arithmetic here converts between the two
// scales.
package quantity

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Dimension is the product of powers of the base units, and where people tell apart what physics does not, the aspect
// under which it is meant. The zero value is a pure number.
type Dimension struct {
	Volt, Ampere, Second, Kelvin, Metre int8
	// Rate counts C-rates, which become a current only with the rated capacity of a battery.
	Rate int8
	// Gram counts masses, as of active material.
	Gram int8
	// As is the aspect.
	As Aspect
}

// Aspect tells apart quantities of one physical dimension that are written in units of their own.
type Aspect uint8

// The aspects.
const (
	Plain     Aspect = iota
	Apparent         // VA, beside W
	Reactive         // var, beside W
	Torque           // N·m, beside Wh
	Turning          // revolutions per second, beside Hz
	Angle            // degrees, beside a plain number
	Level            // dB, the logarithm of a ratio
	VoltLevel        // dBV, a level over 1 V
)

// The dimensions that have a name of their own.
var (
	Number      = Dimension{}
	Voltage     = Dimension{Volt: 1}
	Current     = Dimension{Ampere: 1}
	Power       = Dimension{Volt: 1, Ampere: 1}
	Resistance  = Dimension{Volt: 1, Ampere: -1}
	Time        = Dimension{Second: 1}
	Frequency   = Dimension{Second: -1}
	Charge      = Dimension{Ampere: 1, Second: 1}
	Energy      = Dimension{Volt: 1, Ampere: 1, Second: 1}
	Temperature = Dimension{Kelvin: 1}
	ChargeRate  = Dimension{Rate: 1}
	Mass        = Dimension{Gram: 1}

	ApparentPower = Dimension{Volt: 1, Ampere: 1, As: Apparent}
	ReactivePower = Dimension{Volt: 1, Ampere: 1, As: Reactive}
	Force         = Dimension{Volt: 1, Ampere: 1, Second: 1, Metre: -1} // 1 N = 1 V·A·s/m
	TorqueMoment  = Dimension{Volt: 1, Ampere: 1, Second: 1, As: Torque}
	Speed         = Dimension{Second: -1, As: Turning}
	PlaneAngle    = Dimension{As: Angle}
	Decibels      = Dimension{As: Level}
	DecibelVolts  = Dimension{As: VoltLevel}
	Length        = Dimension{Metre: 1}
	Area          = Dimension{Metre: 2}
	Velocity      = Dimension{Metre: 1, Second: -1}
	Irradiance    = Dimension{Volt: 1, Ampere: 1, Metre: -2} // 1 W/m²
)

var dimensionNames = map[Dimension]string{
	Number: "a plain number", Voltage: "volts", Current: "amperes", Power: "watts", Resistance: "ohms", Time: "seconds",
	Frequency: "hertz", Charge: "ampere-hours", Energy: "watt-hours", Temperature: "degrees Celsius",
	ChargeRate: "a C-rate", Mass: "grams", ApparentPower: "volt-amperes", ReactivePower: "vars", Force: "newtons",
	TorqueMoment: "newton-metres", Speed: "revolutions per second", PlaneAngle: "degrees", Decibels: "decibels",
	DecibelVolts: "decibels over 1 V", Irradiance: "watts per square metre",
	Velocity: "metres per second", Length: "metres", Area: "square metres",
}

// String names the dimension for a message: "volts", "a plain number", or the powers of the base units where it
// has no name.
func (d Dimension) String() string {
	if name, ok := dimensionNames[d]; ok {
		return name
	}
	var b strings.Builder
	for _, p := range []struct {
		symbol string
		power  int8
	}{{"V", d.Volt}, {"A", d.Ampere}, {"s", d.Second}, {"m", d.Metre}, {"K", d.Kelvin}, {"C", d.Rate}, {"g", d.Gram}} {
		if p.power == 0 {
			continue
		}
		if b.Len() > 0 {
			b.WriteString("·")
		}
		b.WriteString(p.symbol)
		if p.power != 1 {
			fmt.Fprintf(&b, "^%d", p.power)
		}
	}
	return b.String()
}

// Times is the dimension of a product. A product with a plain number keeps its aspect, any other is physics' own:
// torque times revolutions per second is power.
func (d Dimension) Times(e Dimension) Dimension {
	return Dimension{Volt: d.Volt + e.Volt, Ampere: d.Ampere + e.Ampere, Second: d.Second + e.Second,
		Kelvin: d.Kelvin + e.Kelvin, Metre: d.Metre + e.Metre, Rate: d.Rate + e.Rate, Gram: d.Gram + e.Gram,
		As: keptAspect(d, e)}
}

// Per is the dimension of a quotient. One by a plain number keeps its aspect; of watts by volt-amperes nothing is left.
func (d Dimension) Per(e Dimension) Dimension {
	q := Dimension{Volt: d.Volt - e.Volt, Ampere: d.Ampere - e.Ampere, Second: d.Second - e.Second,
		Kelvin: d.Kelvin - e.Kelvin, Metre: d.Metre - e.Metre, Rate: d.Rate - e.Rate, Gram: d.Gram - e.Gram}
	if e == Number {
		q.As = d.As
	}
	return q
}

func keptAspect(d, e Dimension) Aspect {
	switch {
	case e == Number:
		return d.As
	case d == Number:
		return e.As
	}
	return Plain
}

// Like tells whether two dimensions may be added and compared. Watts, volt-amperes and vars may: they are one in
// physics, and a product of volts and amperes may be any of them.
func (d Dimension) Like(e Dimension) bool {
	return d == e || d.power() && e.power()
}

func (d Dimension) power() bool { return d == Power || d == ApparentPower || d == ReactivePower }

// Quantity is a value in SI units with its dimension.
type Quantity struct {
	Value float64
	Dim   Dimension
}

// Of makes a quantity from a value in the given unit: Of(1.5, "mA").
// It panics on a unit that does not exist; it is for units written in the program.
func Of(value float64, unit string) Quantity {
	u, err := ParseUnit(unit)
	if err != nil {
		panic(err)
	}
	return Quantity{value * u.Factor, u.Dim}
}

// As is a level over 1 V in volts where those are asked for, an effective value, and volts above zero as a level where
// that is asked for: V = 10^(L/20 dBV). Anything else stays what it is.
func (q Quantity) As(dim Dimension) Quantity {
	switch {
	case q.Dim == DecibelVolts && dim == Voltage:
		return Quantity{math.Pow(10, q.Value/20), dim}
	case q.Dim == Voltage && dim == DecibelVolts && q.Value > 0:
		return Quantity{20 * math.Log10(q.Value), dim}
	}
	return q
}

// SyntaxError says what is wrong with a text that should be a quantity or a unit.
type SyntaxError struct {
	Input  string // the text as given, shortened if long
	Reason string // what is wrong with it, and what to write instead
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("%q: %s", e.Input, e.Reason) }

const longestInput = 60

func syntaxError(input, format string, args ...any) error {
	if len(input) > longestInput {
		cut := longestInput
		for cut > 0 && !utf8.RuneStart(input[cut]) {
			cut--
		}
		input = input[:cut] + "…"
	}
	return &SyntaxError{Input: input, Reason: fmt.Sprintf(format, args...)}
}

// Parse reads a number followed by a unit, with or without a space: "1.5 A", "36V", "−20 mV", "0.2 %", "2", "1e3 Ω".
// Hyphen and true minus sign are both accepted. A number without a unit is a pure number.
// The error is a *SyntaxError that quotes the input.
func Parse(text string) (Quantity, error) {
	s := strings.ReplaceAll(strings.TrimSpace(text), "−", "-")
	if s == "" {
		return Quantity{}, syntaxError(text, "empty; write a number and a unit, such as 12 V")
	}
	end := numberEnd(s)
	value, err := strconv.ParseFloat(s[:end], 64)
	if err != nil || math.IsInf(value, 0) {
		return Quantity{}, syntaxError(text, "does not begin with a number; write a number and a unit, such as 12 V")
	}
	symbol := strings.TrimSpace(s[end:])
	if symbol == "" {
		return Quantity{value, Number}, nil
	}
	unit, err := ParseUnit(symbol)
	if err != nil {
		return Quantity{}, syntaxError(text, "%s", err.(*SyntaxError).Reason)
	}
	value *= unit.Factor
	if math.IsInf(value, 0) {
		return Quantity{}, syntaxError(text, "is too large")
	}
	return Quantity{value, unit.Dim}, nil
}

// numberEnd is the length of the longest prefix of s that has the form of a decimal number.
// An "e" counts as an exponent only when digits follow it.
func numberEnd(s string) int {
	i := 0
	digits := func() {
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i++
		}
	}
	if i < len(s) && (s[i] == '-' || s[i] == '+') {
		i++
	}
	digits()
	if i < len(s) && s[i] == '.' {
		i++
		digits()
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		mark := i
		i++
		if i < len(s) && (s[i] == '-' || s[i] == '+') {
			i++
		}
		first := i
		digits()
		if i == first {
			i = mark
		}
	}
	return i
}
