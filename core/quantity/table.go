package quantity

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Kind is a quantity of a seat: what it is, how people read it, and what is done with it. It is one row of the table
// from which instruments, records, console and reports take what they know of it.
type Kind struct {
	Name string
	Unit Unit // in which people read it
	// Title is what an axis says: "Volts".
	Title string
	// Decimals of a readout: what instruments resolve, so that digits neither jump nor lie.
	Decimals int
	// Colour names the colour that it has everywhere.
	Colour string
	// Read is true for what an instrument may give, Set for what it may be set to, Counted for what is integrated from
	// every frame.
	Read, Set, Counted bool
	// Whole is true for what is set to a whole number from 1 on.
	Whole bool
	// State is true for what is 1 while it is so, and 0 otherwise; it has no accuracy, and nobody is asked for it.
	State bool
	// Parts are what the whole has; Part is which of them this is.
	Parts Parts
	Part  Part
	// Drawn is true for what the curves of a run show without being asked, Charted for what has a panel of its own in
	// them, Compared for what a run is held against its rehearsal by.
	Drawn, Charted, Compared bool
}

// What has which parts.
var (
	levels = Parts{Phases: Averaged, Sides: true, Harmonics: true, Peaks: true, Agreed: true}
	watts  = Parts{Phases: Summed, Sides: true, Harmonics: true}
	powers = Parts{Phases: Summed}
	ratios = Parts{Phases: Apart}
	slots  = Parts{Places: true}
)

// The table, in the order in which people read the quantities of a seat. To add a quantity add its row.
var table = []Kind{
	{Name: "volts", Unit: unit("V"), Title: "Volts", Parts: levels, Decimals: 3, Colour: "volts", Read: true, Set: true,
		Drawn: true, Charted: true, Compared: true},
	// The least volts to which a discharge may lead, as its instrument keeps them.
	{Name: "floor", Unit: unit("V"), Title: "Least volts", Decimals: 3, Colour: "volts", Set: true},
	{Name: "amps", Unit: unit("A"), Title: "Amps", Parts: levels, Decimals: 4, Colour: "amps", Read: true, Set: true,
		Drawn: true, Charted: true, Compared: true},
	{Name: "watts", Unit: unit("W"), Title: "Watts", Parts: watts, Decimals: 2, Colour: "watts", Read: true, Set: true,
		Drawn: true, Charted: true, Compared: true},
	{Name: "va", Unit: unit("VA"), Title: "Volt-amperes", Parts: powers, Decimals: 2, Colour: "watts", Read: true,
		Charted: true},
	{Name: "var", Unit: unit("var"), Title: "Vars", Parts: powers, Decimals: 2, Colour: "watts", Read: true,
		Charted: true},
	{Name: "factor", Unit: Unit{"", Number, 1}, Title: "Power factor", Parts: ratios, Decimals: 3, Colour: "muted",
		Read: true, Charted: true},
	{Name: "ohms", Unit: unit("Ω"), Title: "Ohms", Decimals: 3, Colour: "muted", Read: true, Set: true},
	{Name: "celsius", Unit: unit("°C"), Title: "Temperature", Decimals: 1, Colour: "celsius", Read: true, Set: true,
		Drawn: true, Charted: true, Compared: true},
	{Name: "hertz", Unit: unit("Hz"), Title: "Frequency", Decimals: 2, Colour: "muted", Read: true, Set: true},
	// Of a generator of two tones: the frequency of the second, 0 for none, and how many times it the first is.
	{Name: "second", Unit: unit("Hz"), Title: "Second tone", Decimals: 2, Colour: "muted", Set: true},
	{Name: "balance", Unit: Unit{"", Number, 1}, Title: "First over second", Decimals: 2, Colour: "muted", Set: true},
	{Name: "angle", Unit: unit("°"), Title: "Phase angle", Parts: ratios, Decimals: 1, Colour: "muted", Read: true,
		Set: true},
	{Name: "irradiance", Unit: unit("W/m²"), Title: "Irradiance", Decimals: 1, Colour: "muted", Read: true,
		Charted: true},
	// The upper end of the range in which an instrument measures amps just now; set, the finest to which it may go.
	{Name: "range", Unit: unit("A"), Title: "Range", Decimals: 1, Colour: "muted", Read: true, Set: true},
	{Name: "newtons", Unit: unit("N"), Title: "Force", Decimals: 2, Colour: "muted", Read: true, Drawn: true,
		Charted: true},
	{Name: "torque", Unit: unit("N·m"), Title: "Torque", Decimals: 3, Colour: "muted", Read: true, Set: true,
		Drawn: true, Charted: true},
	{Name: "speed", Unit: unit("r/s"), Title: "Speed", Decimals: 2, Colour: "muted", Read: true, Set: true,
		Drawn: true, Charted: true},
	{Name: "percent", Unit: unit("%"), Title: "Percent", Decimals: 1, Colour: "muted", Read: true, Set: true,
		Drawn: true, Charted: true},
	// The effective value of the speed with which a bearing shakes (ISO 20816), and the relative humidity of air.
	{Name: "vibration", Unit: unit("mm/s"), Title: "Vibration", Decimals: 2, Colour: "muted", Read: true, Charted: true},
	{Name: "humidity", Unit: unit("%"), Title: "Humidity", Decimals: 1, Colour: "muted", Read: true},
	{Name: "decibels", Unit: unit("dB"), Title: "Level", Decimals: 2, Colour: "muted", Read: true},
	{Name: "dbv", Unit: unit("dBV"), Title: "Level over 1 V", Decimals: 2, Colour: "muted", Read: true},
	{Name: "charge", Unit: unit("Ah"), Title: "Charge", Decimals: 4, Colour: "charge", Counted: true, Charted: true},
	{Name: "energy", Unit: unit("Wh"), Title: "Energy", Decimals: 3, Colour: "charge", Counted: true},
	// How many readings an instrument makes one of.
	{Name: "averages", Unit: Unit{"", Number, 1}, Title: "Averages", Colour: "muted", Set: true, Whole: true},
	{Name: "limited", Unit: Unit{"", Number, 1}, Title: "In its limit", Colour: "muted", State: true},
	// The time that a picture is drawn over which is no trace.
	{Name: "seconds", Unit: unit("s"), Title: "Time", Decimals: 1, Colour: "muted"},
	// unlocked is 1 while the interlock of an instrument is open.
	{Name: "unlocked", Unit: Unit{"", Number, 1}, Title: "Interlock open", Colour: "muted", State: true},
	// What a charger offers in each of its places: the source object of IEC 62680-1-2 as a number, 0 where it offers
	// nothing. position is the place of the contract in force, 0 while there is none; set, it asks for that place.
	{Name: "offer", Unit: Unit{"", Number, 1}, Title: "Source object", Parts: slots, Colour: "muted", Read: true},
	{Name: "position", Unit: Unit{"", Number, 1}, Title: "Contract", Colour: "muted", Read: true, Set: true, Whole: true},
	{Name: "refused", Unit: Unit{"", Number, 1}, Title: "Refused", Colour: "muted", State: true},
}

// unit is a unit that is written in the program.
func unit(symbol string) Unit {
	u, err := ParseUnit(symbol)
	if err != nil {
		panic(err)
	}
	return u
}

// Kinds lists the quantities of seats in the order in which people read them.
func Kinds() []Kind { return slices.Clone(table) }

// Names lists the quantities for which a condition holds, in their order.
func Names(is func(Kind) bool) (names []string) {
	for _, k := range table {
		if is(k) {
			names = append(names, k.Name)
		}
	}
	return names
}

// MayBe refuses a value that the quantity cannot be set to by its nature.
func (k Kind) MayBe(value float64) error {
	if k.Whole && (value < 1 || value != math.Trunc(value)) {
		return fmt.Errorf("%s are a whole number from 1 on, not %g", k.Name, value)
	}
	return nil
}

// KindOf looks up a quantity of a seat by its word, or a part of one: "volts", "charge", "volts.2", "amps.h5" …
func KindOf(name string) (Kind, bool) {
	if !strings.Contains(name, ".") {
		return find(name)
	}
	whole, part, ok := Split(name)
	return part.of(whole), ok
}

// places are the rows of the table by their names.
var places = func() map[string]int {
	rows := make(map[string]int, len(table))
	for i, k := range table {
		rows[k.Name] = i
	}
	return rows
}()

func find(name string) (Kind, bool) {
	i, ok := places[name]
	if !ok {
		return Kind{}, false
	}
	return table[i], true
}

// PlaceOf is where people read a quantity, or a part of one, among those of a seat; −1 for what is none.
func PlaceOf(name string) int {
	if i, ok := places[WholeOf(name)]; ok {
		return i
	}
	return -1
}

// KindOfColumn looks up the quantity of a run by its full name: "source.volts".
func KindOfColumn(column string) (Kind, bool) {
	_, name, ok := strings.Cut(column, ".")
	if !ok {
		return Kind{}, false
	}
	return KindOf(name)
}
