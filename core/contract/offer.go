package contract

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"usherbench/core/quantity"
)

// MostPlaces is in how many places a source offers something at most.
const MostPlaces = quantity.MostPlaces

// Offer is what a source offers: its objects as they were read, the one in position 1 first. Empty places are 0.
type Offer []uint32

// ReadOffer reads an offer from its objects as hexadecimal numbers, such as "0x0801912C 0x00064145".
func ReadOffer(text string) (Offer, error) {
	var o Offer
	for _, word := range strings.Fields(text) {
		raw, err := strconv.ParseUint(word, 0, 32)
		if err != nil {
			return nil, fmt.Errorf("%q is no source object; write its 32 bits like 0x0801912C", word)
		}
		o = append(o, uint32(raw))
	}
	if len(o) == 0 || len(o) > MostPlaces {
		return nil, fmt.Errorf("a source offers something in 1 to %d places, not in %d", MostPlaces, len(o))
	}
	return o, nil
}

// String writes the offer as [ReadOffer] reads it, without the empty places at its end.
func (o Offer) String() string {
	for len(o) > 0 && o[len(o)-1] == 0 {
		o = o[:len(o)-1]
	}
	words := make([]string, len(o))
	for i, raw := range o {
		words[i] = fmt.Sprintf("0x%08X", raw)
	}
	return strings.Join(words, " ")
}

// Objects decodes the offer, by position.
func (o Offer) Objects() []Object {
	objects := make([]Object, len(o))
	for i, raw := range o {
		objects[i] = Decode(raw)
	}
	return objects
}

// Like tells whether two offers have the same volts, amps and watts in the same places, whatever else they say.
func (o Offer) Like(other Offer) bool {
	for i := range max(len(o), len(other)) {
		var x, y Object
		if i < len(o) {
			x = Decode(o[i])
		}
		if i < len(other) {
			y = Decode(other[i])
		}
		x, y = x.bare(), y.bare()
		if x != y {
			return false
		}
	}
	return true
}

// bare is the object with what can be agreed on alone.
func (o Object) bare() Object {
	if o.Kind == Empty {
		o.Kind = ""
	}
	return Object{Kind: o.Kind, Lowest: o.Lowest, Highest: o.Highest, Amps: o.Amps, AmpsAbove: o.AmpsAbove, Watts: o.Watts}
}

// Terms are what a sink asks for, or what was agreed: a position with volts and amps. The zero value is no contract.
type Terms struct {
	Position    int
	Volts, Amps float64
}

// Grant tells what a source agrees to when a sink asks for terms; ok is false where it must refuse: for a place in
// which it offers nothing, for volts outside an adjustable object, and for more current than it offers. Amps of 0
// ask for all that is offered, and the volts of an object that is not adjustable are its own.
func (o Offer) Grant(asked Terms) (agreed Terms, ok bool) {
	if asked.Position < 1 || asked.Position > len(o) {
		return Terms{}, false
	}
	x := Decode(o[asked.Position-1])
	amps, offers := x.HighestAmps()
	if !offers {
		return Terms{}, false
	}
	agreed = Terms{asked.Position, x.Highest, amps}
	if x.Adjustable() {
		agreed.Volts = asked.Volts
		if asked.Volts < x.Lowest-tiny || asked.Volts > x.Highest+tiny {
			return Terms{}, false
		}
		amps = x.ampsAt(asked.Volts)
		agreed.Amps = amps
	}
	if asked.Amps > 0 {
		agreed.Amps = asked.Amps
	}
	return agreed, asked.Amps <= amps+tiny
}

// Find is the first position that can give volts and amps: a fixed object of these volts before an adjustable one.
func (o Offer) Find(volts, amps float64) (position int, ok bool) {
	for _, adjustable := range []bool{false, true} {
		for i, x := range o.Objects() {
			agreed, granted := o.Grant(Terms{i + 1, volts, amps})
			if granted && x.Adjustable() == adjustable && math.Abs(agreed.Volts-volts) <= fixedStep/2 {
				return i + 1, true
			}
		}
	}
	return 0, false
}

// tiny is what two numbers of an object may differ by and be the same, fixedStep the step of fixed volts.
const (
	tiny      = 1e-9
	fixedStep = 0.05
)

// Adjustable tells whether a sink chooses the volts of the object.
func (o Object) Adjustable() bool {
	return o.Kind == Programmable || o.Kind == ExtendedRange || o.Kind == StandardRange
}

// ampsAt is the highest current that an adjustable object offers at some volts.
func (o Object) ampsAt(volts float64) float64 {
	switch {
	case o.Kind == ExtendedRange:
		return math.Min(cable5, o.Watts/volts)
	case o.Kind == StandardRange && volts > standardMiddle:
		return o.AmpsAbove
	}
	return o.Amps
}

// Words says in a few words what an object offers: "20 V 3.25 A", "3.3 to 11 V 5 A".
func (o Object) Words() string {
	amps, ok := o.HighestAmps()
	switch {
	case o.Kind == Empty || o.Kind == Unknown || !ok:
		return string(o.Kind)
	case o.Kind == Battery || o.Kind == ExtendedRange:
		return fmt.Sprintf("%g to %g V %g W", o.Lowest, o.Highest, o.Watts)
	case o.Lowest == o.Highest:
		return fmt.Sprintf("%g V %g A", o.Highest, amps)
	}
	return fmt.Sprintf("%g to %g V %g A", o.Lowest, o.Highest, amps)
}
