package record

import (
	"iter"
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// The one rule of gaps. Frames that lie further apart than gapFactor times the median interval, and than the record
// rule of their stage allows, have a gap between them; so have the ends of a window and the frames next to them. Inside
// a stage a gap of up to bridge is taken as a straight line, and what may have flowed in it widens the uncertainty; a
// longer one leaves a figure undetermined, unless it is a break of which is known when the outputs went off.
const (
	gapFactor = 5
	bridge    = 10 // s
)

// WasResumed is the remark of what holds a time in which nobody looked after the run.
const WasResumed = "resumed"

// Gaps is what the gaps of a window leave open.
type Gaps struct {
	Within  float64 // A·s: the half-width of what is not known
	Remarks []string
}

// interval is the time between two neighbouring frames, or between an end of a window and the frame next to it. before
// and after are the amps on both sides, of an end those of its frame.
type interval struct {
	t0, t1, before, after float64
	end                   bool
}

func (i interval) length() float64 { return i.t1 - i.t0 }

// intervals goes through those of a window, its ends included.
func (b *Battery) intervals(from, to float64) iter.Seq[interval] {
	w := b.Within(from, to)
	n := len(w.T)
	return func(yield func(interval) bool) {
		if n == 0 || !yield(interval{from, w.T[0], w.Amps[0], w.Amps[0], true}) {
			return
		}
		for k := 1; k < n; k++ {
			if !yield(interval{w.T[k-1], w.T[k], w.Amps[k-1], w.Amps[k], false}) {
				return
			}
		}
		yield(interval{w.T[n-1], to, w.Amps[n-1], w.Amps[n-1], true})
	}
}

// bridged checks the intervals of a window. It fails with gap, and says what was moved outside it.
func (rec *Record) bridged(b *Battery, from, to, bridge float64) (g Gaps, err error) {
	for i := range b.intervals(from, to) {
		if !rec.isGap(b.usual, i.t0, i.t1) {
			continue
		}
		broken, isBreak := rec.breakIn(i.t0, i.t1)
		switch {
		case isBreak && broken.Off >= 0:
			g.Within += broken.Within
			g.Remarks = AddRemark(g.Remarks, WasResumed)
		case !isBreak && i.length() <= bridge:
			off := math.Abs(i.after - i.before)
			if i.end { // nobody knows what flowed on the other side
				off = math.Abs(i.after)
			}
			g.Within += i.length() * off / 2
			g.Remarks = AddRemark(g.Remarks, "bridged")
		default:
			reason := Because(Gap, "the record has a gap of %.4g s at %.6g s, which may not be bridged", i.length(), i.t0)
			reason.Known = quantity.Sprintf("%.5g Ah outside the gap", b.outside(from, to, i)/AmpHour)
			return Gaps{Remarks: g.Remarks}, reason
		}
	}
	return g, nil
}

// outside is the charge of a window on both sides of one interval, without sign, A·s.
func (b *Battery) outside(from, to float64, i interval) float64 {
	begin, _ := b.Count(from)
	before, _ := b.Count(i.t0)
	after, _ := b.Count(i.t1)
	end, _ := b.Count(to)
	return math.Abs(before - begin + end - after)
}

// breakIn finds a time in which nobody recorded, or a part of it, between two times.
func (rec *Record) breakIn(from, to float64) (Break, bool) {
	i := slices.IndexFunc(rec.Breaks, func(x Break) bool { return x.T0 < to && x.T1 > from })
	if i < 0 {
		return Break{}, false
	}
	return rec.Breaks[i], true
}

// usualInterval is the median of those between times, s; 0 if there is none.
func usualInterval(times []float64) float64 {
	if len(times) < 2 {
		return 0
	}
	lengths := make([]float64, len(times)-1)
	for k := range lengths {
		lengths[k] = times[k+1] - times[k]
	}
	return median(lengths)
}

func median(xs []float64) float64 {
	sorted := slices.Clone(xs)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}

// isGap tells whether an interval is a gap.
func (rec *Record) isGap(usual, t0, t1 float64) bool {
	h := t1 - t0
	return h > gapFactor*usual && h > rec.allowed(usual, t0, t1)
}

// allowed is how long an interval may be without being a gap, s: as the usual one of its surroundings has it, or the
// record rule of the stages in which it lies.
func (rec *Record) allowed(usual, t0, t1 float64) float64 {
	most := math.Max(gapFactor*usual, rec.AtLeast)
	for _, s := range rec.Stages {
		if s.T0 <= t1 && s.T1 >= t0 {
			most = math.Max(most, s.AtLeast)
		}
	}
	return most * (1 + 1e-9)
}

// AllowedInterval is how far frames of a stage may lie apart without a gap between them, s.
func (rec *Record) AllowedInterval(b *Battery, s Span) float64 {
	return rec.allowed(b.usual, s.T0, s.T1)
}

// GapBetween tells whether two neighbouring frames have a gap between them.
func (rec *Record) GapBetween(b *Battery, t0, t1 float64) bool {
	return rec.isGap(b.usual, t0, t1)
}

// Whole is a column from t0 to t1 without its missing readings, and whether a gap of it was bridged. What was
// read before and after belongs to other settings. It fails with the codes of no data, and with gap.
func (rec *Record) Whole(column string, t0, t1 float64) (w trace.Series, bridgedOver bool, err error) {
	s, err := rec.Trace(column, t0, t1)
	if err == nil {
		err = s.Check()
	}
	if w = s.Present(); err == nil && w.Len() < 2 {
		err = trace.ErrNoData
	}
	if err != nil {
		return w, false, CodeOf(err, column)
	}
	usual := usualInterval(w.T)
	ends := []float64{t0}
	ends = append(append(ends, w.T...), t1)
	for k := 1; k < len(ends); k++ {
		h := ends[k] - ends[k-1]
		switch {
		case !rec.isGap(usual, ends[k-1], ends[k]):
		case h <= math.Max(bridge, rec.Bridge):
			bridgedOver = true
		default:
			return w, false, Because(Gap, "%s has a gap of %.4g s at %.6g s, which may not be bridged", column, h, ends[k-1])
		}
	}
	return w, bridgedOver, nil
}
