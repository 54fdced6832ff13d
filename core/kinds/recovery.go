package kinds

import (
	"fmt"
	"math"

	"usherbench/core/condition"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// countTry counts how often a unit that gave up came back at the same level, and gave up again.
func (r *seekRunner) countTry(truth condition.Truth) {
	switch {
	case truth == condition.True && r.seek.Back:
		r.seek.Back, r.seek.Gone = false, true
		r.seek.Tries++
	case truth == condition.True:
		r.seek.Gone = true
	case truth == condition.False && r.seek.Gone:
		r.seek.Back, r.seek.Gone = true, false
	}
}

// watch sees whether the unit tries again while it is still overloaded.
func (r *seekRunner) watch(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	r.countTry(r.until.Evaluate(m.Sample(f)))
	if m.Watched(r.seek.Since, f.T) < r.spec.Watch {
		return nil, stage.GoesOn
	}
	return []stage.Effect{r.relieve()}, stage.GoesOn
}

// relieve sets what lets the unit recover, from when on it is looked whether it does.
func (r *seekRunner) relieve() stage.Effect {
	r.seek.Phase, r.seek.Cycled, r.seek.Away = seekRelief, false, 0
	r.recovered.Reset()
	return r.command(r.spec.Relief)
}

// relief looks whether the unit recovers, once it is relieved.
func (r *seekRunner) relief(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	past := m.Watched(r.seek.Since, f.T)
	truth := r.recovered.Evaluate(m.Sample(f))
	back, held := r.recovered.HeldSince()
	if !held {
		back = f.T
		if truth != condition.True {
			r.seek.Away = f.T
		}
	}
	switch {
	case truth != condition.True && past <= r.spec.RecoversWithin:
		return nil, stage.GoesOn
	case truth != condition.True && r.mayCycle():
		return []stage.Effect{r.cycle()}, stage.GoesOn
	}
	r.seek.Row.Comeback = r.comeback(truth == condition.True, back)
	r.seek.Row.Recovery = r.recoveryWords(*r.seek.Row.Comeback)
	return append([]stage.Effect{stage.NewMark(f.T, record.MarkCondition, r.seek.Row.Recovery)}, r.row()...), stage.Over
}

// comeback is how the unit came back, since a time, or did not.
func (r *seekRunner) comeback(is bool, back float64) *record.Comeback {
	c := &record.Comeback{Within: r.spec.RecoversWithin}
	switch {
	case is && r.seek.Cycled:
		c.Class = record.InputCycle
	case is && r.seek.Tries > 0:
		c.Class = record.ByHiccup
	case is:
		c.Class = record.ByItself
	case r.seek.Cycled:
		c.Class = record.NoComeback
	default:
		c.Class = record.Latched
	}
	if is {
		c.Delay = math.Max(back-r.seek.Since, 0)
		c.Step = math.Max(back-math.Max(r.seek.Away, r.seek.Since), 0)
	}
	return c
}

// recoveryWords say for people how the unit came back.
func (r *seekRunner) recoveryWords(c record.Comeback) string {
	took := quantity.Quantity{Value: c.Delay, Dim: quantity.Time}.Format(3)
	within := stage.Seconds(c.Within)
	switch c.Class {
	case record.InputCycle:
		return fmt.Sprintf("recovers only after its input was cycled, %s after that is on", took)
	case record.ByHiccup:
		return fmt.Sprintf("tries again while it is overloaded, and is back %s after relief", took)
	case record.ByItself:
		return fmt.Sprintf("recovers by itself, %s after relief", took)
	case record.NoComeback:
		return fmt.Sprintf("does not recover within %s after its input was cycled", within)
	}
	return fmt.Sprintf("does not recover by itself within %s of relief", within)
}
