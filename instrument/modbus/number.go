package modbus

import (
	"fmt"
	"math"
	"slices"
)

// Form is how a number fills registers: its type, and which word of several comes first.
type Form struct {
	As       string // uint16, int16, uint32, int32, float32, float64
	LowFirst bool
}

var registersOf = map[string]int{"uint16": 1, "int16": 1, "uint32": 2, "int32": 2, "float32": 2, "float64": 4}

// Forms lists the types.
func Forms() []string { return []string{"uint16", "int16", "uint32", "int32", "float32", "float64"} }

// Registers is how many registers a number fills.
func (f Form) Registers() int { return registersOf[f.As] }

// Decode makes a number of registers; there must be as many as the form fills.
func (f Form) Decode(words []uint16) float64 {
	if f.LowFirst {
		words = slices.Clone(words)
		slices.Reverse(words)
	}
	var bits uint64
	for _, w := range words {
		bits = bits<<16 | uint64(w)
	}
	switch f.As {
	case "int16":
		return float64(int16(bits))
	case "int32":
		return float64(int32(bits))
	case "float32":
		return float64(math.Float32frombits(uint32(bits)))
	case "float64":
		return math.Float64frombits(bits)
	}
	return float64(bits)
}

// Encode makes registers of a number, rounded to a whole one where the form asks for it. A number that does not
// fit is an error.
func (f Form) Encode(x float64) ([]uint16, error) {
	var bits uint64
	whole := math.Round(x)
	least, most := 0.0, 0.0
	switch f.As {
	case "uint16":
		most, bits = math.MaxUint16, uint64(uint16(int64(whole)))
	case "int16":
		least, most, bits = math.MinInt16, math.MaxInt16, uint64(uint16(int64(whole)))
	case "uint32":
		most, bits = math.MaxUint32, uint64(uint32(int64(whole)))
	case "int32":
		least, most, bits = math.MinInt32, math.MaxInt32, uint64(uint32(int64(whole)))
	case "float32":
		bits = uint64(math.Float32bits(float32(x)))
	case "float64":
		bits = math.Float64bits(x)
	}
	if math.IsNaN(x) || most > 0 && (whole < least || whole > most) {
		return nil, fmt.Errorf("%g does not fit into %s", x, f.As)
	}
	words := make([]uint16, f.Registers())
	for i := range words {
		words[len(words)-1-i] = uint16(bits >> (16 * i))
	}
	if f.LowFirst {
		slices.Reverse(words)
	}
	return words, nil
}
