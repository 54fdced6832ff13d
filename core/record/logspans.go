package record

import (
	"fmt"
	"math"
)

// joinedOver is the longest pause, s, that does not part two halves of one direction: a charger that tests the
// battery is still charging it.
const joinedOver = 15 * 60.0

// offShare is the part of the largest current below which none flows.
const offShare = 0.01

// EndOfCurrent is the rule that ended a half-cycle of a log: what made the current end nobody knows.
const EndOfCurrent = "the end of the current"

// LogSpans finds the half-cycles in a log of which no stages are known, from the sign of the current: named
// "charge 1", "discharge 1", "rest 1" … in order. A current below 1 % of the largest counts as none.
func LogSpans(t, amps []float64) []Span {
	var top float64
	for _, i := range amps {
		if !math.IsNaN(i) {
			top = math.Max(top, math.Abs(i))
		}
	}
	kindOf := func(i float64) string {
		switch {
		case math.Abs(i) <= offShare*top:
			return "rest"
		case i > 0:
			return "charge"
		}
		return "discharge"
	}
	var all []Span
	for k, i := range amps {
		if math.IsNaN(i) {
			continue
		}
		if kind := kindOf(i); len(all) == 0 || all[len(all)-1].Kind != kind {
			if n := len(all); n > 0 {
				all[n-1].T1 = t[k]
			}
			all = append(all, Span{Kind: kind, T0: t[k], T1: t[k]})
		}
		all[len(all)-1].T1 = t[k]
	}
	for k := 1; k+1 < len(all); {
		if all[k].Kind == "rest" && all[k].T1-all[k].T0 <= joinedOver && all[k-1].Kind == all[k+1].Kind {
			all[k-1].T1 = all[k+1].T1
			all = append(all[:k], all[k+2:]...)
			continue
		}
		k++
	}
	count := map[string]int{}
	for k := range all {
		count[all[k].Kind]++
		all[k].Name = fmt.Sprintf("%s %d", all[k].Kind, count[all[k].Kind])
	}
	return all
}
