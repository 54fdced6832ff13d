package trace

import (
	"errors"
	"math"
	"slices"
	"sort"
)

// Series is one quantity over time: equally long slices of times (seconds, strictly increasing) and values (SI;
// NaN is missing).
type Series struct {
	T, X []float64
}

// Errors of the functions of this package; figures map them to their codes of undetermined.
var (
	ErrNoData  = errors.New("nothing recorded in the window")
	ErrTooFew  = errors.New("too few samples in the window")
	ErrOrder   = errors.New("times do not increase")
	ErrMissing = errors.New("too many readings of the window are missing")
)

// coverage is the share of a window that intervals between used frames must cover, and gapFactor how many
// median intervals make a gap.
const (
	coverage  = 0.9
	gapFactor = 5
)

// Len is the number of samples.
func (s Series) Len() int { return len(s.T) }

// Check reports ErrOrder if the times do not strictly increase.
func (s Series) Check() error {
	for k := 1; k < len(s.T); k++ {
		if !(s.T[k] > s.T[k-1]) {
			return ErrOrder
		}
	}
	return nil
}

// Present drops missing samples.
func (s Series) Present() Series {
	if !slices.ContainsFunc(s.X, math.IsNaN) {
		return s
	}
	var p Series
	for k, x := range s.X {
		if !math.IsNaN(x) {
			p.T, p.X = append(p.T, s.T[k]), append(p.X, x)
		}
	}
	return p
}

// Between is the samples with a ≤ t ≤ b, sharing memory with s.
func (s Series) Between(a, b float64) Series {
	i := sort.SearchFloat64s(s.T, a)
	j := sort.Search(len(s.T), func(k int) bool { return s.T[k] > b })
	if i >= j {
		return Series{}
	}
	return Series{s.T[i:j], s.X[i:j]}
}

// At is the value at time t by linear interpolation, or NaN outside the series.
func (s Series) At(t float64) float64 {
	k := sort.SearchFloat64s(s.T, t)
	switch {
	case k < len(s.T) && s.T[k] == t:
		return s.X[k]
	case k == 0 || k == len(s.T):
		return math.NaN()
	}
	share := (t - s.T[k-1]) / (s.T[k] - s.T[k-1])
	return s.X[k-1] + share*(s.X[k]-s.X[k-1])
}

// Nearest is the value of the sample nearest to t; NaN if there is none.
func (s Series) Nearest(t float64) float64 {
	best := math.NaN()
	for k, x := range s.X {
		if k == 0 || math.Abs(s.T[k]-t) < math.Abs(s.T[k-1]-t) {
			best = x
		}
	}
	return best
}

// Spanning is the series from a to b, with interpolated values at both ends where it reaches that far.
func (s Series) Spanning(a, b float64) Series {
	inside := s.Between(a, b)
	w := Series{T: slices.Clone(inside.T), X: slices.Clone(inside.X)}
	if x := s.At(a); !math.IsNaN(x) && (w.Len() == 0 || w.T[0] > a) {
		w.T, w.X = slices.Insert(w.T, 0, a), slices.Insert(w.X, 0, x)
	}
	if x := s.At(b); !math.IsNaN(x) && (w.Len() == 0 || w.T[w.Len()-1] < b) {
		w.T, w.X = append(w.T, b), append(w.X, x)
	}
	return w
}

// Window is the series from a to b with interpolated values at both ends, where it reaches that far. Missing
// samples are left out. It returns ErrNoData for an empty window and ErrMissing when intervals that are no gaps
// cover too little of it.
func (s Series) Window(a, b float64) (Series, error) {
	if err := s.Check(); err != nil {
		return Series{}, err
	}
	p := s.Present()
	inside := p.Between(a, b)
	if inside.Len() == 0 || b <= a {
		return Series{}, ErrNoData
	}
	w := p.Spanning(a, b)
	if w.Len() < 2 {
		return w, ErrTooFew
	}
	if covered(w) < coverage*(b-a) {
		return w, ErrMissing
	}
	return w, nil
}

// covered is the length of all intervals that are no gaps.
func covered(w Series) float64 {
	h := make([]float64, w.Len()-1)
	for k := range h {
		h[k] = w.T[k+1] - w.T[k]
	}
	sorted := slices.Clone(h)
	slices.Sort(sorted)
	longest := gapFactor * sorted[len(sorted)/2]
	var sum float64
	for _, dt := range h {
		if dt <= longest {
			sum += dt
		}
	}
	return sum
}

// Integral is ∫x dt by trapezoids, in the unit of x times seconds.
func (s Series) Integral() float64 {
	var sum float64
	for k := 1; k < len(s.T); k++ {
		sum += 0.5 * (s.X[k-1] + s.X[k]) * (s.T[k] - s.T[k-1])
	}
	return sum
}

// IntegralSplit is ∫x dt where the trace is not a straight line across the given command times: there it is
// split and each side keeps its nearest value up to the command.
func (s Series) IntegralSplit(commands []float64) float64 {
	var sum float64
	for k := 1; k < len(s.T); k++ {
		left, right, h := s.T[k-1], s.T[k], s.T[k]-s.T[k-1]
		i := sort.SearchFloat64s(commands, left)
		for i < len(commands) && commands[i] <= left {
			i++
		}
		if i < len(commands) && commands[i] < right {
			last := i
			for last+1 < len(commands) && commands[last+1] < right {
				last++
			}
			sum += s.X[k-1]*(commands[i]-left) + s.X[k]*(right-commands[last])
			// Between two commands inside one interval nothing was measured; the later side is the nearer one in time.
			sum += s.X[k] * (commands[last] - commands[i])
			continue
		}
		sum += 0.5 * (s.X[k-1] + s.X[k]) * h
	}
	return sum
}

// Mean is the time-weighted mean over the series, (1/T)·∫x dt.
func (s Series) Mean() (float64, error) {
	if err := s.spanned(); err != nil {
		return math.NaN(), err
	}
	return s.Integral() / (s.T[len(s.T)-1] - s.T[0]), nil
}

// RMS is the time-weighted root mean square, with the trapezoid of x² so that noise keeps its power.
func (s Series) RMS() (float64, error) {
	if err := s.spanned(); err != nil {
		return math.NaN(), err
	}
	var sum float64
	for k := 1; k < len(s.T); k++ {
		sum += 0.5 * (s.X[k-1]*s.X[k-1] + s.X[k]*s.X[k]) * (s.T[k] - s.T[k-1])
	}
	return math.Sqrt(sum / (s.T[len(s.T)-1] - s.T[0])), nil
}

func (s Series) spanned() error {
	switch s.Len() {
	case 0:
		return ErrNoData
	case 1:
		return ErrTooFew
	}
	return nil
}

// Direction is the way a trace goes through a level.
type Direction int

// The directions of a crossing.
const (
	Falling Direction = iota
	Rising
)

// Crossing is where a trace went through a level: the interpolated time, and the index of the last sample before it.
type Crossing struct {
	T float64
	K int
}

// ErrNotReached and ErrAlreadyBeyond say why there is no crossing.
var (
	ErrNotReached    = errors.New("the level was never crossed")
	ErrAlreadyBeyond = errors.New("the trace starts beyond the level")
)

// Cross finds the first crossing of the level after which the trace stays beyond it for at least hold seconds.
// The time is the crossing's, not the end of hold. Missing samples neither count nor reset the hold.
func (s Series) Cross(level float64, dir Direction, hold float64) (Crossing, error) {
	p := s.Present()
	if p.Len() == 0 {
		return Crossing{}, ErrNoData
	}
	beyond := func(x float64) bool {
		if dir == Rising {
			return x >= level
		}
		return x <= level
	}
	if beyond(p.X[0]) {
		return Crossing{}, ErrAlreadyBeyond
	}
	for k := 0; k+1 < p.Len(); k++ {
		if beyond(p.X[k]) || !beyond(p.X[k+1]) {
			continue
		}
		t := p.T[k] + (p.T[k+1]-p.T[k])*(p.X[k]-level)/(p.X[k]-p.X[k+1])
		j := k + 1
		for j < p.Len() && beyond(p.X[j]) && p.T[j]-t < hold {
			j++
		}
		if (j < p.Len() && beyond(p.X[j])) || (j == p.Len() && p.T[j-1]-t >= hold) || hold == 0 {
			return Crossing{t, sort.SearchFloat64s(s.T, p.T[k])}, nil
		}
	}
	return Crossing{}, ErrNotReached
}

// ChargeAt is the charge at time δ after sample k, with amps a straight line between samples:
// Q_k + I_k·δ + (I_{k+1} − I_k)·δ²/(2·h), in the unit of q (coulombs).
func ChargeAt(qk, ik, ik1, h, delta float64) float64 {
	return qk + ik*delta + (ik1-ik)*delta*delta/(2*h)
}

// Line is a straight line fitted by least squares.
type Line struct {
	Slope, SlopeSD float64 // per second; SlopeSD is the standard error of the slope
	Intercept      float64 // the value at t = 0
	SD             float64 // standard deviation of the samples from the line
	N              int
	meanT, spread  float64 // of the times: their mean, and Σ(t − mean)²
}

// Noisy is the line of samples that are known to scatter by so much at least, whatever a few of them happen to do.
func (l Line) Noisy(sd float64) Line {
	if sd > l.SD && l.spread > 0 {
		l.SD, l.SlopeSD = sd, sd/math.Sqrt(l.spread)
	}
	return l
}

// DeviationAt is the standard error of the line at a time.
func (l Line) DeviationAt(t float64) float64 {
	if l.N < 3 || l.spread == 0 {
		return 0
	}
	return l.SD * math.Sqrt(1/float64(l.N)+(t-l.meanT)*(t-l.meanT)/l.spread)
}

// Noise is the standard deviation of the samples from a smooth curve: each from the line through its neighbours, whose
// own noise is taken out. 0 for fewer than three.
func (s Series) Noise() float64 {
	var sum float64
	for k := 1; k+1 < s.Len(); k++ {
		w := (s.T[k] - s.T[k-1]) / (s.T[k+1] - s.T[k-1])
		r := s.X[k] - s.X[k-1] - w*(s.X[k+1]-s.X[k-1])
		sum += r * r / (1 + w*w + (1-w)*(1-w))
	}
	if s.Len() < 3 {
		return 0
	}
	return math.Sqrt(sum / float64(s.Len()-2))
}

// Slope fits a straight line through the present samples. It needs five of them.
func (s Series) Slope() (Line, error) {
	p := s.Present().even()
	if n := p.Len(); n < 5 {
		return Line{N: n}, ErrTooFew
	}
	return Fit(p.T, p.X)
}

// uneven is how many times the median interval the longest may be before a record counts as uneven.
const uneven = 3

// even averages an uneven record into equal bins, so that where frames lie thick does not count for more: as wide as
// its longest interval, or as a tenth of the record if that is less. An even record is left as it is.
func (s Series) even() Series {
	n := s.Len()
	if n < 3 {
		return s
	}
	h := make([]float64, n-1)
	for k := range h {
		h[k] = s.T[k+1] - s.T[k]
	}
	slices.Sort(h)
	longest := h[len(h)-1]
	if longest <= uneven*h[len(h)/2] {
		return s
	}
	width := math.Min(longest, (s.T[n-1]-s.T[0])/10)
	var bins Series
	for k := 0; k < n; {
		end := s.T[0] + width*(math.Floor((s.T[k]-s.T[0])/width)+1)
		var t, x, count float64
		for ; k < n && (s.T[k] < end || count == 0); k++ {
			t, x, count = t+s.T[k], x+s.X[k], count+1
		}
		bins.T, bins.X = append(bins.T, t/count), append(bins.X, x/count)
	}
	return bins
}

// Fit is the least-squares line x = a + b·t through two places or more, with t about its mean so that no digits are
// lost. It fails with ErrOrder when all t are the same. Through two places it has no deviation to tell.
func Fit(t, x []float64) (Line, error) {
	n := len(t)
	if n < 2 {
		return Line{N: n}, ErrTooFew
	}
	var mt, mx float64
	for k := range t {
		mt += t[k] / float64(n)
		mx += x[k] / float64(n)
	}
	var stt, stx float64
	for k := range t {
		stt += (t[k] - mt) * (t[k] - mt)
		stx += (t[k] - mt) * (x[k] - mx)
	}
	if stt == 0 {
		return Line{N: n}, ErrOrder
	}
	line := Line{Slope: stx / stt, N: n, meanT: mt, spread: stt}
	line.Intercept = mx - line.Slope*mt
	if n == 2 {
		return line, nil
	}
	var rr float64
	for k := range t {
		r := x[k] - mx - line.Slope*(t[k]-mt)
		rr += r * r
	}
	line.SD = math.Sqrt(rr / float64(n-2))
	line.SlopeSD = line.SD / math.Sqrt(stt)
	return line, nil
}

// Stable tells whether the slope, noise included, lies inside the band: |b| + 2·s_b ≤ band (per second).
func (l Line) Stable(band float64) bool { return math.Abs(l.Slope)+2*l.SlopeSD <= band }
