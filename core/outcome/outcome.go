// Package outcome judges figures against limits: pass, marginal, fail, or undetermined where a limit could not
// be judged.
package outcome

import (
	"fmt"
	"math"
)

// Outcome is the verdict on a limit or on a run. The empty outcome means that nothing was judged.
type Outcome string

// The outcomes.
const (
	None         Outcome = ""
	Pass         Outcome = "pass"
	Marginal     Outcome = "marginal"
	Fail         Outcome = "fail"
	Aborted      Outcome = "aborted"
	Undetermined Outcome = "undetermined"
)

// Rule is how the uncertainty enters the decision (JCGM 106, ISO 14253-1).
type Rule string

// The decision rules. The zero rule stands for RuleSimple without a marginal band and RuleMarginalBand with one.
const (
	RuleSimple       Rule = "simple"        // inside the limits is a pass
	RuleGuarded      Rule = "guarded"       // proven inside, by U, is a pass; else fail
	RuleZones        Rule = "zones"         // proven inside passes, proven outside fails, between is marginal
	RuleMarginalBand Rule = "marginal-band" // closer to the limit than a stated band, inside it, is marginal
)

// Limit is the band in which a figure must lie. Ends that are not given are infinite. Values are in the figure's unit.
type Limit struct {
	Min, Max float64
	Marginal float64 // width of the marginal band, inside the limit; 0: none
	Rule     Rule
}

// NoLimit is a limit open at both ends.
func NoLimit() Limit { return Limit{Min: math.Inf(-1), Max: math.Inf(1)} }

// Check reports a limit that cannot be met or judged.
func (l Limit) Check() error {
	switch {
	case math.IsInf(l.Min, -1) && math.IsInf(l.Max, 1):
		return fmt.Errorf("a limit needs min, max or both")
	case l.Min > l.Max:
		return fmt.Errorf("min is above max, so nothing can pass; swap them")
	case l.Marginal < 0:
		return fmt.Errorf("the marginal band is negative; it lies inside the limit and is given as a width")
	case l.Marginal > 0 && l.Marginal >= (l.Max-l.Min)/2:
		return fmt.Errorf("the marginal band leaves nothing to pass; it must be less than half of max − min")
	}
	return nil
}

func (l Limit) rule() Rule {
	switch {
	case l.Rule != "":
		return l.Rule
	case l.Marginal > 0:
		return RuleMarginalBand
	}
	return RuleSimple
}

// Judge decides on the value y with expanded uncertainty u (NaN or ≤ 0 if it is not known). Equality with a
// limit is inside.
func (l Limit) Judge(y, u float64) Outcome {
	if math.IsNaN(y) {
		return Undetermined
	}
	within := func(margin float64) bool { return y >= l.Min+margin && y <= l.Max-margin }
	rule := l.rule()
	if rule == RuleGuarded || rule == RuleZones {
		switch {
		case math.IsNaN(u) || u <= 0:
			return Undetermined
		case y < l.Min-u || y > l.Max+u:
			return Fail
		case 2*u > l.Max-l.Min:
			return Undetermined
		}
	}
	switch rule {
	case RuleGuarded:
		if within(u) {
			return Pass
		}
		return Fail
	case RuleZones:
		if within(max(u, l.Marginal)) {
			return Pass
		}
		return Marginal
	case RuleMarginalBand:
		switch {
		case within(l.Marginal):
			return Pass
		case within(0):
			return Marginal
		}
		return Fail
	}
	if within(0) {
		return Pass
	}
	return Fail
}

// JudgeBounds decides on a value of which only bounds are known, −∞ and +∞ where there are none: all that lies
// between them must be inside the limit, or outside it. What needs an uncertainty stays undetermined.
func (l Limit) JudgeBounds(least, most float64) Outcome {
	switch {
	case least > l.Max || most < l.Min:
		return Fail
	case l.rule() == RuleGuarded || l.rule() == RuleZones:
		return Undetermined
	case least >= l.Min+l.Marginal && most <= l.Max-l.Marginal:
		return Pass
	case least >= l.Min && most <= l.Max:
		return Marginal
	}
	return Undetermined
}

// OfRun is the outcome of a run from the outcomes of its limits: aborted if the run was, else the worst of
// fail, undetermined, marginal, pass. Without any limit there is no outcome, never a pass.
func OfRun(aborted bool, limits []Outcome) Outcome {
	if aborted {
		return Aborted
	}
	order := map[Outcome]int{Pass: 1, Marginal: 2, Undetermined: 3, Fail: 4}
	worst := None
	for _, o := range limits {
		if order[o] > order[worst] {
			worst = o
		}
	}
	return worst
}
