// Package dialect reads the text files that say how a model of instrument is spoken to: which message sets
// volts, which query reads amps, ranges, accuracy, quirks. A new instrument is such a file, not a release.
//
// docs/dialects.md describes the format for its writers, with worked examples.
package dialect

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"usherbench/core/budget"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
	"usherbench/instrument/modbus"
	"usherbench/instrument/scpi"
)

// Dialect is how a model of instrument is spoken to.
type Dialect struct {
	Name, Title string
	// Protocol tells text messages from registers.
	Protocol Protocol
	Identity Identity
	Channels int
	// ChannelNames stand for {channel} in messages instead of numbers.
	ChannelNames []string
	// Stride is how far apart the registers of two channels are.
	Stride int
	// Seats that a channel can fill: "source", "load".
	Seats []string
	// Within is how long an answer may take; Pause is kept between messages.
	Within, Pause time.Duration
	// Send and Receive end messages and answers.
	Send, Receive string
	// Greeting is sent after every connection.
	Greeting []string
	// Select is the message that chooses a channel before each other message.
	Select string
	Errors Errors
	// Numbers is how numbers in messages are written, unless a setter says otherwise.
	Numbers Numbers
	// Set holds what sets each quantity that takes a number.
	Set map[string]Setter
	// Words holds what sets what takes a word: Words[seats.Output][seats.On].
	Words map[string]map[string]Setter
	// Built says how a model works that cannot be told: Built[seats.Measured] is "dc".
	Built map[string]string
	// OneVoltage is true for a cycler whose volts are the ceiling of a charge and the floor of a discharge.
	OneVoltage bool
	// Ask reads settings back, by quantity: "volts", "mode", "output", "sense".
	Ask map[string]Query
	// Read takes all readings of a channel.
	Read []Query
	// Confirm asks whether the output is on.
	Confirm Query
	// Protect holds the hardware protections by name: "volts above", "amps above", "watts above", "volts below".
	Protect map[string]Setter
	// Count clears what the instrument counts of charge and energy by itself, and has it count.
	Count Setter
	// ClearTrip frees a protection that tripped; Tripped asks for it.
	ClearTrip Setter
	Tripped   Query
	Interlock Query
	Watchdog  Watchdog
	Program   Program
	// Scope is how waveforms are captured; nil: it captures none.
	Scope *Scope
	// Scan is how ohms are read between pairs of terminals; nil: it reads none.
	Scan *Scan
	// Bears is the mean power that the instrument bears over any window of a time, where it bears more for moments.
	Bears budget.Budget
	// MakeSafe replaces the message that switches the output off when the bay is made safe; empty: that one.
	MakeSafe []Setter
	// SetRanges and ReadRanges are the ranges with accuracy of what is set and read.
	SetRanges, ReadRanges map[string]uncertainty.Spec
	// As holds what is different when a channel fills a kind of seat.
	As map[string]*Dialect
	// Sources are the texts that it was read from, bases first.
	Sources []Source
}

// Protocol is what kind of language an instrument speaks.
type Protocol string

// The protocols.
const (
	Messages  Protocol = "messages"
	Registers Protocol = "registers"
)

// Source is the text of a dialect and where it comes from.
type Source struct {
	File string `json:"file"`
	Text string `json:"text"`
}

// Place is where something stands in a file, for those who must mend it.
type Place struct {
	File         string
	Line, Column int
}

func (p Place) String() string {
	if p.Line == 0 {
		return p.File
	}
	return p.File + ":" + strconv.Itoa(p.Line) + ":" + strconv.Itoa(p.Column)
}

// Identity is how the instrument says who it is. Without a match it does not.
type Identity struct {
	Ask   Query
	Match *regexp.Regexp
	Place Place
}

// Errors is the instrument's error queue.
type Errors struct {
	Query, None string
	Joined      bool
	Place       Place
}

// Numbers is how a number in a message is written.
type Numbers struct {
	Decimals    int
	Digits      int // significant digits; 0: as Decimals says
	Exponential bool
}

// Format writes a number.
func (n Numbers) Format(x float64) string {
	switch {
	case n.Exponential:
		return strconv.FormatFloat(x, 'E', max(n.Digits-1, 3), 64)
	case n.Digits > 0:
		if rounded, err := strconv.ParseFloat(strconv.FormatFloat(x, 'e', n.Digits-1, 64), 64); err == nil {
			x = rounded
		}
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return strconv.FormatFloat(x, 'f', n.Decimals, 64)
}

// Setter is how something is set: messages, or a register.
type Setter struct {
	Messages []string
	Register *Register
	// Factor is the SI value of the unit in which the number is sent.
	Factor  float64
	Numbers *Numbers
	// Word is what a register takes for a word; Numbered: the number of the channel.
	Word     float64
	Numbered bool
	// Settle is waited for after it was set.
	Settle time.Duration
	Within time.Duration
	Place  Place
}

// Exists tells whether there is anything to send.
func (s Setter) Exists() bool { return len(s.Messages) > 0 || s.Register != nil }

// Register is a number in registers.
type Register struct {
	Address int
	Input   bool
	Form    modbus.Form
	Text    int // length of a text in registers; 0: a number
	// Common is where it is for every channel.
	Common bool
	// Several writes a single register with function 16, One with function 6, which cannot write more.
	Several, One bool
}

// Query is a question and how its answer is understood.
type Query struct {
	Message   string
	Register  *Register
	Within    time.Duration
	Separator string
	Pattern   *regexp.Regexp
	Block     *scpi.Format
	Gives     []Reading
	// Yes and No begin the answers to a question of yes or no.
	Yes, No []string
	// Words turns the answer into a word of ours, for what takes words.
	Words map[string]string
	Place Place
}

// Exists tells whether there is anything to ask.
func (q Query) Exists() bool { return q.Message != "" || q.Register != nil || len(q.Gives) > 0 }

// Reading is one number of an answer.
type Reading struct {
	// Quantity is empty for a number that is skipped.
	Quantity string
	// Factor makes SI of the number.
	Factor float64
	// Words are answers that stand for numbers; Bit takes one bit of a status number, −1: none.
	Words    map[string]float64
	Bit      int
	Register *Register
	// Codes are answers that are no readings.
	Codes Codes
}

// Watchdog is the instrument's own: its outputs go off when nothing was sent for a time.
type Watchdog struct {
	Arm, Feed, Disarm Setter
	After             time.Duration
}

// Program is a list of levels that the instrument plays by itself.
type Program struct {
	Of                                 string
	Levels, Dwells, Times, Start, Stop Setter
	Running                            Query
	Most                               int
	Shortest                           time.Duration
}

// Gives lists the readings in the order of Read.
func (d *Dialect) Gives() (names []string) {
	for _, q := range d.Read {
		for _, g := range q.Gives {
			if g.Quantity != "" {
				names = append(names, g.Quantity)
			}
		}
	}
	return names
}

// For is the dialect of a channel that fills a kind of seat.
func (d *Dialect) For(kind string) *Dialect {
	if as, ok := d.As[kind]; ok {
		return as
	}
	return d
}

// BuiltMode is the mode in which a model is that cannot be told one, since it can be set one level only; empty: it
// can be told, or nobody knows.
func (d *Dialect) BuiltMode() (mode string) {
	if len(d.Words[seats.Mode]) > 0 {
		return ""
	}
	for _, level := range slices.Sorted(maps.Keys(d.Set)) {
		switch is := seats.ModeOf(level); {
		case is != "" && mode != "":
			return ""
		case is != "":
			mode = is
		}
	}
	return mode
}

// Modes lists the modes that can be set.
func (d *Dialect) Modes() []string { return slices.Sorted(maps.Keys(d.Words[seats.Mode])) }

// ChannelName stands for {channel} in messages.
func (d *Dialect) ChannelName(channel int) string {
	if channel >= 1 && channel <= len(d.ChannelNames) {
		return d.ChannelNames[channel-1]
	}
	return strconv.Itoa(channel)
}

// Fill puts a channel and a number in SI into the messages of a setter.
func (d *Dialect) Fill(s Setter, channel int, value float64) []string {
	numbers := d.Numbers
	if s.Numbers != nil {
		numbers = *s.Numbers
	}
	text := numbers.Format(value / s.Factor)
	filled := make([]string, len(s.Messages))
	for i, m := range s.Messages {
		filled[i] = strings.ReplaceAll(d.FillChannel(m, channel), "{value}", text)
	}
	return filled
}

// FillChannel puts a channel into a message.
func (d *Dialect) FillChannel(message string, channel int) string {
	return strings.ReplaceAll(message, "{channel}", d.ChannelName(channel))
}

// At moves a register to those of a channel.
func (d *Dialect) At(r *Register, channel int) int {
	if r.Common {
		return r.Address
	}
	return r.Address + (channel-1)*d.Stride
}

// clone copies what a derived dialect may change.
func (d *Dialect) clone() *Dialect {
	c := *d
	c.Set, c.Ask, c.Protect = maps.Clone(d.Set), maps.Clone(d.Ask), maps.Clone(d.Protect)
	c.SetRanges, c.ReadRanges, c.As = maps.Clone(d.SetRanges), maps.Clone(d.ReadRanges), maps.Clone(d.As)
	c.Built = maps.Clone(d.Built)
	c.Words = map[string]map[string]Setter{}
	for q, words := range d.Words {
		c.Words[q] = maps.Clone(words)
	}
	c.Sources = slices.Clone(d.Sources)
	return &c
}

func empty() *Dialect {
	return &Dialect{
		Protocol: Messages, Channels: 1, Within: time.Second, Numbers: Numbers{Decimals: 4}, Set: map[string]Setter{},
		Words: map[string]map[string]Setter{}, Built: map[string]string{},
		Ask: map[string]Query{}, Protect: map[string]Setter{}, SetRanges: map[string]uncertainty.Spec{},
		ReadRanges: map[string]uncertainty.Spec{},
		As:         map[string]*Dialect{},
	}
}

// ReadRange is the accuracy of a reading: its own, else that of the quantity of which it is a part.
func (d *Dialect) ReadRange(reading string) uncertainty.Spec {
	if spec, ok := d.ReadRanges[reading]; ok {
		return spec
	}
	return d.ReadRanges[quantity.WholeOf(reading)]
}

// Most is the largest value of a quantity that can be set; ok is false if no range says so.
func (d *Dialect) Most(q string) (most float64, ok bool) {
	spec := d.SetRanges[q]
	if len(spec) == 0 {
		return 0, false
	}
	return spec[len(spec)-1].To, true
}

// Show writes a value of a quantity for people.
func Show(q string, value float64) string {
	kind, _ := quantity.KindOf(q)
	return quantity.Quantity{Value: value, Dim: kind.Unit.Dim}.String()
}
