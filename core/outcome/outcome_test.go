package outcome

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDecisionRulesOfTheWorkedExample(t *testing.T) {
	const u, m = 0.05, 0.10
	for _, c := range []struct {
		y                              float64
		simple, guarded, zones, banded Outcome
	}{
		{0.46, Pass, Fail, Marginal, Marginal},
		{0.52, Fail, Fail, Marginal, Fail},
		{0.38, Pass, Pass, Pass, Pass},
		{0.56, Fail, Fail, Fail, Fail},
		{math.NaN(), Undetermined, Undetermined, Undetermined, Undetermined},
	} {
		limit := func(rule Rule, band float64) Limit {
			return Limit{Min: math.Inf(-1), Max: 0.50, Marginal: band, Rule: rule}
		}
		assert.Equal(t, c.simple, limit("", 0).Judge(c.y, u), "simple %v", c.y)
		assert.Equal(t, c.guarded, limit(RuleGuarded, 0).Judge(c.y, u), "guarded %v", c.y)
		assert.Equal(t, c.zones, limit(RuleZones, 0).Judge(c.y, u), "zones %v", c.y)
		assert.Equal(t, c.banded, limit("", m).Judge(c.y, u), "marginal band %v", c.y)
	}
}

func TestAnUncertaintyTooLargeIsUndeterminedButFarBeyondStillFails(t *testing.T) {
	l := Limit{Min: 1, Max: 2, Rule: RuleGuarded}
	assert.Equal(t, Undetermined, l.Judge(1.5, 0.6))
	assert.Equal(t, Fail, l.Judge(3, 0.6))
	assert.Equal(t, Undetermined, l.Judge(1.5, math.NaN()))
	assert.Equal(t, Pass, Limit{Min: 1, Max: 2}.Judge(2, 0.6), "equality passes")
}

func TestLimitsThatCannotBeMet(t *testing.T) {
	assert.Error(t, NoLimit().Check())
	assert.Error(t, Limit{Min: 2, Max: 1}.Check())
	assert.Error(t, Limit{Min: 1, Max: 2, Marginal: 0.5}.Check())
	assert.NoError(t, Limit{Min: math.Inf(-1), Max: 2, Marginal: 0.5}.Check())
}

func TestOutcomeOfARun(t *testing.T) {
	assert.Equal(t, Undetermined, OfRun(false, []Outcome{Pass, Marginal, Undetermined}))
	assert.Equal(t, Fail, OfRun(false, []Outcome{Pass, Undetermined, Fail}))
	assert.Equal(t, Marginal, OfRun(false, []Outcome{Pass, Marginal}))
	assert.Equal(t, Aborted, OfRun(true, []Outcome{Pass}))
	assert.Equal(t, None, OfRun(false, nil), "without a limit there is no outcome, never a pass")
}

// A bound is judged where all that lies beyond it is on one side of the limit.
func TestBoundsAreJudgedOnTheirSureSide(t *testing.T) {
	inf := math.Inf(1)
	for _, c := range []struct {
		limit       Limit
		least, most float64
		want        Outcome
	}{
		{Limit{Min: 1.9, Max: inf}, 2, inf, Pass},           // "≥ 2 Ah" against min 1.9
		{Limit{Min: -inf, Max: 1.9}, 2, inf, Fail},          // and against max 1.9
		{Limit{Min: 2.1, Max: inf}, 2, inf, Undetermined},   // it may come to 2.1
		{Limit{Min: 1, Max: 3}, 2, inf, Undetermined},       // or beyond 3
		{Limit{Min: 1, Max: 3}, 1.5, 2.5, Pass},             // between two bounds
		{Limit{Min: 1, Max: 3}, 0.5, 2.5, Undetermined},     // partly inside
		{Limit{Min: 1, Max: 3}, -inf, 0.5, Fail},            // below
		{Limit{Min: -inf, Max: 3}, -inf, inf, Undetermined}, // nothing is known
		{Limit{Min: 1, Max: inf, Marginal: 0.5}, 1.2, inf, Marginal},
		{Limit{Min: 1, Max: inf, Marginal: 0.5}, 1.6, inf, Pass},
		{Limit{Min: 1, Max: inf, Rule: RuleGuarded}, 2, inf, Undetermined}, // it needs an uncertainty
		{Limit{Min: -inf, Max: 1, Rule: RuleZones}, 2, inf, Fail},
	} {
		assert.Equal(t, c.want, c.limit.JudgeBounds(c.least, c.most), "%+v %g to %g", c.limit, c.least, c.most)
	}
}
