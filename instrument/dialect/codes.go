package dialect

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/document"
	"usherbench/instrument/modbus"
)

// Codes are what an instrument answers in place of a reading: Missing when it has none, as with an open sensor, and
// Overload when what it measures is beyond its range. They stand as the instrument writes them, before units and
// scales.
type Codes struct {
	Missing, Overload []string
	// Stated says that the dialect names the codes; otherwise those that are usual for the form of the number count.
	Stated bool
}

// Usual codes of numbers in texts: those of SCPI-1999, chapter 7.2.1.4.
const (
	scpiMissing  = 9.91e37
	scpiInfinite = 9.9e37
)

// OfText tells whether a text is a code: NaN for a missing reading, an infinity for an overload.
func (c Codes) OfText(text string) (x float64, is bool) {
	value, err := strconv.ParseFloat(text, 64)
	if err != nil {
		value = math.NaN()
	}
	if x, is := c.stated(text, value); is || c.Stated {
		return x, is
	}
	switch {
	case err != nil:
		return 0, false
	case math.IsNaN(value) || math.Abs(value) > scpiInfinite*1.0005 && math.Abs(value) < scpiInfinite*1.002:
		return math.NaN(), true
	case math.Abs(value) > scpiInfinite*0.999:
		return math.Copysign(math.Inf(1), value), true
	}
	return 0, false
}

// OfRegisters tells whether a number in registers is a code.
func (c Codes) OfRegisters(f modbus.Form, value float64) (x float64, is bool) {
	if x, is := c.stated(strconv.FormatFloat(value, 'f', -1, 64), value); is || c.Stated {
		return x, is
	}
	missing, known := map[string]float64{"uint16": math.MaxUint16, "uint32": math.MaxUint32, "int16": math.MinInt16,
		"int32": math.MinInt32}[f.As]
	switch {
	case math.IsNaN(value) || known && value == missing:
		return math.NaN(), true
	case math.IsInf(value, 0):
		return value, true
	}
	return 0, false
}

// stated looks among the codes that the dialect names.
func (c Codes) stated(text string, value float64) (x float64, is bool) {
	among := func(codes []string) bool {
		return slices.ContainsFunc(codes, func(code string) bool {
			number, err := strconv.ParseFloat(code, 64)
			return strings.EqualFold(code, text) || err == nil && number == value
		})
	}
	switch {
	case among(c.Missing):
		return math.NaN(), true
	case among(c.Overload):
		return math.Copysign(math.Inf(1), value), true
	}
	return 0, false
}

// read reads codes: one, or a list, which may be empty to say that there is none. Whole numbers may be in hex.
func (c *Codes) read(to *[]string) func(document.Node) {
	return func(n document.Node) {
		c.Stated = true
		items := []document.Node{n}
		if n.IsList() {
			items = n.Items()
		}
		for _, item := range items {
			code := item.Text()
			if x, err := strconv.ParseUint(code, 0, 64); err == nil && strings.HasPrefix(strings.ToLower(code), "0x") {
				code = strconv.FormatUint(x, 10)
			}
			*to = append(*to, code)
		}
	}
}

// readOf reads the codes of one number of an answer from what is said of all of them, or of each quantity by its name.
func (c *Codes) readOf(n document.Node, quantity string, to *[]string) {
	switch {
	case !n.Present():
	case !n.IsMap():
		c.read(to)(n)
	default:
		for _, e := range n.Entries() {
			if e.Key == quantity {
				c.read(to)(e.Value)
			}
		}
	}
}
