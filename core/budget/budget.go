// Package budget keeps what something bears for moments, but not for long: the mean of its power over any window of a
// time.
package budget

import (
	"math"
	"slices"
)

// Budget is a bound of a mean power, W, over any window of a time, s. The zero Budget bounds nothing.
type Budget struct {
	Watts, Over float64
}

// Bounds tells whether there is a bound at all.
func (b Budget) Bounds() bool { return b.Watts > 0 && b.Over > 0 }

// Ledger is what has been borne of late. It begins with the worst: a budget that was used up to its bound.
type Ledger struct {
	Budget
	// borne is the energy, W·s, by each of some times; between them it grows evenly.
	times, borne []float64
}

// fineness is into how many parts of a window a ledger tells what was borne.
const fineness = 600

// New is a ledger at a time of which nobody knows what was before.
func New(b Budget, now float64) *Ledger {
	return &Ledger{Budget: b, times: []float64{now - b.Over, now}, borne: []float64{0, b.Watts * b.Over}}
}

// Take notes a power from the end of what was noted to a time. What does not come after it is left out.
func (l *Ledger) Take(to, watts float64) {
	n := len(l.times)
	if to <= l.times[n-1] {
		return
	}
	energy := l.borne[n-1] + watts*(to-l.times[n-1])
	if n > 2 && to-l.times[n-2] < l.Over/fineness { // so finely nobody needs to know it
		l.times[n-1], l.borne[n-1] = to, energy
	} else {
		l.times, l.borne = append(l.times, to), append(l.borne, energy)
	}
	old := 0
	for old+2 < len(l.times) && l.times[old+1] < to-l.Over {
		old++
	}
	if old > fineness {
		l.times, l.borne = slices.Clone(l.times[old:]), slices.Clone(l.borne[old:])
	}
}

// Now is up to when it is known.
func (l *Ledger) Now() float64 { return l.times[len(l.times)-1] }

// by is the energy that was borne by a time, W·s.
func (l *Ledger) by(t float64) float64 {
	k, _ := slices.BinarySearch(l.times, t)
	switch {
	case k == 0:
		return l.borne[0]
	case k == len(l.times):
		return l.borne[k-1]
	}
	share := (t - l.times[k-1]) / (l.times[k] - l.times[k-1])
	return l.borne[k-1] + share*(l.borne[k]-l.borne[k-1])
}

// Mean is the mean power over the window that ends now, W.
func (l *Ledger) Mean() float64 { return (l.by(l.Now()) - l.by(l.Now()-l.Over)) / l.Over }

// Holds tells whether a power may be borne for a time that begins after a wait, s. Between the places where what was
// borne bends the mean of a window goes straight up or down, so that it is enough to look at windows that begin there.
func (l *Ledger) Holds(wait, watts, seconds float64) bool {
	start, all := l.Now()+wait, l.by(l.Now())
	fits := func(end float64) bool {
		own := watts * math.Min(end-start, l.Over)
		return all-l.by(end-l.Over)+own <= l.Watts*l.Over*(1+1e-9)
	}
	for _, t := range l.times {
		if end := t + l.Over; end > start && end < start+seconds && !fits(end) {
			return false
		}
	}
	return fits(start) && fits(start+seconds)
}

// Ever tells whether a power may be borne for a time at all.
func (b Budget) Ever(watts, seconds float64) bool {
	return watts*math.Min(seconds, b.Over) <= b.Watts*b.Over
}
