package engine

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

// farOff is how far the volts at rest may be from the last under way, as a share; another unit is in the bay
// beyond that.
const farOff = 0.2

// nothing is the share of the volts before below which a seat that only feeds reads none: with its output off it shows
// itself, not the unit.
const nothing = 0.1

// implausible says why the unit in the bay is not what it was before the service was away; empty if it may well be.
func (b *Bay) implausible(back *comeback) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return back.implausible(b.sampler.Columns, b.values)
}

// implausible asks those seats that show the unit with every output off. One that only feeds may show nothing then:
// another has to know.
func (back *comeback) implausible(columns trace.Columns, values []float64) string {
	if back.plate == nil {
		return ""
	}
	shown, dark := false, ""
	for i, column := range columns {
		seat, v := strings.TrimSuffix(column, ".volts"), values[i]
		if seat == column || math.IsNaN(v) {
			continue
		}
		w, bound := back.plate.AtRest[column]
		if bound && !w.Holds(v) {
			return fmt.Sprintf("after the service was away %s reads %s at rest, outside %s to %s of nameplate %s; look "+
				"whether the unit is still there", column, show(v, quantity.Voltage),
				show(w.Min, quantity.Voltage), show(w.Max, quantity.Voltage), back.plate.Name)
		}
		kind, _ := seats.KindOf(seat)
		before, known := back.voltsBefore(seat)
		near := math.Abs(v-before) <= farOff*math.Abs(before)
		switch {
		case !back.plate.Battery(), before == 0:
		case known && kind.Is(seats.Feeds) && !kind.Is(seats.Drains) && math.Abs(v) < nothing*math.Abs(before):
			dark = fmt.Sprintf("after the service was away %s reads %s with its output off, and no other seat shows the "+
				"unit; look whether it is the same, and start again", column, show(v, quantity.Voltage))
		case known && !near:
			return fmt.Sprintf("after the service was away %s reads %s at rest, far from the %s before; look whether it is "+
				"the same unit", column, show(v, quantity.Voltage), show(before, quantity.Voltage))
		default:
			shown = shown || near || bound
		}
	}
	if shown {
		return ""
	}
	return dark
}

// voltsBefore are the last volts of a seat through which a current flowed, known; else those of another, at the same
// unit; 0: there was none.
func (back *comeback) voltsBefore(seat string) (volts float64, known bool) {
	own := seat + ".charge"
	for _, column := range append([]string{own}, slices.Sorted(maps.Keys(back.state.Counted))...) {
		if x := back.state.Counted[column]; math.Abs(x.Amps) > 1e-3 {
			return x.Watts / x.Amps, column == own
		}
	}
	return 0, false
}
