// Package wiring judges how the pins of a harness are joined: which nets a scan finds, and what is open, crossed or
// short against the nets that there shall be.
//
// Pins are by name. A net is a group of pins that shall be joined; its first pin is its anchor, by which the others
// are judged. A scan reads ohms between pairs of pins, and joined pins are the groups in which every pin is reached
// over pairs that are closed (union–find). Since what is joined is joined through any number of pins, a few pairs say
// as much as all of them ([First], [Scan.Next]).
package wiring

import (
	"errors"
	"fmt"
	"math"
	"slices"
)

// Net is a group of pins that shall be joined, its anchor first.
type Net []string

// Anchor is the pin by which the others of a net are judged.
func (n Net) Anchor() string { return n[0] }

// Limits say what is joined: Closed Ω at most; and what is parted: Open Ω at least. Between them nobody knows.
type Limits struct {
	Closed float64 `json:"closed"`
	Open   float64 `json:"open"`
}

// The usual limits, Ω.
const (
	UsualClosed = 10.0
	UsualOpen   = 1e6
)

// Pair is what was read between two pins, by their places in [Scan.Pins]: ohms, or more than the scan can tell.
type Pair struct {
	A, B int
	Ohms float64 // +Inf: over range
}

// Scan is what was read of a harness.
type Scan struct {
	// Pins are all that there are, in the order of the crosspoint's terminals.
	Pins []string `json:"pins"`
	// Nets are those that there shall be. A pin in none is a net by itself.
	Nets   []Net  `json:"nets"`
	Limits Limits `json:"limits"`
	// Range is the most that could be read, Ω.
	Range float64 `json:"range"`
	Pairs []Pair  `json:"pairs"`
}

// What keeps a scan from being judged.
var (
	// ErrMissing means that a pair was not read, and that nothing else tells whether its pins are joined.
	ErrMissing = errors.New("a pair was not read")
	// ErrImplausible means that pins are joined over others and parted by themselves.
	ErrImplausible = errors.New("readings contradict each other")
	// ErrOneNet means that there is nothing that could be kept apart.
	ErrOneNet = errors.New("there is one net only")
	// ErrAmbiguous means that nobody knows whether two pins are joined.
	ErrAmbiguous = errors.New("neither joined nor parted")
)

// Check says what is wrong with pins and nets; nil: nothing is.
func Check(pins []string, nets []Net) error {
	for i, p := range pins {
		if slices.Contains(pins[:i], p) {
			return fmt.Errorf("the pin %s is listed twice", p)
		}
	}
	in := map[string]bool{}
	for _, net := range nets {
		if len(net) < 2 {
			return fmt.Errorf("the net %v has one pin; a pin in no net is one by itself", net)
		}
		for _, p := range net {
			switch {
			case !slices.Contains(pins, p):
				return fmt.Errorf("the net of %s names the pin %s, which there is not", net.Anchor(), p)
			case in[p]:
				return fmt.Errorf("the pin %s is in two nets", p)
			}
			in[p] = true
		}
	}
	return nil
}

// PinsOf are the pins of nets, in their order.
func PinsOf(nets []Net) []string { return slices.Concat(nets...) }

// joined are the groups of joined pins, by the place of one of them: the root of each pin.
type joined []int

func (j joined) root(i int) int {
	for j[i] != i {
		j[i] = j[j[i]]
		i = j[i]
	}
	return i
}

// join groups the pins of a scan.
func (s Scan) join() joined {
	j := make(joined, len(s.Pins))
	for i := range j {
		j[i] = i
	}
	for _, p := range s.Pairs {
		if p.Ohms <= s.Limits.Closed {
			j[j.root(p.A)] = j.root(p.B)
		}
	}
	return j
}

// between is a pair of places, the smaller first.
func between(a, b int) [2]int { return [2]int{min(a, b), max(a, b)} }

// check tells why the groups of a scan are not known; nil: they are. Two groups are parted when any pair between them
// is: what is joined to either is joined to it whole.
func (s Scan) check(j joined) error {
	type sides struct{ closed, open bool }
	read := map[[2]int]sides{}
	parted := map[[2]int]bool{}
	for _, p := range s.Pairs {
		at := between(p.A, p.B)
		read[at] = sides{read[at].closed || p.Ohms <= s.Limits.Closed, read[at].open || p.Ohms >= s.Limits.Open}
		if p.Ohms >= s.Limits.Open {
			parted[between(j.root(p.A), j.root(p.B))] = true
		}
	}
	for _, p := range s.Pairs {
		a, b, same := s.Pins[p.A], s.Pins[p.B], j.root(p.A) == j.root(p.B)
		switch both := read[between(p.A, p.B)]; {
		case both.closed && both.open:
			return fmt.Errorf("%w: %s and %s conduct one way only", ErrAmbiguous, a, b)
		case same && p.Ohms >= s.Limits.Open:
			return fmt.Errorf("%w: %s and %s are joined over other pins, and parted by themselves", ErrImplausible, a, b)
		case !same && p.Ohms < s.Limits.Open && p.Ohms > s.Limits.Closed:
			return fmt.Errorf("%w: %.4g Ω between %s and %s", ErrAmbiguous, p.Ohms, a, b)
		}
	}
	for a := range s.Pins {
		for b := range a {
			if j.root(a) != j.root(b) && !parted[between(j.root(a), j.root(b))] {
				return fmt.Errorf("%w: between %s and %s", ErrMissing, s.Pins[b], s.Pins[a])
			}
		}
	}
	return nil
}

// ohms is the least that was read between two pins; NaN: nothing was.
func (s Scan) ohms(a, b int) float64 {
	least := math.NaN()
	for _, p := range s.Pairs {
		if between(p.A, p.B) == between(a, b) && !(p.Ohms > least) {
			least = p.Ohms
		}
	}
	return least
}

// place is where a pin stands; −1: there is none.
func (s Scan) place(pin string) int { return slices.Index(s.Pins, pin) }

// All are the pairs of so many pins, each once.
func All(pins int) (all [][2]int) {
	for b := range pins {
		for a := range b {
			all = append(all, [2]int{a, b})
		}
	}
	return all
}

// First are the pairs of the smart subset: every pin with its anchor, and the anchors with each other.
func First(pins []string, nets []Net) (pairs [][2]int) {
	s := Scan{Pins: pins, Nets: nets}
	anchors := s.anchors()
	for p := range pins {
		if a := anchors[p]; a != p {
			pairs = append(pairs, between(a, p))
			continue
		}
		for other := range p {
			if anchors[other] == other {
				pairs = append(pairs, [2]int{other, p})
			}
		}
	}
	return pairs
}

// Next are the pairs that are still to be read after those of [First]: of every pin that is not joined to its anchor
// with all others. None: the scan says as much as all pairs would.
func (s Scan) Next() (pairs [][2]int) {
	read := map[[2]int]bool{}
	for _, p := range s.Pairs {
		read[between(p.A, p.B)] = true
	}
	anchors, j := s.anchors(), s.join()
	for p := range s.Pins {
		if j.root(p) == j.root(anchors[p]) {
			continue
		}
		for other := range s.Pins {
			if at := between(p, other); other != p && !read[at] && j.root(p) != j.root(other) {
				read[at] = true
				pairs = append(pairs, at)
			}
		}
	}
	return pairs
}

// anchors gives the place of the anchor of each pin.
func (s Scan) anchors() []int {
	places := make(map[string]int, len(s.Pins))
	anchors := make([]int, len(s.Pins))
	for i, p := range s.Pins {
		places[p], anchors[i] = i, i
	}
	for _, net := range s.Nets {
		for _, p := range net {
			anchors[places[p]] = places[net.Anchor()]
		}
	}
	return anchors
}
