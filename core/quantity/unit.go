package quantity

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Unit is a symbol with its dimension and the factor that turns a value in it into SI.
type Unit struct {
	Symbol string
	Dim    Dimension
	Factor float64
}

type baseUnit struct {
	dim      Dimension
	factor   float64
	prefixed bool
}

var baseUnits = map[string]baseUnit{
	"V": {Voltage, 1, true}, "A": {Current, 1, true}, "W": {Power, 1, true},
	"Ω": {Resistance, 1, true}, "ohm": {Resistance, 1, true},
	"s": {Time, 1, true}, "min": {Time, 60, false}, "h": {Time, 3600, false}, "d": {Time, 86400, false},
	"Hz": {Frequency, 1, true},
	"Ah": {Charge, 3600, true}, "Wh": {Energy, 3600, true}, "J": {Energy, 1, true},
	"°C": {Temperature, 1, false}, "K": {Temperature, 1, true},
	"%": {Number, 0.01, false}, "ppm": {Number, 1e-6, false},
	"C": {ChargeRate, 1, false}, "g": {Mass, 1e-3, true},
	"VA": {ApparentPower, 1, true}, "var": {ReactivePower, 1, true},
	"N": {Force, 1, true}, "N·m": {TorqueMoment, 1, true}, "Nm": {TorqueMoment, 1, true},
	"r/s": {Speed, 1, false}, "r/min": {Speed, 1.0 / 60, false}, "rpm": {Speed, 1.0 / 60, false},
	"°": {PlaneAngle, 1, false}, "deg": {PlaneAngle, 1, false},
	"dB": {Decibels, 1, false}, "dBV": {DecibelVolts, 1, false},
	"m": {Length, 1, false}, "cm": {Length, 1e-2, false}, "mm": {Length, 1e-3, false},
	"m²": {Area, 1, false}, "mm²": {Area, 1e-6, false}, "mm2": {Area, 1e-6, false},
	"m/s": {Velocity, 1, false}, "mm/s": {Velocity, 1e-3, false},
	"W/m²": {Irradiance, 1, false}, "W/m2": {Irradiance, 1, false},
}

var prefixes = map[string]float64{
	"p": 1e-12, "n": 1e-9, "µ": 1e-6, "μ": 1e-6, "u": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9,
}

// nearMisses maps units that people write to the one that is meant.
var nearMisses = map[string]string{
	"volt": "V", "volts": "V", "v": "V", "amp": "A", "amps": "A", "ampere": "A", "a": "A", "watt": "W", "watts": "W",
	"w":   "W",
	"sec": "s", "msec": "ms", "usec": "µs", "secs": "s", "second": "s", "seconds": "s", "S": "s", "minute": "min",
	"minutes": "min", "mins": "min",
	"hour": "h", "hours": "h", "hr": "h", "hz": "Hz", "ah": "Ah", "wh": "Wh", "ohms": "Ω", "Ohm": "Ω", "R": "Ω",
	"degC": "°C", "degree": "°", "degrees": "°", "newton": "N", "newtons": "N", "va": "VA", "VAR": "var", "db": "dB",
	"dBv": "dBV", "percent": "%", "pct": "%", "ma": "mA", "mv": "mV", "mS": "ms",
}

// ParseUnit reads a unit with an optional prefix, or a quotient of two: "mV", "Ah", "mV/s", "°C/min".
func ParseUnit(symbol string) (Unit, error) {
	if base, ok := baseUnits[symbol]; ok { // "r/s" is one unit
		return Unit{symbol, base.dim, base.factor}, nil
	}
	top, bottom, quotient := strings.Cut(symbol, "/")
	unit, err := simpleUnit(symbol, top)
	if err != nil || !quotient {
		unit.Symbol = symbol
		return unit, err
	}
	per, err := simpleUnit(symbol, bottom)
	if err != nil {
		return Unit{}, err
	}
	return Unit{symbol, unit.Dim.Per(per.Dim), unit.Factor / per.Factor}, nil
}

func simpleUnit(whole, symbol string) (Unit, error) {
	if base, ok := baseUnits[symbol]; ok {
		return Unit{symbol, base.dim, base.factor}, nil
	}
	for prefix, factor := range prefixes {
		rest, ok := strings.CutPrefix(symbol, prefix)
		if !ok {
			continue
		}
		if base, ok := baseUnits[rest]; ok && base.prefixed {
			return Unit{symbol, base.dim, base.factor * factor}, nil
		}
	}
	if meant, ok := nearMisses[symbol]; ok {
		return Unit{}, syntaxError(whole, "%q is not a unit here; write %s", symbol, meant)
	}
	return Unit{},
		syntaxError(whole,
			"%q is not a unit; known are V, A, W, VA, var, Ω, s, min, h, Hz, Ah, Wh, J, N, N·m, r/s, r/min, °, °C, K, "+
				"dB, dBV, m, mm, mm², mm/s, "+
				"W/m², %%, ppm, C, g with the prefixes p n µ m k M G", symbol)
}

// LiteralPattern is a regular expression for a number with an optional unit inside a longer text, for lexers.
// A word that merely begins like a unit ("3 and") is left alone.
var LiteralPattern = sync.OnceValue(func() string {
	var symbols []string
	add := func(symbol string) {
		quoted := regexp.QuoteMeta(symbol)
		if last := symbol[len(symbol)-1]; last >= 'A' && last <= 'z' {
			quoted += `\b`
		}
		symbols = append(symbols, quoted)
	}
	for symbol, base := range baseUnits {
		add(symbol)
		if base.prefixed {
			for prefix := range prefixes {
				add(prefix + symbol)
			}
		}
	}
	slices.SortFunc(symbols, func(a, b string) int { // the longest first: mΩ is not m
		plain := func(s string) int { return len(strings.TrimSuffix(s, `\b`)) }
		return cmp.Or(plain(b)-plain(a), strings.Compare(a, b))
	})
	one := `(?:` + strings.Join(symbols, "|") + `)`
	return `(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?(?:\s*` + one + `(?:/` + one + `)?)?`
})

// Symbol is the SI unit of a dimension that has one: "V", "A", "s"; empty for others.
func Symbol(dim Dimension) string {
	for _, symbol := range []string{"V", "A", "W", "Ω", "s", "Hz", "J", "°C", "VA", "var", "N", "N·m", "r/s", "°",
		"dB", "dBV", "m", "m²", "m/s", "W/m²"} {
		if baseUnits[symbol].dim == dim {
			return symbol
		}
	}
	if dim.Second < 0 { // a rate: V/s
		top := dim.Times(Time)
		for _, symbol := range []string{"V", "A", "W", "K"} {
			if baseUnits[symbol].dim == top {
				return symbol + "/s"
			}
		}
	}
	return ""
}
