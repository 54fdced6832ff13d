package waveform

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/dsp/fourier"
)

// Window is a sum of cosines by which samples are weighed before they are transformed, and the lobe that it makes of a
// tone: so many bins on either side.
type Window struct {
	Name  string
	Terms []float64
	Lobe  int
}

// The windows: of whole periods, of noise, of distortion.
var (
	Rectangular    = Window{"rectangular", []float64{1}, 0}
	Hann           = Window{"Hann", []float64{0.5, 0.5}, 3}
	BlackmanHarris = Window{"Blackman–Harris", []float64{0.35875, 0.48829, 0.14128, 0.01168}, 4}
)

// weights are those of n samples, of a period of n.
func (w Window) weights(n int) []float64 {
	x := make([]float64, n)
	for i := range x {
		// cos(k·θ) by Chebyshev's recurrence from −cos θ, which gives the terms their signs.
		c := -math.Cos(2 * math.Pi * float64(i) / float64(n))
		before, now := c, 1.0
		for _, a := range w.Terms {
			x[i] += a * now
			before, now = now, 2*c*now-before
		}
	}
	return x
}

// Gain is the coherent gain of the window, Σw/N, and NoiseBandwidth N·Σw²/(Σw)², in bins.
func (w Window) Gain() float64 { return w.Terms[0] }

// NoiseBandwidth is in bins; see [Window.Gain].
func (w Window) NoiseBandwidth() float64 {
	squares := w.Terms[0] * w.Terms[0]
	for _, a := range w.Terms[1:] {
		squares += a * a / 2
	}
	return squares / (w.Terms[0] * w.Terms[0])
}

// Bands are the squares of what is in a waveform by frequency: bin k is k·Width Hz, and the square of an effective
// value is the sum of its bins, for tones and for noise alike: 2·|X_k|²/(N·Σw²).
type Bands struct {
	Width   float64 // Hz
	Window  Window
	Squares []float64 // SI², from bin 0 to below half the rate
	// Samples are how many were transformed, Noise is the standard deviation of what is new in each of them, SI.
	Samples int
	Noise   float64
	spreads float64 // N·Σw⁴/(Σw²)²
}

// Bands transforms the waveform, its mean removed: all of it, but for what is beyond a number without large factors.
func (w *Waveform) Bands(by Window) Bands {
	w = w.Between(0, smooth(len(w.Codes)))
	n, mean := len(w.Codes), w.Mean()
	weights := by.weights(n)
	squares, fourths := 0.0, 0.0
	for i, x := range weights {
		squares += x * x
		fourths += x * x * x * x
		weights[i] = x * (w.At(i) - mean)
	}
	b := Bands{Width: 1 / (float64(n) * w.Step), Window: by, Samples: n,
		spreads: float64(n) * fourths / (squares * squares)}
	b.Squares = make([]float64, n/2+1)
	scale := 2 / (float64(n) * squares)
	for k, c := range fourier.NewFFT(n).Coefficients(nil, weights) {
		b.Squares[k] = scale * (real(c)*real(c) + imag(c)*imag(c))
	}
	b.Squares[0] = 0
	if n%2 == 0 {
		b.Squares = b.Squares[:n/2]
	}
	// Of noise the bins are exponentially distributed about 2σ²/N; what tones there are, their median is none of them.
	var sorted []float64
	for k := 1; k < len(b.Squares); k += max(len(b.Squares)/mostSorted, 1) {
		sorted = append(sorted, b.Squares[k])
	}
	slices.Sort(sorted)
	b.Noise = math.Sqrt(sorted[len(sorted)/2] / math.Ln2 * float64(n) / 2)
	return b
}

// mostSorted is about how many bins tell the noise.
const mostSorted = 1 << 15

// bins are those between two frequencies, both included.
func (b Bands) bins(from, to float64) (first, last int) {
	last = len(b.Squares) - 1
	if end := math.Floor(to/b.Width + 1e-9); end < float64(last) {
		last = int(end)
	}
	return max(int(math.Ceil(from/b.Width-1e-9)), 1), last
}

// RMS is the effective value between two frequencies, Hz; weight, if there is one, is by what each counts.
func (b Bands) RMS(from, to float64, weight func(hertz float64) float64) float64 {
	first, last := b.bins(from, to)
	sum := 0.0
	for k := first; k <= last; k++ {
		square := b.Squares[k]
		if weight != nil {
			by := weight(float64(k) * b.Width)
			square *= by * by
		}
		sum += square
	}
	return math.Sqrt(sum)
}

// Tone is a tone of a waveform: its lobe.
type Tone struct {
	Frequency, RMS float64
	Bin            int
}

// leastPeriods are how many periods of a tone must have been captured.
const leastPeriods = 10

// Strongest is the strongest tone between two frequencies, Hz. It fails with [ErrTooFew] and [ErrNotFound].
func (b Bands) Strongest(from, to float64) (Tone, error) {
	first, last := b.bins(from, to)
	best := 0
	for k := first; k <= last; k++ {
		if best == 0 || b.Squares[k] > b.Squares[best] {
			best = k
		}
	}
	switch {
	case best == 0 || b.Squares[best] == 0:
		return Tone{}, ErrNotFound
	case best < leastPeriods:
		return Tone{}, fmt.Errorf("%w: %d periods of the tone were captured, %d are needed", ErrTooFew, best, leastPeriods)
	}
	return b.tone(best), nil
}

// near is how many bins beside its place a tone is looked for.
const near = 2

// Near is the tone at a frequency, or within two bins of it.
func (b Bands) Near(hertz float64) Tone {
	at := int(math.Round(hertz / b.Width))
	best := min(max(at, 1), len(b.Squares)-1)
	for k := max(at-near, 1); k <= min(at+near, len(b.Squares)-1); k++ {
		if b.Squares[k] > b.Squares[best] {
			best = k
		}
	}
	return b.tone(best)
}

// Reaches tells whether a tone at a frequency is within what was sampled, with its lobe.
func (b Bands) Reaches(hertz float64) bool {
	return int(math.Round(hertz/b.Width))+b.Window.Lobe < len(b.Squares)
}

// Apart tells whether two tones are told from each other.
func (b Bands) Apart(x, y float64) bool {
	return math.Abs(x-y)/b.Width >= float64(2*b.Window.Lobe+1)-1e-9
}

// tone is the lobe around a bin.
func (b Bands) tone(centre int) Tone {
	t := Tone{Bin: centre}
	sum, moment := 0.0, 0.0
	for k := max(centre-b.Window.Lobe, 1); k <= min(centre+b.Window.Lobe, len(b.Squares)-1); k++ {
		sum += b.Squares[k]
		moment += b.Squares[k] * float64(k)
	}
	t.RMS = math.Sqrt(sum)
	t.Frequency = float64(centre) * b.Width
	if sum > 0 {
		t.Frequency = moment / sum * b.Width
	}
	return t
}

// Harmonics are those of a tone from the second order to the highest of the orders that was sampled.
func (b Bands) Harmonics(of Tone, orders int) (tones []Tone) {
	for h := 2; h <= orders && b.Reaches(float64(h)*of.Frequency); h++ {
		tones = append(tones, b.Near(float64(h)*of.Frequency))
	}
	return tones
}

// Unsure is the standard uncertainty that noise gives the effective value of a tone: σ·√(Σw⁴)/Σw², since
// a lobe weighs each sample with the square of the window.
func (b Bands) Unsure() float64 { return b.Noise * math.Sqrt(b.spreads/float64(b.Samples)) }

// Unheard is the effective value of the noise in the lobes of so many tones.
func (b Bands) Unheard(tones int) float64 {
	bins := float64(tones * (2*b.Window.Lobe + 1))
	return b.Noise * math.Sqrt(2*bins/float64(b.Samples))
}

// UnsureOfNoise is the standard uncertainty of the effective value of noise between two frequencies, as a share of it:
// neighbouring bins depend on each other.
func (b Bands) UnsureOfNoise(from, to float64) float64 {
	first, last := b.bins(from, to)
	return math.Sqrt(b.spreads/math.Max(float64(last-first+1), 1)) / 2
}

// Weighing is the frequency weighting A of IEC 61672-1, 1 at 1 kHz.
func Weighing(hertz float64) float64 {
	f := hertz * hertz
	const a, b, c, d = 20.598997 * 20.598997, 107.65265 * 107.65265, 737.86223 * 737.86223, 12194.217 * 12194.217
	return 1.2588966 * d * f * f / ((f + a) * math.Sqrt((f+b)*(f+c)) * (f + d))
}
