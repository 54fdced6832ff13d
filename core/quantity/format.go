package quantity

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Minus is the true minus sign, which is as wide as a digit.
const Minus = "−"

var displaySymbols = map[Dimension]string{
	Voltage: "V", Current: "A", Power: "W", Resistance: "Ω", Time: "s", Frequency: "Hz", Charge: "Ah", Energy: "Wh",
	Temperature: "°C", ChargeRate: "C", ApparentPower: "VA", ReactivePower: "var", Force: "N", TorqueMoment: "N·m",
	Speed: "r/s", PlaneAngle: "°", Decibels: "dB", DecibelVolts: "dBV", Irradiance: "W/m²", Velocity: "m/s",
	Length: "m", Area: "mm²",
}

// unprefixed are the dimensions that are shown without an engineering prefix.
var unprefixed = map[Dimension]bool{
	Number: true, Temperature: true, ChargeRate: true, Speed: true, PlaneAngle: true, Decibels: true, DecibelVolts: true,
	Irradiance: true, Area: true,
}

var steps = []struct {
	factor float64
	prefix string
}{{1e9, "G"}, {1e6, "M"}, {1e3, "k"}, {1, ""}, {1e-3, "m"}, {1e-6, "µ"}, {1e-9, "n"}, {1e-12, "p"}}

// String shows the quantity with up to six significant digits and an engineering prefix: "1.5 A", "−9 mV", "2.4 Ah".
func (q Quantity) String() string { return q.Format(6) }

// Format shows the quantity with at most the given number of significant digits, an engineering prefix and a
// true minus sign. Trailing zeros are dropped. Durations of two minutes and more are shown in min and h.
func (q Quantity) Format(digits int) string { return string(q.Append(nil, digits)) }

// Append adds what Format returns to dst.
func (q Quantity) Append(dst []byte, digits int) []byte {
	symbol, known := displaySymbols[q.Dim]
	value := q.Value
	switch {
	case math.IsNaN(value) || math.IsInf(value, 0):
		return append(dst, "—"...)
	case q.Dim == Time && math.Abs(value) >= 7200:
		value, symbol = value/3600, "h"
		return appendNumber(dst, value, digits, "", symbol)
	case q.Dim == Time && math.Abs(value) >= 120:
		value, symbol = value/60, "min"
		return appendNumber(dst, value, digits, "", symbol)
	case q.Dim == Area: // of a wire
		return appendNumber(dst, 1e6*value, digits, "", symbol)
	case q.Dim == Charge || q.Dim == Energy:
		value /= 3600
	case unprefixed[q.Dim]:
		return appendNumber(dst, value, digits, "", symbol)
	case !known:
		if symbol = rateSymbol(q.Dim); symbol == "" {
			return appendNumber(dst, value, digits, "", q.Dim.String())
		}
	}
	value, prefix := scale(value, digits)
	return appendNumber(dst, value, digits, prefix, symbol)
}

// rateSymbol is the symbol of something per second, "V/s"; empty if the dimension is none.
func rateSymbol(d Dimension) string {
	d.Second++
	if d == Temperature {
		return "K/s"
	}
	if symbol, known := displaySymbols[d]; known && d != Time && d != Charge && d != Energy {
		return symbol + "/s"
	}
	return ""
}

// scale chooses the engineering prefix under which the rounded value lies between 1 and 999.
func scale(value float64, digits int) (float64, string) {
	if value == 0 {
		return 0, ""
	}
	for _, s := range steps {
		scaled := value / s.factor
		if math.Abs(roundTo(scaled, digits)) >= 1 {
			return scaled, s.prefix
		}
	}
	last := steps[len(steps)-1]
	return value / last.factor, last.prefix
}

func roundTo(value float64, digits int) float64 {
	r, _ := strconv.ParseFloat(strconv.FormatFloat(value, 'g', digits, 64), 64)
	return r
}

func appendNumber(dst []byte, value float64, digits int, prefix, symbol string) []byte {
	text := strconv.FormatFloat(roundTo(value, digits), 'f', -1, 64)
	if rest, negative := strings.CutPrefix(text, "-"); negative {
		if rest == "0" {
			text = rest
		} else {
			text = Minus + rest
		}
	}
	dst = append(dst, text...)
	if prefix+symbol != "" {
		dst = append(dst, ' ')
		dst = append(dst, prefix...)
		dst = append(dst, symbol...)
	}
	return dst
}

// Fixed shows a value in a unit with a fixed number of decimals and a true minus sign, for readouts that must not jump.
// A missing value is a dash.
func Fixed(value float64, decimals int) string {
	if math.IsNaN(value) || math.IsInf(value, 0) {
		return "—"
	}
	text := strconv.FormatFloat(value, 'f', decimals, 64)
	if rest, negative := strings.CutPrefix(text, "-"); negative {
		if strings.Trim(rest, "0.") == "" {
			return rest
		}
		return Minus + rest
	}
	return text
}

// Decimals is the number of decimals at which an expanded uncertainty shows two significant digits, 0 … 9.
// Without an uncertainty (zero, negative or not a number) it is the given fallback.
func Decimals(expanded float64, fallback int) int {
	if !(expanded > 0) || math.IsInf(expanded, 0) {
		return fallback
	}
	rounded := roundTo(expanded, 2)
	return min(max(1-int(math.Floor(math.Log10(rounded))), 0), 9)
}

// Digits shows a number with so many significant digits, without an exponent, for texts that are written once.
func Digits(x float64, digits int) string {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return "—"
	}
	return string(appendNumber(nil, x, digits, "", ""))
}

// Sprintf is fmt.Sprintf for what people read: a number that is asked for with so many significant digits (%.3g) is
// told without an exponent and with a true minus sign, "110" and not "1.1e+02".
func Sprintf(format string, args ...any) string {
	told := make([]any, len(args))
	for i, arg := range args {
		if told[i] = arg; arg != nil {
			if x, isNumber := arg.(float64); isNumber {
				told[i] = number(x)
			}
		}
	}
	return fmt.Sprintf(format, told...)
}

type number float64

// Format implements fmt.Formatter.
func (x number) Format(s fmt.State, verb rune) {
	if digits, asked := s.Precision(); asked && verb == 'g' {
		text := Digits(float64(x), digits)
		if s.Flag('+') && x > 0 {
			text = "+" + text
		}
		width, _ := s.Width()
		fmt.Fprintf(s, "%*s", width, text)
		return
	}
	fmt.Fprintf(s, fmt.FormatString(s, verb), float64(x))
}

// Uncertain words a value with its expanded uncertainty: two digits of it, and the value to the same place. Without an
// uncertainty nobody knows how many digits count: then there are five.
func Uncertain(x, u float64, unit string) string {
	if u <= 0 {
		return Sprintf("%.5g %s", x, unit)
	}
	d := Decimals(u, 4)
	return fmt.Sprintf("%s ± %s %s", Fixed(x, d), Fixed(u, d), unit)
}

// Readable is the unit with the prefix in which a small time, voltage, current, charge or energy, or a large
// resistance, frequency or slew, is read best, and by what a value in the unit itself is divided. Whatever else stays
// in the unit that it is always in.
func Readable(unit string, x float64) (scale float64, prefixed string) {
	size := math.Abs(x)
	switch {
	case size == 0:
	case size < 0.1 && slices.Contains([]string{"s", "V", "A", "Ah", "Wh"}, unit):
		for _, p := range []struct {
			scale float64
			sign  string
		}{{1e-3, "m"}, {1e-6, "µ"}, {1e-9, "n"}, {1e-12, "p"}} {
			if size >= p.scale || p.sign == "p" {
				return p.scale, p.sign + unit
			}
		}
	case unit == "Ω" && size >= 1e9:
		return 1e9, "GΩ"
	case unit == "Ω" && size >= 1e6:
		return 1e6, "MΩ"
	case (unit == "Hz" || unit == "V/s") && size >= 1e6:
		return 1e6, "M" + unit
	case (unit == "Hz" || unit == "V/s") && size >= 1e4:
		return 1e3, "k" + unit
	}
	return 1, unit
}
