// Package waveform is about fast captures: one channel at equal steps of time, in the codes of the converter that
// took it, with the time base, range, bandwidth and accuracy that belong to it. Terms as in IEC 60469.
package waveform

import (
	"errors"
	"math"
	"slices"
)

// Waveform is one channel of a capture. Sample i was taken at T0 + i·Step, s from the trigger, and is Zero +
// Scale·Codes[i], SI.
type Waveform struct {
	// Channel names what was captured: "output".
	Channel string `json:"channel"`
	// Unit is that of the values: "V" or "A".
	Unit  string  `json:"unit"`
	T0    float64 `json:"t0"`
	Step  float64 `json:"step"`
	Zero  float64 `json:"zero"`
	Scale float64 `json:"scale"`
	Codes []int16 `json:"-"`
	// Lowest and Highest are the codes at the ends of the range.
	Lowest  int16 `json:"lowest"`
	Highest int16 `json:"highest"`
	// Finest is the least range that the instrument has for the channel, SI; 0: not known.
	Finest float64 `json:"finest,omitempty"`
	// Bandwidth is what the instrument and its filter pass, Hz; 0: not known.
	Bandwidth float64 `json:"bandwidth,omitempty"`
	// AC tells that the mean was taken away before the converter.
	AC bool `json:"ac,omitempty"`
	// Gain and Offset bound the errors that all samples share: share of the value, and SI. Stated is false where nobody
	// says how good they are.
	Gain   float64 `json:"gain,omitempty"`
	Offset float64 `json:"offset,omitempty"`
	Stated bool    `json:"stated,omitempty"`
}

// Errors of the functions of this package; figures map them to their codes of undetermined.
var (
	ErrNoData     = errors.New("the capture has no samples there")
	ErrClipped    = errors.New("the capture is clipped at an end of its range")
	ErrNotSettled = errors.New("the end of the capture still drifts")
	ErrNotReached = errors.New("the level is not crossed")
)

// Len is the number of samples.
func (w *Waveform) Len() int { return len(w.Codes) }

// At is a sample, SI.
func (w *Waveform) At(i int) float64 { return w.Zero + w.Scale*float64(w.Codes[i]) }

// Time is when a sample was taken, s from the trigger.
func (w *Waveform) Time(i int) float64 { return w.T0 + float64(i)*w.Step }

// Index is the first sample at or after a time; Len if there is none.
func (w *Waveform) Index(t float64) int {
	return int(math.Min(math.Max(math.Ceil((t-w.T0)/w.Step-1e-9), 0), float64(len(w.Codes))))
}

// Span is how long the capture is, s.
func (w *Waveform) Span() float64 { return float64(len(w.Codes)) * w.Step }

// Quantum is the step of the converter, SI.
func (w *Waveform) Quantum() float64 { return math.Abs(w.Scale) }

// Between is the samples from index i up to j, sharing memory.
func (w *Waveform) Between(i, j int) *Waveform {
	part := *w
	part.Codes, part.T0 = w.Codes[i:j], w.Time(i)
	return &part
}

// clippedRun is how many neighbours at an end of the range make a capture clipped.
const clippedRun = 3

// Clipped tells whether samples stand at an end of the range.
func (w *Waveform) Clipped() bool {
	if w.Lowest == w.Highest || slices.Max(w.Codes) < w.Highest && slices.Min(w.Codes) > w.Lowest {
		return false
	}
	low, high := 0, 0
	for _, c := range w.Codes {
		if low++; c > w.Lowest {
			low = 0
		}
		if high++; c < w.Highest {
			high = 0
		}
		if low == clippedRun || high == clippedRun {
			return true
		}
	}
	return false
}

// Mean is the mean of the samples, SI.
func (w *Waveform) Mean() float64 {
	var sum int64
	for _, c := range w.Codes {
		sum += int64(c)
	}
	return w.Zero + w.Scale*float64(sum)/float64(len(w.Codes))
}

// Deviation is the standard deviation of the samples about their mean, SI: √(Σ(x − x̄)²/n).
func (w *Waveform) Deviation() float64 {
	var sum, squares int64
	for _, c := range w.Codes {
		sum += int64(c)
		squares += int64(c) * int64(c)
	}
	n := float64(len(w.Codes))
	mean := float64(sum) / n
	return math.Abs(w.Scale) * math.Sqrt(math.Max(float64(squares)/n-mean*mean, 0))
}

// tail is the share of the capture whose mean is the top; drifts is how far it may drift, as a share of the step,
// or of the excursion where that is larger.
const tail, drifts = 0.2, 0.02

// Levels are the two that a step goes between.
type Levels struct {
	Base, Top float64
	// Noise is the standard deviation of the samples about the quieter of the two levels, Ripple that about the top,
	// drift taken out.
	Noise, Ripple float64
}

// Levels finds the base, the mean before the trigger, and the top, the mean of the last fifth. ErrNotSettled goes
// with levels too: the top still drifts by more than 2 % over the tail, and by more than its noise feigns.
func (w *Waveform) Levels() (l Levels, err error) {
	before, from := w.Index(0), len(w.Codes)-int(tail*float64(len(w.Codes)))
	if before < 1 || from >= len(w.Codes) || from < before {
		return l, ErrNoData
	}
	base, end := w.Between(0, before), w.Between(from, len(w.Codes))
	slope, noise := end.line()
	l = Levels{Base: base.Mean(), Top: end.Mean(), Noise: math.Min(noise, base.Deviation()),
		Ripple: noise}
	if before < 8 {
		l.Noise = noise
	}
	low, high, _, _ := w.Extremes(0)
	allowed := drifts*math.Max(math.Abs(l.Top-l.Base), high-low) + 2*math.Sqrt(12/float64(end.Len()))*noise
	if math.Abs(slope)*end.Span() > allowed {
		return l, ErrNotSettled
	}
	return l, nil
}

// Slope is that of a straight line through the samples, per s.
func (w *Waveform) Slope() float64 {
	slope, _ := w.line()
	return slope
}

// line is the slope of a straight line through the samples, per s, and the standard deviation about it.
func (w *Waveform) line() (slope, deviation float64) {
	n := float64(len(w.Codes))
	if n < 3 {
		return 0, 0
	}
	middle, mean := (n-1)/2, w.Mean()
	var sxy, syy float64
	for i := range w.Codes {
		d := w.At(i) - mean
		sxy += (float64(i) - middle) * d
		syy += d * d
	}
	sxx := n * (n*n - 1) / 12
	b := sxy / sxx
	return b / w.Step, math.Sqrt(math.Max(syy-b*sxy, 0) / n)
}

// Crossing is where a waveform goes through a level.
type Crossing struct {
	T float64
	// After is the index of the first sample beyond the level.
	After int
	// Slope is that of the waveform there, per s.
	Slope float64
}

// Crossings are those through a level, rising or falling, in order, at most so many from sample i on. A crossing
// counts only if the waveform was beyond the level by the hysteresis since the last.
func (w *Waveform) Crossings(level, hysteresis float64, rising bool, from, most int) (all []Crossing) {
	sign := 1.0
	if !rising {
		sign = -1
	}
	armed := false
	for i := from; i < len(w.Codes) && len(all) < most; i++ {
		d := sign * (w.At(i) - level)
		if d <= -hysteresis && d < 0 {
			armed = true
		}
		if armed && d >= 0 {
			armed = false
			all = append(all, w.between(i-1, i, level))
		}
	}
	return all
}

// between is the crossing on the line between two neighbours.
func (w *Waveform) between(i, j int, level float64) Crossing {
	x, y := w.At(i), w.At(j)
	c := Crossing{T: w.Time(j), After: j, Slope: (y - x) / w.Step}
	if y != x {
		c.T = w.Time(i) + w.Step*(level-x)/(y-x)
	}
	return c
}

// Rise is the way of a step from 10 % to 90 % of what is between base and top, in the direction of the step.
type Rise struct {
	T10, T90  float64
	Samples   int // from T10 to T90
	Slope10   float64
	Slope90   float64
	Amplitude float64 // top − base
}

// Rise finds t90, the first crossing of 90 %, and t10, the last of 10 % before it, after sample from.
func (w *Waveform) Rise(l Levels, from int) (r Rise, err error) {
	r.Amplitude = l.Top - l.Base
	low, high := l.Base+0.1*r.Amplitude, l.Base+0.9*r.Amplitude
	rising := r.Amplitude > 0
	ends := w.Crossings(high, 0, rising, from, 1)
	if len(ends) == 0 {
		return r, ErrNotReached
	}
	begins := w.Between(0, ends[0].After+1).Crossings(low, 0, rising, from, len(w.Codes))
	if len(begins) == 0 {
		return r, ErrNotReached
	}
	begin := begins[len(begins)-1]
	r.T10, r.T90, r.Samples = begin.T, ends[0].T, ends[0].After-begin.After
	width := max(r.Samples/8, 1)
	r.Slope10, r.Slope90 = w.slopeAround(begin.After, width), w.slopeAround(ends[0].After, width)
	return r, nil
}

// slopeAround is the slope of the waveform about a sample, per s, over so many neighbours on each side.
func (w *Waveform) slopeAround(i, width int) float64 {
	a, b := max(i-1-width, 0), min(i+width, len(w.Codes)-1)
	if b <= a {
		return 0
	}
	return (w.At(b) - w.At(a)) / (float64(b-a) * w.Step)
}

// Extremes are the least and the largest sample from index i on, and where they are.
func (w *Waveform) Extremes(from int) (low, high float64, lowAt, highAt int) {
	if from >= len(w.Codes) {
		return math.NaN(), math.NaN(), from, from
	}
	least, most := w.Codes[from], w.Codes[from]
	lowAt, highAt = from, from
	for i, c := range w.Codes[from:] {
		if c < least {
			least, lowAt = c, from+i
		}
		if c > most {
			most, highAt = c, from+i
		}
	}
	low, high = w.At(lowAt), w.At(highAt)
	if low > high { // a scale below 0
		return high, low, highAt, lowAt
	}
	return low, high, lowAt, highAt
}

// Noise is the standard deviation of what is new in each sample, SI, however the waveform goes: from third
// differences, which a smooth waveform does not have, by their median, which spikes do not move. It is at least
// that of the converter's step.
func (w *Waveform) Noise() float64 {
	least := w.Quantum() / math.Sqrt(12)
	n := len(w.Codes) - 3
	if n < 8 {
		return least
	}
	every := max(n/100_000, 1)
	var sizes []float64
	for i := 0; i < n; i += every {
		c := w.Codes[i : i+4]
		d := int(c[3]) - 3*int(c[2]) + 3*int(c[1]) - int(c[0])
		sizes = append(sizes, math.Abs(float64(d)))
	}
	slices.Sort(sizes)
	return math.Max(math.Abs(w.Scale)*sizes[len(sizes)/2]/(0.6745*math.Sqrt(20)), least)
}

// Histogram counts how often each code occurs, from Lowest to Highest of those that do.
type Histogram struct {
	First  int16
	Counts []int
	n      int
}

// Histogram counts the codes.
func (w *Waveform) Histogram() Histogram {
	counts := make([]int, 1<<16)
	for _, c := range w.Codes {
		counts[int(c)+1<<15]++
	}
	first, last := 0, len(counts)-1
	for first < last && counts[first] == 0 {
		first++
	}
	for last > first && counts[last] == 0 {
		last--
	}
	return Histogram{First: int16(first - 1<<15), Counts: counts[first : last+1], n: len(w.Codes)}
}

// Beyond counts the samples at or above a code, or at or below it.
func (h Histogram) Beyond(code float64, above bool) (n int) {
	for i, count := range h.Counts {
		if c := float64(int(h.First) + i); c == code || c > code == above {
			n += count
		}
	}
	return n
}

// Quantile is the code at rank (n − 1)·f of the sorted samples, linear between neighbours.
func (h Histogram) Quantile(f float64) float64 {
	rank := float64(h.n-1) * f
	k := int(math.Floor(rank))
	low, high := h.ranked(k), h.ranked(min(k+1, h.n-1))
	return low + (rank-float64(k))*(high-low)
}

// ranked is the code of a rank.
func (h Histogram) ranked(k int) float64 {
	seen := 0
	for i, n := range h.Counts {
		if seen += n; k < seen {
			return float64(int(h.First) + i)
		}
	}
	return float64(int(h.First) + len(h.Counts) - 1)
}

// Averaged is a running mean over n samples about each, which takes out a ripple of that period.
func (w *Waveform) Averaged(n int) *Waveform {
	out := *w
	out.Codes = make([]int16, len(w.Codes))
	sums := make([]int64, len(w.Codes)+1)
	for i, c := range w.Codes {
		sums[i+1] = sums[i] + int64(c)
	}
	for i := range w.Codes {
		a, b := max(i-n/2, 0), min(i-n/2+n, len(w.Codes))
		out.Codes[i] = int16(math.Round(float64(sums[b]-sums[a]) / float64(b-a)))
	}
	return &out
}
