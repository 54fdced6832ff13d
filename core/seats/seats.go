// Package seats knows the functions in a bay that channels of instruments fill: what each kind of seat reads,
// what can be set on it, and in which order it is switched off.
package seats

import (
	"maps"
	"slices"
	"strings"

	"usherbench/core/trace"
)

// Kind says what a kind of seat reads and what can be set on it.
type Kind struct {
	Name string
	// Reads are the quantities that it can give; an instrument need not give all of them.
	Reads []string
	Sets  []string
	// Must are those of Sets without which an instrument cannot fill it.
	Must  []string
	Modes []string
	// Drains is true for seats that take power out of the unit; they are switched off first.
	Drains bool
}

var modes = []string{"voltage", "current", "power", "resistance"}

var kinds = map[string]Kind{
	"source": {Name: "source", Reads: []string{"volts", "amps", "limited"}, Sets: []string{"volts", "amps", "output"},
		Must: []string{"volts", "output"}},
	"load": {Name: "load", Reads: []string{"volts", "amps"}, Sets: []string{"mode", "volts", "amps", "watts", "ohms",
		"output"}, Must: []string{"output"},
		Modes: modes, Drains: true},
	// A cycler charges with positive amps and discharges with negative ones.
	"cycler": {Name: "cycler", Reads: []string{"volts", "amps", "limited", "celsius"},
		Sets: []string{"mode", "volts", "amps", "output"}, Must: []string{"amps", "output"},
		Modes: []string{"voltage", "current"}, Drains: true},
	"meter":  {Name: "meter", Reads: []string{"volts", "amps", "watts", "ohms", "hertz"}},
	"thermo": {Name: "thermo", Reads: []string{"celsius"}},
}

// KindOf tells the kind of a seat from its name: "source" and "source2" are sources.
func KindOf(name string) (Kind, bool) {
	kind, ok := kinds[strings.TrimRight(name, "0123456789")]
	return kind, ok
}

// Names lists the kinds of seats.
func Names() []string { return slices.Sorted(maps.Keys(kinds)) }

// Modes lists what an instrument can keep constant.
func Modes() []string { return slices.Clone(modes) }

// Switches tells whether seats of the kind have an output.
func (k Kind) Switches() bool { return slices.Contains(k.Sets, "output") }

// Columns lists what a seat gives to a run when its instrument reads the given quantities: readings, then what
// is derived from them.
func (k Kind) Columns(seat string, gives []string) trace.Columns {
	var columns trace.Columns
	for _, q := range k.Reads {
		if slices.Contains(gives, q) {
			columns = append(columns, seat+"."+q)
		}
	}
	if !slices.Contains(gives, "volts") || !slices.Contains(gives, "amps") {
		return columns
	}
	for _, derived := range trace.Derived(seat) {
		if !slices.Contains(columns, derived) {
			columns = append(columns, derived)
		}
	}
	return columns
}

// ColumnsFor lists the columns that the given seats can give to a run at most.
func ColumnsFor(names []string) trace.Columns {
	var columns trace.Columns
	for _, name := range names {
		if kind, ok := KindOf(name); ok {
			columns = append(columns, kind.Columns(name, kind.Reads)...)
		}
	}
	return columns
}

// Hardware protections of a channel, and the quantity that each bounds.
var protections = map[string]string{"volts above": "volts", "amps above": "amps", "watts above": "watts",
	"volts below": "volts"}

// Protections lists the hardware protections.
func Protections() []string { return slices.Sorted(maps.Keys(protections)) }

// ProtectedQuantity is what a protection bounds; empty if there is no such protection.
func ProtectedQuantity(protection string) string { return protections[protection] }
