// Package seats knows the functions in a bay that channels of instruments fill: what each kind of seat reads, what
// can be set on it, what it does to the unit, and in which order it is switched. It is the one place that knows a
// kind by its name: everybody else asks for what a kind does.
//
// To add a kind of seat add its entry to the table. Procedures, preflight, manual control, recording, make safe,
// rehearsal and console follow.
package seats

import (
	"math/bits"
	"slices"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// Role is something that a seat does for the unit. A seat may have several.
type Role uint8

// The roles.
const (
	// Feeds gives power to the unit, Drains takes power out of it. A seat that does both counts what it gives as
	// positive, and its current is set with a sign.
	Feeds Role = 1 << iota
	Drains
	// Measures reads, and does nothing to the unit.
	Measures
	// Connects makes and breaks connections.
	Connects
	// Captures takes fast waveforms, and gives no readings to frames.
	Captures
	// Scans reads between pairs of terminals when it is asked, and gives no readings to frames.
	Scans
)

// Words lists the roles by name: "feeds", "drains", "measures", "connects", "captures", "scans".
func (r Role) Words() []string {
	words := []string{}
	for i, word := range []string{"feeds", "drains", "measures", "connects", "captures", "scans"} {
		if r&(1<<i) != 0 {
			words = append(words, word)
		}
	}
	return words
}

// Kind says what a kind of seat reads, what can be set on it, and what it does.
type Kind struct {
	Name  string
	Roles Role
	// Reads are the quantities that it can give, as a whole or in parts; an instrument need not give all of them.
	Reads []string
	// Also are quantities that some of its instruments give besides: nobody counts on them.
	Also []string
	Sets []string
	// Must are those of Sets without which an instrument cannot fill it.
	Must []string
	// MustRead are those of Reads without which an instrument cannot fill it.
	MustRead []string
	// Modes are what it can keep constant.
	Modes []string
	// Choices are what else it can be told by a word.
	Choices []Choice
	// Moves is true for one that stands at something that moves, and may hurt who is near.
	Moves bool
	// AtRest is true for one that reads only what nothing feeds: that it has no readings otherwise is no gap.
	AtRest bool
	// MayBeBlind is true for one whose instruments need not read anything.
	MayBeBlind bool
	// Alternating is true for one whose volts and amps are effective values: their product is no power.
	Alternating bool
}

// BeginsAtMost tells whether a number stands at the most when a run begins, before its procedure sets it: a limit
// does, and a level of a mode in which the most takes nothing. Every other level begins at zero, where it moves
// nothing, or asks for what there is.
func (k Kind) BeginsAtMost(q string) bool {
	return q == "ohms" || q == "speed" || q == "volts" && k.Is(Drains) ||
		q == "amps" && !k.Is(Drains) && !k.Is(Connects) && !k.Locked()
}

// Locked tells whether the output of a kind may be on only while its interlock reads closed. Its limit begins at zero.
func (k Kind) Locked() bool { return slices.Contains(k.MustRead, Unlocked) }

// BeginsAsItIs tells whether a number stays what it is when a run begins: no frequency moves nothing, and of two tones
// none has no share.
func BeginsAsItIs(q string) bool { return q == "hertz" || q == "balance" }

// BeginsAtOne tells whether a number stands at 1 when a run begins: every reading is one of its own.
func BeginsAtOne(q string) bool {
	kind, _ := quantity.KindOf(q)
	return kind.Whole
}

// BeginsIn is the mode in which a seat begins: that of current where it has several, else that of what is set on it.
func (k Kind) BeginsIn() string {
	i := slices.IndexFunc(k.Sets, func(q string) bool { return ModeOf(q) != "" })
	switch {
	case len(k.Modes) == 0 && i >= 0:
		return ModeOf(k.Sets[i])
	case len(k.Modes) > 0 && !slices.Contains(k.Modes, beginsIn):
		return k.Modes[0]
	}
	return beginsIn
}

const beginsIn = "current"

// Choice is a setting that takes one of a few words. An instrument need not know all of them.
type Choice struct {
	Name  string
	Words []string
}

// Sensed says where a seat that feeds or drains reads its volts: at the ends of its own leads, or at its terminals.
// Measured says what the volts and amps of a seat are that measures: the alternating part, the direct one, or both.
// Guarded says whether an instrument drives the screens of its leads, so that nothing leaks through these.
const (
	Sensed   = "sense"
	Measured = "measures"
	Guarded  = "guard"
)

var (
	guard    = Choice{Guarded, []string{On, Off}}
	sense    = Choice{Sensed, []string{"remote", "local"}}
	measures = Choice{Measured, []string{"ac", "dc", "both"}}
)

// Output is what switches a seat on and off. Of one that connects, on is closed.
const Output = "output"

// The words that a setting may take in place of a number.
const (
	On  = "on"
	Off = "off"
)

// Unlocked is the reading that is 1 while an interlock is open.
const Unlocked = "unlocked"

// Averages is how many readings an instrument makes one of, where it can.
const Averages = "averages"

// Position is the place in a source's offer that is asked for, with the volts and amps that were set before.
const Position = "position"

// Mode is the setting that says what a seat keeps constant.
const Mode = "mode"

var modes = []string{"voltage", "current", "power", "resistance", "torque", "speed"}

// levels are what is kept constant in each of the modes.
var levels = []string{"volts", "amps", "watts", "ohms", "torque", "speed"}

// ModeOf is the mode in which a level is kept constant; empty for what is no level.
func ModeOf(level string) string {
	if i := slices.Index(levels, level); i >= 0 {
		return modes[i]
	}
	return ""
}

// The table of kinds, in the order in which their volts are taken for those at the unit's terminals: a seat that only
// gives power reads them before the cable.
var kinds = []Kind{
	// A cycler charges with positive amps and discharges with negative ones.
	{Name: "cycler", Roles: Feeds | Drains, Reads: []string{"volts", "amps", "limited", "celsius"},
		Sets: []string{Mode, "volts", "floor", "amps", Averages, Output}, Must: []string{"amps", Output}, Modes: modes[:2],
		Choices: []Choice{sense}},
	{Name: "load", Roles: Drains, Reads: []string{"volts", "amps"},
		Sets: []string{Mode, "volts", "amps", "watts", "ohms", Averages, Output}, Must: []string{Output}, Modes: modes[:4],
		Choices: []Choice{sense}},
	{Name: "source", Roles: Feeds, Reads: []string{"volts", "amps", "limited"}, Also: []string{"range"},
		Sets: []string{"volts", "amps", Averages, Output}, Must: []string{"volts", Output},
		Choices: []Choice{sense}},
	// The mains gives alternating current: volts are rms, amps their limit, angle where a period is switched on.
	{Name: "mains", Roles: Feeds, Reads: []string{"volts", "amps", "watts", "hertz", "limited"},
		Sets: []string{"volts", "hertz", "amps", "angle", Averages, Output}, Must: []string{"volts", Output},
		Alternating: true},
	// A source-meter leads a device through volts of either sign, with its amps as the limit of their magnitude, and
	// measures both. What it gives may kill: its interlock must be read.
	{Name: "sourcemeter", Roles: Feeds, Reads: []string{"volts", "amps", "limited", Unlocked, "range"},
		Sets: []string{"volts", "amps", "range", Averages, Output}, Must: []string{"volts", "amps", Output},
		MustRead: []string{"volts", Unlocked}, Choices: []Choice{sense, guard}},
	// A load at an alternating output, of as many phases as there are, that may give back to the mains what it takes.
	{Name: "acload", Roles: Drains, Reads: []string{"volts", "amps", "watts", "hertz"},
		Sets: []string{"watts", Averages, Output}, Must: []string{"watts", Output}, Alternating: true},
	// The sink's side of a charger under test: it asks for a contract by its place, with the volts and amps that are
	// wanted of an adjustable one, and measures at the plug, which is joined to the charger while its output is on.
	{Name: Contract, Roles: Connects, Reads: []string{"volts", "amps", "position", "refused", "offer"},
		Sets: []string{"volts", "amps", "position", Output}, Must: []string{"position", Output}},
	{Name: "meter", Roles: Measures, Reads: []string{"volts", "amps", "watts", "va", "var", "factor", "ohms",
		"hertz"}, Sets: []string{Averages}, Choices: []Choice{measures}},
	// A shaft is braked with a torque, or so that it turns no faster than a speed; it reads both, the speed in revolutions
	// a second.
	{Name: "shaft", Roles: Drains, Reads: []string{"torque", "speed"},
		Sets: []string{Mode, "torque", "speed", Averages, Output}, Must: []string{"torque", Output}, Modes: modes[4:],
		Moves: true},
	// A drive is told how much of what it can, while it is enabled.
	{Name: "drive", Roles: Feeds, Reads: []string{"percent", "volts", "amps"}, Sets: []string{"percent", Averages, Output},
		Must: []string{"percent", Output}, Moves: true},
	{Name: "force", Roles: Measures, Reads: []string{"newtons", "volts"}, Sets: []string{Averages}},
	// An ohmmeter of four wires, at a winding that nothing feeds.
	{Name: "ohmmeter", Roles: Measures, Reads: []string{"ohms"}, Sets: []string{Averages}, AtRest: true},
	{Name: "vibration", Roles: Measures, Reads: []string{"vibration"}, Sets: []string{Averages}},
	{Name: "climate", Roles: Measures, Reads: []string{"humidity", "celsius"}, Sets: []string{Averages}},
	// What falls on a panel, as a sensor beside it sees it.
	{Name: "light", Roles: Measures, Reads: []string{"irradiance", "celsius"}, Sets: []string{Averages}},
	{Name: "thermo", Roles: Measures, Reads: []string{"celsius"}, Sets: []string{Averages}},
	// A switch joins what it stands between while it is on. One that stands before the unit may read what goes through.
	{Name: "switch", Roles: Connects, Reads: []string{"amps"}, Also: []string{"range"}, Sets: []string{Output},
		Must: []string{Output}, MayBeBlind: true},
	// A generator gives an amplifier one tone or two, of an effective value together. It reads nothing, and is silent
	// while it is off.
	{Name: "generator", Roles: Feeds, Sets: []string{"volts", "hertz", "second", "balance", Output},
		Must: []string{"volts", "hertz", Output}, Alternating: true},
	// A scope captures what its probes see, an analyser the signals of an amplifier. They give no readings.
	{Name: "scope", Roles: Captures},
	{Name: "analyser", Roles: Captures},
	// A crosspoint reads ohms between any two of the terminals that a harness is plugged into.
	{Name: "crosspoint", Roles: Scans},
}

// KindOf tells the kind of a seat from its name: "source" and "source2" are sources.
func KindOf(name string) (Kind, bool) {
	word := strings.TrimRight(name, "0123456789")
	i, ok := places[word]
	if !ok {
		return Kind{}, false
	}
	return kinds[i], true
}

// places are where the kinds stand in their list, by name.
var places = func() map[string]int {
	at := make(map[string]int, len(kinds))
	for i, k := range kinds {
		at[k.Name] = i
	}
	return at
}()

// All lists the kinds of seats, in the order in which their volts are taken for those at the unit's terminals.
func All() []Kind { return slices.Clone(kinds) }

// Names lists the kinds of seats by name.
func Names() (names []string) {
	for _, k := range kinds {
		names = append(names, k.Name)
	}
	slices.Sort(names)
	return names
}

// Modes lists what an instrument can keep constant.
func Modes() []string { return slices.Clone(modes) }

// Drives tells whether the kind has all the given roles towards a battery, which direct current alone charges.
func (k Kind) Drives(roles Role) bool {
	return k.Is(roles) && !k.Alternating && !k.Locked() && slices.Contains(k.Sets, "amps")
}

// Having lists the kinds that have all the given roles towards a battery; those that have more come first.
func Having(roles Role) []Kind {
	all := slices.DeleteFunc(All(), func(k Kind) bool { return !k.Drives(roles) })
	more := func(k Kind) int { return bits.OnesCount8(uint8(k.Roles &^ roles)) }
	slices.SortStableFunc(all, func(a, b Kind) int { return more(b) - more(a) })
	return all
}

// NamesHaving words the kinds of [Having]: "cycler or a source".
func NamesHaving(roles Role) string {
	var names []string
	for _, k := range Having(roles) {
		names = append(names, k.Name)
	}
	return strings.Join(names, " or a ")
}

// DefaultInput and DefaultOutput are the seats on the unit's two sides where nobody names others.
const DefaultInput, DefaultOutput = "source", "load"

// Contract is the seat at which contracts are made with a charger under test.
const Contract = "contract"

// OfferColumn is the column of a place of what a unit offers, from 1.
func OfferColumn(seat string, position int) string {
	return seat + ".offer" + quantity.Part{Place: position}.String()
}

// DefaultMeter is the seat that measures what flows into the unit, where nobody names another.
const DefaultMeter = "meter"

// Is tells whether the kind has all the given roles.
func (k Kind) Is(roles Role) bool { return k.Roles&roles == roles }

// Sampled tells whether seats of the kind are asked for every frame: for readings, or for a sign of life.
func (k Kind) Sampled() bool { return !k.Is(Captures) && !k.Is(Scans) }

// HasOutput tells whether seats of the kind are switched on and off.
func (k Kind) HasOutput() bool { return slices.Contains(k.Sets, Output) }

// Signed tells whether a quantity is set with a sign: the current of a seat that feeds and drains, and the volts of one
// that leads a device both ways.
func (k Kind) Signed(q string) bool {
	return q == "amps" && k.Is(Feeds|Drains) || q == "volts" && k.Locked()
}

// Gives is the sign with which what a seat counts goes into a battery: +1 for one that feeds it, −1 for one that
// only drains it, 0 for others.
func (k Kind) Gives() float64 {
	switch {
	case k.Is(Feeds):
		return 1
	case k.Is(Drains):
		return -1
	}
	return 0
}

// Columns lists what a seat gives to a run when its instrument reads the given quantities: readings, then what is
// derived from them.
func (k Kind) Columns(seat string, gives []string) trace.Columns {
	var columns trace.Columns
	for _, q := range slices.Concat(k.Reads, k.Also) {
		for _, reading := range partsOf(q, gives) {
			columns = append(columns, seat+"."+reading)
		}
	}
	if k.Alternating || !slices.Contains(gives, "volts") || !slices.Contains(gives, "amps") {
		return columns
	}
	for _, derived := range trace.Derived(seat) {
		if !slices.Contains(columns, derived) {
			columns = append(columns, derived)
		}
	}
	return columns
}

// partsOf lists those of the readings that are a quantity or a part of it, the whole first.
func partsOf(q string, readings []string) (found []string) {
	for _, reading := range readings {
		if quantity.WholeOf(reading) == q && !slices.Contains(found, reading) {
			found = append(found, reading)
		}
	}
	slices.SortFunc(found, func(a, b string) int {
		_, x, _ := quantity.Split(a)
		_, y, _ := quantity.Split(b)
		return x.Before(y)
	})
	return found
}

// CanRead tells whether an instrument may give a reading to a seat of the kind: a quantity, or a part of one.
func (k Kind) CanRead(reading string) bool {
	_, ok := quantity.KindOf(reading)
	return ok && slices.Contains(slices.Concat(k.Reads, k.Also), quantity.WholeOf(reading))
}

// Choice finds what a kind can be told by a word.
func (k Kind) Choice(name string) (Choice, bool) {
	i := slices.IndexFunc(k.Choices, func(c Choice) bool { return c.Name == name })
	if i < 0 {
		return Choice{}, false
	}
	return k.Choices[i], true
}

// AllChoices lists what any kind can be told by a word.
func AllChoices() []Choice { return []Choice{sense, measures, guard} }

// inPlaces tells whether a quantity has no whole that could be read.
func inPlaces(q string) bool {
	kind, _ := quantity.KindOf(q)
	return kind.Parts.Places
}

// ColumnsFor lists the columns that the given seats can give to a run at most, but for parts of them.
func ColumnsFor(names []string) trace.Columns {
	var columns trace.Columns
	for _, name := range names {
		if kind, ok := KindOf(name); ok {
			columns = append(columns, kind.Columns(name, slices.DeleteFunc(slices.Clone(kind.Reads), inPlaces))...)
		}
	}
	return columns
}
