// Package contract reads and writes what a charger offers over USB Power Delivery: the 32-bit source objects of
// IEC 62680-1-2, by position, and tells how much current each needs of its cable.
package contract

import (
	"fmt"
	"math"
	"slices"
)

// Kind is the kind of a source object.
type Kind string

// The kinds. Empty is a place in which nothing is offered; Unknown is one of which the standard knows no kind.
const (
	Empty         Kind = "empty"
	Fixed         Kind = "fixed"
	Battery       Kind = "battery"
	Variable      Kind = "variable"
	Programmable  Kind = "programmable"
	ExtendedRange Kind = "adjustable, extended range"
	StandardRange Kind = "adjustable, standard range"
	Unknown       Kind = "unknown"
)

// Object is what a source offers in one place. What its kind does not tell is zero.
type Object struct {
	Kind Kind `json:"kind"`
	// Lowest and Highest bound the volts; of a fixed object both are its volts, of an adjustable one of the standard
	// range they are 9 V and 15 V, or 20 V where it gives current up to there.
	Lowest  float64 `json:"lowest,omitempty"`
	Highest float64 `json:"highest,omitempty"`
	// Amps is the highest current, A; of an adjustable object of the standard range up to 15 V, AmpsAbove above.
	Amps      float64 `json:"amps,omitempty"`
	AmpsAbove float64 `json:"ampsAbove,omitempty"`
	// Watts is the highest power, W, of a battery and of an adjustable object of the extended range.
	Watts float64 `json:"watts,omitempty"`
	// Peak is the peak current class, 0 to 3.
	Peak int `json:"peak,omitempty"`
	// Limited says of a programmable object that its power is limited.
	Limited bool `json:"limited,omitempty"`
	// Source is what a fixed object says of the whole source, which counts in the first place only.
	Source Source `json:"source,omitzero"`
	// Reserved are the bits that the standard keeps for later, where they stand; 0 in a sound object.
	Reserved uint32 `json:"reserved,omitempty"`
}

// Source is what a source says of itself.
type Source struct {
	DualRolePower  bool `json:"dualRolePower,omitempty"`
	Suspend        bool `json:"suspend,omitempty"`
	Unconstrained  bool `json:"unconstrained,omitempty"`
	Communications bool `json:"communications,omitempty"`
	DualRoleData   bool `json:"dualRoleData,omitempty"`
	Unchunked      bool `json:"unchunked,omitempty"`
	Extended       bool `json:"extended,omitempty"`
}

// number is a field of an object: so many bits from a bit on, in steps.
type number struct {
	of           func(*Object) *float64
	shift, width int
	step         float64
	unit         string
}

// layout is how the objects of a kind are written.
type layout struct {
	tag, mask uint32 // the bits by which the kind is told
	numbers   []number
	peak      int // the lowest bit of the peak current class; 0: it has none
	flags     map[int]func(*Object) *bool
}

func lowest(o *Object) *float64    { return &o.Lowest }
func highest(o *Object) *float64   { return &o.Highest }
func amps(o *Object) *float64      { return &o.Amps }
func ampsAbove(o *Object) *float64 { return &o.AmpsAbove }
func watts(o *Object) *float64     { return &o.Watts }

// layouts are those of IEC 62680-1-2, source capabilities; bit 31 is the highest.
var layouts = map[Kind]layout{
	Fixed: {tag: 0, mask: 0xC0000000, peak: 20,
		numbers: []number{{highest, 10, 10, 0.05, "V"}, {amps, 0, 10, 0.01, "A"}},
		flags: map[int]func(*Object) *bool{
			29: func(o *Object) *bool { return &o.Source.DualRolePower },
			28: func(o *Object) *bool { return &o.Source.Suspend },
			27: func(o *Object) *bool { return &o.Source.Unconstrained },
			26: func(o *Object) *bool { return &o.Source.Communications },
			25: func(o *Object) *bool { return &o.Source.DualRoleData },
			24: func(o *Object) *bool { return &o.Source.Unchunked },
			23: func(o *Object) *bool { return &o.Source.Extended },
		}},
	Battery: {tag: 0x40000000, mask: 0xC0000000,
		numbers: []number{{highest, 20, 10, 0.05, "V"}, {lowest, 10, 10, 0.05, "V"}, {watts, 0, 10, 0.25, "W"}}},
	Variable: {tag: 0x80000000, mask: 0xC0000000,
		numbers: []number{{highest, 20, 10, 0.05, "V"}, {lowest, 10, 10, 0.05, "V"}, {amps, 0, 10, 0.01, "A"}}},
	Programmable: {tag: 0xC0000000, mask: 0xF0000000,
		numbers: []number{{highest, 17, 8, 0.1, "V"}, {lowest, 8, 8, 0.1, "V"}, {amps, 0, 7, 0.05, "A"}},
		flags:   map[int]func(*Object) *bool{27: func(o *Object) *bool { return &o.Limited }}},
	ExtendedRange: {tag: 0xD0000000, mask: 0xF0000000, peak: 26,
		numbers: []number{{highest, 17, 9, 0.1, "V"}, {lowest, 8, 8, 0.1, "V"}, {watts, 0, 8, 1, "W"}}},
	StandardRange: {tag: 0xE0000000, mask: 0xF0000000, peak: 26,
		numbers: []number{{amps, 10, 10, 0.01, "A"}, {ampsAbove, 0, 10, 0.01, "A"}}},
	Unknown: {tag: 0xF0000000, mask: 0xF0000000},
}

// The volts between which adjustable objects of the standard range give current.
const (
	standardLowest, standardMiddle, standardHighest = 9, 15, 20
)

// Decode reads a source object. Every one can be read; what is wrong with it, [Check] tells.
func Decode(raw uint32) Object {
	if raw == 0 {
		return Object{Kind: Empty}
	}
	for kind, l := range layouts {
		if raw&l.mask == l.tag {
			return l.decode(kind, raw)
		}
	}
	panic("the layouts cover all four bits") // which a test proves
}

func (l layout) decode(kind Kind, raw uint32) Object {
	o := Object{Kind: kind, Reserved: raw &^ l.used()}
	for _, n := range l.numbers {
		// Rounded to a thousandth, so that 33 steps of 0.1 V are 3.3 V and not 3.3000000000000003 V.
		*n.of(&o) = math.Round(float64(raw>>n.shift&ones(n.width))*n.step*1000) / 1000
	}
	if l.peak > 0 {
		o.Peak = int(raw >> l.peak & ones(2))
	}
	for bit, of := range l.flags {
		*of(&o) = raw>>bit&1 == 1
	}
	return o.bounded()
}

// bounded states the volts that the kind implies.
func (o Object) bounded() Object {
	switch o.Kind {
	case Fixed:
		o.Lowest = o.Highest
	case StandardRange:
		o.Lowest, o.Highest = standardLowest, standardMiddle
		if o.AmpsAbove > 0 {
			o.Highest = standardHighest
		}
	}
	return o
}

// used are the bits that have a meaning.
func (l layout) used() uint32 {
	bits := l.mask
	for _, n := range l.numbers {
		bits |= ones(n.width) << n.shift
	}
	if l.peak > 0 {
		bits |= ones(2) << l.peak
	}
	for bit := range l.flags {
		bits |= 1 << bit
	}
	return bits
}

func ones(width int) uint32 { return 1<<width - 1 }

// Encode writes a source object. It fails where a value cannot be written in the steps of its kind.
func Encode(o Object) (uint32, error) {
	if o.Kind == Empty {
		return 0, nil
	}
	l, known := layouts[o.Kind]
	if !known {
		return 0, fmt.Errorf("there is no kind of source object called %q", o.Kind)
	}
	if o.Reserved&l.used() != 0 {
		return 0, fmt.Errorf("%s: bits %#x are not reserved", o.Kind, o.Reserved&l.used())
	}
	raw := l.tag | o.Reserved
	for _, n := range l.numbers {
		steps := *n.of(&o) / n.step
		whole := math.Round(steps)
		if most := float64(ones(n.width)); !(math.Abs(steps-whole) < 1e-6) || whole < 0 || whole > most {
			return 0, fmt.Errorf("%s: %g %s cannot be written; it goes in steps of %g %s up to %.6g %s", o.Kind,
				*n.of(&o), n.unit, n.step, n.unit, most*n.step, n.unit)
		}
		raw |= uint32(whole) << n.shift
	}
	if o.Peak < 0 || o.Peak > 3 || o.Peak > 0 && l.peak == 0 {
		return 0, fmt.Errorf("%s: there is no peak current class %d", o.Kind, o.Peak)
	}
	if l.peak > 0 {
		raw |= uint32(o.Peak) << l.peak
	}
	for bit, of := range l.flags {
		if *of(&o) {
			raw |= 1 << bit
		}
	}
	return raw, nil
}

// Flags lists what else an object says, in words.
func (o Object) Flags() (words []string) {
	for _, f := range []struct {
		is    bool
		words string
	}{{o.Source.DualRolePower, "dual-role power"}, {o.Source.Suspend, "suspend supported"},
		{o.Source.Unconstrained, "unconstrained power"}, {o.Source.Communications, "communications capable"},
		{o.Source.DualRoleData, "dual-role data"}, {o.Source.Unchunked, "unchunked messages"},
		{o.Source.Extended, "extended range capable"}, {o.Limited, "power-limited"}} {
		if f.is {
			words = append(words, f.words)
		}
	}
	if o.Peak > 0 {
		words = append(words, fmt.Sprintf("peak current class %d", o.Peak))
	}
	return words
}

// Finding is something odd in what a source offers.
type Finding struct {
	Position int    `json:"position"` // from 1
	Words    string `json:"words"`
}

// Check tells what is odd in the objects of a source, by position.
func Check(objects []Object) (findings []Finding) {
	fixed := 0.0 // volts of the fixed object before
	for i, o := range objects {
		odd := func(format string, args ...any) {
			findings = append(findings, Finding{i + 1, fmt.Sprintf(format, args...)})
		}
		if i == 0 && (o.Kind != Fixed || o.Highest != 5) {
			odd("the first object must be fixed, 5 V")
		}
		switch {
		case o.Kind == Unknown:
			odd("its kind is not known")
		case o.Reserved != 0:
			odd("reserved bits are set: %#x", o.Reserved)
		}
		if o.Lowest > o.Highest {
			odd("its lowest volts, %g V, are above its highest, %g V", o.Lowest, o.Highest)
		}
		if o.Kind == Fixed {
			if o.Highest <= fixed {
				odd("fixed volts must rise from object to object: %g V comes after %g V", o.Highest, fixed)
			}
			fixed = o.Highest
		}
	}
	return findings
}

// HighestAmps is the highest current that an object offers, A; ok is false where it offers none that can be told.
func (o Object) HighestAmps() (amps float64, ok bool) {
	switch o.Kind {
	case Fixed, Variable, Programmable:
		return o.Amps, true
	case Battery:
		return o.Watts / o.Lowest, o.Lowest > 0
	case ExtendedRange:
		return math.Min(cable5, o.Watts/o.Lowest), o.Lowest > 0
	case StandardRange:
		return math.Max(o.Amps, o.AmpsAbove), true
	}
	return 0, false
}

// What cables bear, A, and up to which volts an object is of the standard range.
const (
	cable3, cable5 = 3, 5
	mostStandard   = 20
)

// Need is what an object needs of its cable.
type Need string

// The needs; the last two where the cable is known.
const (
	Fits3A       Need = "fits-3A"
	Needs5A      Need = "needs-5A-cable"
	Above5A      Need = "above-5A"
	CableIsRight Need = "ok"
	ExceedsCable Need = "exceeds-cable"
)

// Needs tells what an object needs of its cable, which bears so many amps; 0: nobody knows. ok is false where the
// object offers no current that can be told.
func (o Object) Needs(cable float64) (need Need, ok bool) {
	amps, ok := o.HighestAmps()
	if !ok {
		return "", false
	}
	need = Above5A
	switch {
	case amps <= cable3+1e-9 && !o.extended():
		need = Fits3A
	case amps <= cable5+1e-9:
		need = Needs5A
	}
	if cable == 0 {
		return need, true
	}
	bears := []Need{Fits3A}
	if cable >= cable5 {
		bears = append(bears, Needs5A)
	}
	if slices.Contains(bears, need) {
		return CableIsRight, true
	}
	return ExceedsCable, true
}

// extended tells whether an object is of the extended range, which needs a cable that is made for it.
func (o Object) extended() bool {
	return o.Kind == ExtendedRange || o.Kind == Fixed && o.Highest > mostStandard
}
