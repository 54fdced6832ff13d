package population

import (
	"cmp"
	"slices"
)

// stretch is a time in which a bay was at work, s.
type stretch struct{ from, to float64 }

// atWork are the times in which a bay was at work: from the start of an attempt to the end of another, pauses left out.
func atWork(attempts []Attempt, pause float64) (all []stretch) {
	attempts = slices.Clone(attempts)
	slices.SortStableFunc(attempts, func(a, b Attempt) int { return cmp.Compare(a.Began, b.Began) })
	for _, a := range attempts {
		if n := len(all); n > 0 && a.Began-all[n-1].to <= pause {
			all[n-1].to = max(all[n-1].to, a.Ended)
			continue
		}
		all = append(all, stretch{a.Began, a.Ended})
	}
	return all
}

// Use is how much of the time in which a bay is at work it tests, %; 0 where it never was.
func Use(attempts []Attempt, pause float64) float64 {
	tests, work := 0.0, length(atWork(attempts, pause))
	for _, a := range attempts {
		tests += a.Ended - a.Began
	}
	if work <= 0 {
		return 0
	}
	return 100 * tests / work
}

// Saved is the time that bays side by side saved, s: what each was at work, one after another, less the time in which
// any was.
func Saved(bays [][]Attempt, pause float64) float64 {
	var all []stretch
	for _, attempts := range bays {
		all = append(all, atWork(attempts, pause)...)
	}
	alone := length(all)
	slices.SortFunc(all, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	var together []stretch
	for _, s := range all {
		if n := len(together); n > 0 && s.from <= together[n-1].to {
			together[n-1].to = max(together[n-1].to, s.to)
			continue
		}
		together = append(together, s)
	}
	return alone - length(together)
}

func length(all []stretch) (sum float64) {
	for _, s := range all {
		sum += s.to - s.from
	}
	return sum
}
