package population

import (
	"cmp"
	"math"
	"slices"

	"usherbench/core/outcome"
	"usherbench/core/record"
)

// Attempt is one run of a unit that ended in pass, marginal or fail. Others count for nothing here.
type Attempt struct {
	// Began and Ended are in s from any instant that all attempts share.
	Began, Ended float64
	Outcome      outcome.Outcome
	// Failing are the ids of the figures that failed, in their order.
	Failing []string
}

// Counts tells whether an attempt of such an outcome counts: aborted and undetermined ones are listed beside.
func Counts(o outcome.Outcome) bool {
	return o == outcome.Pass || o == outcome.Marginal || o == outcome.Fail
}

// Passed tells whether an attempt passed; marginal counts as a pass unless strict.
func (a Attempt) Passed(strict bool) bool {
	return a.Outcome == outcome.Pass || a.Outcome == outcome.Marginal && !strict
}

// Tested is a unit with its attempts in the order of time, at least one.
type Tested struct {
	Serial   string
	Attempts []Attempt
	// First has the first attempt decide, and not the last.
	First bool
}

// Decisive is the attempt that counts for the unit.
func (u Tested) Decisive() Attempt { return u.Attempts[Deciding(len(u.Attempts), u.First)] }

// Deciding is which of n attempts in the order of time counts for a unit, from 0: the last, or the first.
func Deciding(n int, first bool) int {
	if first {
		return 0
	}
	return n - 1
}

// Share is a part of a population in %, with the ends of its 95 % interval.
type Share struct{ Value, Low, High float64 }

// normal95 is z of a 95 % interval.
const normal95 = 1.96

// Wilson is 100·k/n with Wilson's interval of 95 %, which is sound at 0 and 100 % too:
//
//	(p + z²/2n ± z·√(p·(1 − p)/n + z²/4n²)) / (1 + z²/n)
//
// It fails with too-few where there is no unit.
func Wilson(k, n int) (Share, error) {
	if n < 1 {
		return Share{}, record.Because(record.TooFew, "no unit was tested")
	}
	p, m := float64(k)/float64(n), float64(n)
	middle := p + normal95*normal95/(2*m)
	reach := normal95 * math.Sqrt(p*(1-p)/m+normal95*normal95/(4*m*m))
	whole := 1 + normal95*normal95/m
	s := Share{100 * p, 100 * (middle - reach) / whole, 100 * (middle + reach) / whole}
	if k == 0 { // exactly, which rounding need not give
		s.Low = 0
	}
	if k == n {
		s.High = 100
	}
	return s, nil
}

// Yield is the share of the units whose decisive attempt passed, FirstPass of those whose first did, and Retest of
// those that had more than one.
func Yield(units []Tested, strict bool) (Share, error) {
	return share(units, func(u Tested) bool { return u.Decisive().Passed(strict) })
}

// FirstPass is the share of the units that passed at once.
func FirstPass(units []Tested, strict bool) (Share, error) {
	return share(units, func(u Tested) bool { return u.Attempts[0].Passed(strict) })
}

// Retest is the share of the units that were tested more than once.
func Retest(units []Tested) (Share, error) {
	return share(units, func(u Tested) bool { return len(u.Attempts) > 1 })
}

func share(units []Tested, is func(Tested) bool) (Share, error) {
	k := 0
	for _, u := range units {
		if is(u) {
			k++
		}
	}
	return Wilson(k, len(units))
}

// Cause is a figure that fails, how many units do by it, its share of all of them, and that of it and all before it, %.
type Cause struct {
	Figure            string
	Units             int
	Share, Cumulative float64
}

// Pareto counts the failing figures of failed attempts, each unit once at its first failing figure, or with each at all
// of them; in falling order, ties by id. It fails with too-few where nothing failed.
func Pareto(units []Tested, each bool) ([]Cause, error) {
	found := map[string]int{}
	for _, u := range units {
		for _, id := range u.failing(each) {
			found[id]++
		}
	}
	all, causes := 0, []Cause{}
	for id, n := range found {
		causes = append(causes, Cause{Figure: id, Units: n})
		all += n
	}
	if all == 0 {
		return nil, record.Because(record.TooFew, "no unit failed by a figure")
	}
	slices.SortFunc(causes, func(a, b Cause) int {
		if a.Units != b.Units {
			return b.Units - a.Units
		}
		return cmp.Compare(a.Figure, b.Figure)
	})
	sum := 0
	for i := range causes {
		sum += causes[i].Units
		causes[i].Share = 100 * float64(causes[i].Units) / float64(all)
		causes[i].Cumulative = 100 * float64(sum) / float64(all)
	}
	return causes, nil
}

// failing are the figures at which a unit failed, each once.
func (u Tested) failing(each bool) (ids []string) {
	for _, a := range u.Attempts {
		if a.Outcome != outcome.Fail {
			continue
		}
		for _, id := range a.Failing {
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
			if !each {
				return ids
			}
		}
	}
	return ids
}

// Pace is how long units take in one bay, s: medians, where pauses are left out and summed apart.
type Pace struct {
	// Test is from the start of an attempt to its end, Idle from there to the next start, PerUnit from start to start.
	Test, Idle, PerUnit float64
	// Paused is the sum of the times between two attempts that were longer than a pause.
	Paused float64
}

// PaceOf is the pace of the attempts of one bay. Idle and PerUnit are NaN where there are fewer than two. It fails with
// too-few where there is none, and with time-order where two overlap.
func PaceOf(attempts []Attempt, pause float64) (Pace, error) {
	if len(attempts) == 0 {
		return Pace{}, record.Because(record.TooFew, "no attempt ended in the bay")
	}
	attempts = slices.Clone(attempts)
	slices.SortStableFunc(attempts, func(a, b Attempt) int { return cmp.Compare(a.Began, b.Began) })
	p := Pace{}
	var test, idle, whole []float64
	for i, a := range attempts {
		test = append(test, a.Ended-a.Began)
		if i == 0 {
			continue
		}
		before := attempts[i-1]
		switch between := a.Began - before.Ended; {
		case between < 0:
			return Pace{}, record.Because(record.TimeOrder, "two attempts in one bay overlap by %.3g s", -between)
		case between > pause:
			p.Paused += between
		default:
			idle, whole = append(idle, between), append(whole, a.Began-before.Began)
		}
	}
	p.Test, p.Idle, p.PerUnit = median(test), median(idle), median(whole)
	return p, nil
}
