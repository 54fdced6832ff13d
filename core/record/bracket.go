package record

import (
	"math"

	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Bracket is what lies on both sides of what a seek found: a quantity at the last step at which its condition did not
// hold, and at the first at which it did.
type Bracket struct {
	Before, After float64
	Point         Point
	// GaveWay says that the quantity could not be measured after the step, since the unit had given it up.
	GaveWay bool
}

// BracketOf is the bracket of a row at a place, nil: wherever it was taken; of several tries of the last.
func (rec *Record) BracketOf(name string, at map[string]float64, column string) (b Bracket, err error) {
	if b.Point, err = rec.Sought(name, at); err != nil {
		return b, err
	}
	if b.Point.Vain {
		held, err := Point{Place: b.Point.Place, Averages: b.Point.Before}.Mean(column)
		if err != nil {
			return b, err
		}
		unit := trace.UnitOf(column)
		return b, Because(NotReached, "nothing gave way up to the end of the range of %q", name).Least(held/unit.Factor,
			unit.Symbol)
	}
	if b.After, err = b.Point.Mean(column); err != nil {
		return b, err
	}
	if b.Point.Before == nil {
		return b, Because(AlreadyBeyond, "the condition of %q held at the first step; begin further away", name)
	}
	earlier := Point{Place: b.Point.Place, Averages: b.Point.Before}
	if b.Before, err = earlier.Mean(column); err != nil {
		return b, err
	}
	b.correct(column)
	return b, nil
}

// correct puts what was set in place of what was measured where the unit gave up in the step, so that nothing of it was
// left to measure: the level set then, and what was measured over what was set before. Source: figures, trip-level.
func (b *Bracket) correct(column string) {
	held, stepped := b.Point.Held[column]
	found, set := b.Point.Place[column]
	if !stepped || !set {
		return
	}
	expected := found + b.Before - held
	if b.GaveWay = math.Abs(b.After-expected) > math.Abs(found-held); b.GaveWay {
		b.After = expected
	}
}

// Middle is the midpoint of the bracket.
func (b *Bracket) Middle() float64 { return (b.Before + b.After) / 2 }

// Readings are those of which the level is the sum, for its uncertainty: the midpoint with the accuracy of the column,
// and half a step, within which the level lies evenly. stated is false where the column has no accuracy.
func (b *Bracket) Readings(rec *Record, column string) (readings []uncertainty.Reading, stated bool) {
	middle, stated := rec.Reading(b.Point, column)
	middle.Value = b.Middle()
	return []uncertainty.Reading{middle, {Group: "half a step of " + b.Point.Row,
		Offset: math.Abs(b.After-b.Before) / 2}}, stated
}
