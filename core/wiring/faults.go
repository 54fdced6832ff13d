package wiring

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"usherbench/core/quantity"
)

// FaultKind is what is wrong with pins.
type FaultKind string

// The kinds of faults.
const (
	// Opened pins are joined to no anchor.
	Opened FaultKind = "open"
	// Miswired pins are joined to the anchor of another net and not to their own.
	Miswired FaultKind = "miswire"
	// Shorted nets are joined to each other.
	Shorted FaultKind = "short"
)

// Fault is one fault, with the pins that it is at. Of an open they are the anchor of the net and the pins that are
// parted from it, of a miswire the anchor that a pin is joined to and the pin, of a short a pin of each net.
type Fault struct {
	Kind FaultKind `json:"kind"`
	Pins []string  `json:"pins"`
	// Ohms between the first pin and the last; +Inf: more than could be read, NaN: that pair was not read.
	Ohms float64 `json:"-"`
	// Counts is how many it counts for.
	Counts int `json:"-"`
}

// Words says it to people: "open: B3 is parted from A3".
func (f Fault) Words() string {
	first, last := f.Pins[0], f.Pins[len(f.Pins)-1]
	switch f.Kind {
	case Opened:
		return fmt.Sprintf("%s is parted from %s", list(f.Pins[1:]), first)
	case Miswired:
		return fmt.Sprintf("%s is joined to %s", last, first)
	}
	return fmt.Sprintf("%s are joined", list(f.Pins))
}

func list(pins []string) string {
	words := ""
	for i, p := range pins {
		switch {
		case i == 0:
		case i == len(pins)-1:
			words += " and "
		default:
			words += ", "
		}
		words += p
	}
	return words
}

// Found is what a scan says of a harness.
type Found struct {
	// Nets is how many groups of joined pins there are, single pins too.
	Nets   int
	Faults []Fault
}

// Count is how many faults of a kind there are.
func (f Found) Count(kind FaultKind) (n int) {
	for _, x := range f.Faults {
		if x.Kind == kind {
			n += x.Counts
		}
	}
	return n
}

// Judge holds a scan against the nets that there shall be. The error is [ErrMissing], [ErrImplausible] or
// [ErrAmbiguous], with the pins: then nothing is counted.
func (s Scan) Judge() (Found, error) {
	j := s.join()
	if err := s.check(j); err != nil {
		return Found{}, err
	}
	groups := map[int][]int{}
	for p := range s.Pins {
		groups[j.root(p)] = append(groups[j.root(p)], p)
	}
	found := Found{Nets: len(groups)}
	anchors := s.anchors()
	for _, group := range groups {
		found.Faults = append(found.Faults, s.faultsOf(group, anchors)...)
	}
	slices.SortFunc(found.Faults, func(a, b Fault) int {
		return cmp.Or(s.place(a.Pins[0])-s.place(b.Pins[0]), s.place(a.Pins[len(a.Pins)-1])-s.place(b.Pins[len(b.Pins)-1]))
	})
	return found, nil
}

// faultsOf are the faults of a group of joined pins.
func (s Scan) faultsOf(group, anchors []int) (faults []Fault) {
	inGroup := map[int]bool{}
	var heads []int          // anchors in the group
	byNet := map[int][]int{} // the pins in it, by their anchor
	for _, p := range group {
		inGroup[p] = true
		if anchors[p] == p {
			heads = append(heads, p)
		}
		byNet[anchors[p]] = append(byNet[anchors[p]], p)
	}
	fault := func(kind FaultKind, counts int, pins ...int) {
		f := Fault{Kind: kind, Ohms: s.ohms(pins[0], pins[len(pins)-1]), Counts: counts}
		for _, p := range pins {
			f.Pins = append(f.Pins, s.Pins[p])
		}
		faults = append(faults, f)
	}
	if len(heads) == 0 {
		var nets []int
		for anchor, pins := range byNet {
			fault(Opened, 1, append([]int{anchor}, pins...)...)
			nets = append(nets, pins[0])
		}
		if slices.Sort(nets); len(nets) > 1 {
			fault(Shorted, len(nets)-1, nets...)
		}
		return faults
	}
	if len(heads) > 1 {
		fault(Shorted, len(heads)-1, heads...)
	}
	for _, p := range group {
		if anchors[p] != p && !inGroup[anchors[p]] {
			fault(Miswired, 1, heads[0], p)
		}
	}
	return faults
}

// Isolation is the least resistance between pins of different nets that there shall be, with the pair; over says that
// all of them are more than could be read, so that the range is a bound. A pair that is joined to another over closed
// ones counts as read with it. The error is that of [Scan.Judge], or [ErrOneNet].
func (s Scan) Isolation() (least Pair, over bool, err error) {
	if _, err := s.Judge(); err != nil {
		return Pair{}, false, err
	}
	anchors := s.anchors()
	least.Ohms, over = math.Inf(1), true
	some := false
	for _, p := range s.Pairs {
		if anchors[p.A] == anchors[p.B] {
			continue
		}
		if some = true; p.Ohms < least.Ohms {
			least, over = p, false
		}
	}
	if !some {
		return Pair{}, false, ErrOneNet
	}
	return least, over, nil
}

// Contact is a contact between the anchor of a net and another pin of it.
type Contact struct {
	From, To string
	Ohms     float64
}

// Contacts are the resistances from each anchor to the pins of its net that were read and are no open.
func (s Scan) Contacts() (all []Contact) {
	anchors := s.anchors()
	for p, name := range s.Pins {
		if a := anchors[p]; a != p {
			if ohms := s.ohms(a, p); ohms <= s.Limits.Closed {
				all = append(all, Contact{s.Pins[a], name, ohms})
			}
		}
	}
	return all
}

// Copper, after IEC 60028: resistivity at 20 °C, Ω·m, and by which share it rises with every kelvin.
const (
	resistivity = 17.24e-9
	risesBy     = 0.00393
)

// Copper is the resistance of a copper wire, Ω, by its length, m, its area, m², and its temperature, °C.
func Copper(length, area, celsius float64) float64 {
	return resistivity * length / area * (1 + risesBy*(celsius-20))
}

// Words says how much was read, and what was found: "28 of 91 pairs: 7 nets".
func (s Scan) Words() string {
	words := fmt.Sprintf("%d of %d pairs read", len(s.Pairs), len(s.Pins)*(len(s.Pins)-1)/2)
	found, err := s.Judge()
	switch {
	case err != nil:
		return words + ": " + err.Error()
	case len(found.Faults) == 0:
		return fmt.Sprintf("%s: %d nets, as they shall be", words, found.Nets)
	}
	first := found.Faults[0]
	words = fmt.Sprintf("%s: %s, %s", words, first.Kind, first.Words())
	if more := len(found.Faults) - 1; more > 0 {
		words += fmt.Sprintf(", and %d more", more)
	}
	return words
}

// OhmsWords shows what was read: "0.21 Ω", or "over 100 MΩ".
func (s Scan) OhmsWords(ohms float64) string {
	switch {
	case math.IsNaN(ohms):
		return ""
	case math.IsInf(ohms, 1):
		return "over " + quantity.Quantity{Value: s.Range, Dim: quantity.Resistance}.Format(4)
	}
	return quantity.Quantity{Value: ohms, Dim: quantity.Resistance}.Format(4)
}
