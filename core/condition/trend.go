package condition

import (
	"math"

	"usherbench/core/trace"
)

// Trend is the straight line through a value over a rolling window, as conditions compute theirs: a frame costs
// the same however long the window is, and a snapshot holds its parts, not its frames.
type Trend struct{ w window }

// TrendState is what a trend remembers.
type TrendState struct{ windowState }

// NewTrend makes a trend over a window, s.
func NewTrend(length float64) *Trend { return &Trend{window{length: length}} }

// Push takes the next value; full tells whether the window reaches back far enough, with five readings at least.
func (t *Trend) Push(at, x float64) (line trace.Line, full bool) {
	t.w.push(at, x)
	return t.w.line(), t.w.full && t.w.sum.n >= 5
}

// Shift moves what it remembers by a time.
func (t *Trend) Shift(seconds float64) { t.w.shift(seconds) }

// State is what it remembers; Restore takes it back.
func (t *Trend) State() TrendState { return TrendState{t.w.save()} }

// Restore sets what State returned.
func (t *Trend) Restore(s TrendState) { t.w.load(s.windowState) }

// line is the straight line through all frames of the window, by least squares.
func (w *window) line() trace.Line {
	s := w.sum
	stt, stx, sxx := s.tt-s.t*s.t/s.n, s.tx-s.t*s.x/s.n, s.xx-s.x*s.x/s.n
	if s.n < 3 || stt <= 0 {
		return trace.Line{Slope: math.NaN(), SlopeSD: math.NaN(), N: int(s.n)}
	}
	slope := stx / stt
	rest := math.Max(sxx-slope*stx, 0)
	return trace.Line{Slope: slope, SlopeSD: math.Sqrt(rest / (s.n - 2) / stt), N: int(s.n)}
}
