package record

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"usherbench/core/trace"
)

// The one rule of gaps. Frames that lie further apart than gapFactor times the median interval, and than the record
// rule allows, have a gap between them. Inside a stage a gap of up to bridge is taken as a straight line, and what
// may have flowed in it widens the uncertainty; a longer one leaves a figure undetermined, unless it is a break of
// which is known when the outputs went off.
const (
	gapFactor = 5
	bridge    = 10 // s
)

// Gaps is what the gaps of a window leave open.
type Gaps struct {
	Within  float64 // A·s: the half-width of what is not known
	Remarks []string
}

// Bridged checks the intervals of a window. It fails with gap, and says what was moved outside it.
func (rec *Record) Bridged(b *Battery, from, to float64) (g Gaps, err error) {
	w := b.Within(from, to)
	if len(w.T) < 2 {
		return g, nil
	}
	longest := rec.LongestInterval(w)
	for k := range len(w.T) - 1 {
		h := w.T[k+1] - w.T[k]
		if h <= longest {
			continue
		}
		broken, isBreak := rec.breakIn(w.T[k], w.T[k+1])
		switch {
		case isBreak && broken.Off >= 0:
			g.Within += broken.Within
			g.Remarks = AddRemark(g.Remarks, "resumed")
		case !isBreak && h <= math.Max(bridge, rec.Bridge):
			g.Within += h * math.Abs(w.Amps[k+1]-w.Amps[k]) / 2
			g.Remarks = AddRemark(g.Remarks, "bridged")
		default:
			known := math.Abs(w.Charge[k]-w.Charge[0]) + math.Abs(w.Charge[len(w.Charge)-1]-w.Charge[k+1])
			reason := Because(Gap, "the record has a gap of %.4g s at %.6g s, which may not be bridged", h, w.T[k])
			reason.Known = fmt.Sprintf("%.5g Ah outside the gap", known/AmpHour)
			return Gaps{Remarks: g.Remarks}, reason
		}
	}
	return g, nil
}

// breakIn finds a time in which nobody recorded, or a part of it, between two times.
func (rec *Record) breakIn(from, to float64) (Break, bool) {
	i := slices.IndexFunc(rec.Breaks, func(x Break) bool { return x.T0 < to && x.T1 > from })
	if i < 0 {
		return Break{}, false
	}
	return rec.Breaks[i], true
}

// UpTo checks the gaps from a time to a crossing. Where the crossing lies in one, both its sides are bounds: a
// short one adds what flowed in half of it to what is not known, another leaves the crossing undetermined.
func (rec *Record) UpTo(b *Battery, from float64, x Crossing) (Gaps, error) {
	g, err := rec.Bridged(b, from, x.After)
	h := x.After - x.Before
	if err != nil || h <= rec.LongestInterval(b.Within(from, x.After)) {
		return g, err
	}
	if _, isBreak := rec.breakIn(x.Before, x.After); isBreak {
		begin, _ := b.Count(from, true)
		before, _ := b.Count(x.Before, false)
		after, _ := b.Count(x.After, false)
		reason := Because(Gap, "the level was crossed in a gap, between %.6g s and %.6g s", x.Before, x.After)
		reason.Known = fmt.Sprintf("%.5g to %.5g Ah", math.Abs(before-begin)/AmpHour, math.Abs(after-begin)/AmpHour)
		return Gaps{Remarks: g.Remarks}, reason
	}
	g.Within += h * math.Abs(x.Amps) / 2
	return g, nil
}

// LongestInterval is how far frames may lie apart without a gap between them, s.
func (rec *Record) LongestInterval(w *Battery) float64 {
	intervals := make([]float64, 0, len(w.T))
	for k := 1; k < len(w.T); k++ {
		intervals = append(intervals, w.T[k]-w.T[k-1])
	}
	if len(intervals) == 0 {
		return rec.AtLeast
	}
	slices.Sort(intervals)
	return math.Max(gapFactor*intervals[len(intervals)/2], rec.AtLeast)
}

// BridgedTrace is the window of a trace within one stage. Gaps that leave too little of it covered are taken as
// straight lines if none is longer than the bridge, which gaps then tells.
func BridgedTrace(s trace.Series, column string, t0, t1 float64) (w trace.Series, gaps bool, err error) {
	w, err = s.Window(t0, t1)
	if err == nil {
		return w, false, nil
	}
	if !errors.Is(err, trace.ErrMissing) {
		return w, false, CodeOf(err, column)
	}
	for k := 1; k < w.Len(); k++ {
		if h := w.T[k] - w.T[k-1]; h > bridge {
			return w, true, Because(Gap, "%s is missing for %.3g s, which may not be bridged", column, h)
		}
	}
	return w, true, nil
}
