package waveform

import (
	"errors"
	"math"
	"math/cmplx"
	"slices"

	"gonum.org/v1/gonum/dsp/fourier"
)

// Errors of a spectrum.
var (
	ErrTooFew    = errors.New("too few samples")
	ErrNotFound  = errors.New("no frequency stands out")
	ErrAmbiguous = errors.New("two frequencies are as strong as each other")
)

// mostTransformed bounds the samples of one transform: of more, a stretch from the middle is taken.
const mostTransformed = 1 << 18

// Spectrum are the amplitudes of a waveform by frequency: bin m is m·Width Hz.
type Spectrum struct {
	Width      float64
	Amplitudes []float64 // SI, of a sine at the bin
}

// Spectrum transforms the waveform, its mean removed, through a Hann window.
func (w *Waveform) Spectrum() Spectrum {
	if n := len(w.Codes); n > mostTransformed {
		w = w.Between((n-mostTransformed)/2, (n+mostTransformed)/2)
	}
	w = w.Between(0, smooth(len(w.Codes)))
	n, mean := len(w.Codes), w.Mean()
	x := make([]float64, n)
	for i := range x {
		x[i] = (w.At(i) - mean) * 0.5 * (1 - math.Cos(2*math.Pi*float64(i)/float64(n)))
	}
	bins := fourier.NewFFT(n).Coefficients(nil, x)
	s := Spectrum{Width: 1 / (float64(n) * w.Step), Amplitudes: make([]float64, len(bins))}
	for m, c := range bins {
		s.Amplitudes[m] = cmplx.Abs(c) * 4 / float64(n)
	}
	return s
}

// smooth is the largest number up to n that has no prime factor beyond 5, for which a transform is quick.
func smooth(n int) int {
	for k := n; k > 1; k-- {
		rest := k
		for _, p := range []int{2, 3, 5} {
			for rest%p == 0 {
				rest /= p
			}
		}
		if rest == 1 {
			return k
		}
	}
	return n
}

// Peak is a line of a spectrum.
type Peak struct {
	Frequency, Amplitude float64
	Bin                  int
}

// Dominant finds the strongest line between two frequencies, Hz; 0 stands for the usual bounds, 3 bins and 0.4/h. Its
// place between the bins comes from the logarithms of three neighbours. With ErrAmbiguous the second peak is another
// that is as strong within 10 %.
func (w *Waveform) Dominant(above, below float64) (first, second Peak, err error) {
	if len(w.Codes) < 32 {
		return first, second, ErrTooFew
	}
	return w.Spectrum().dominant(above, below, w.Step)
}

func (s Spectrum) dominant(above, below, step float64) (first, second Peak, err error) {
	low := 3
	if above > 0 {
		low = int(math.Ceil(above / s.Width))
	}
	if below == 0 {
		below = 0.4 / step
	}
	high := min(int(below/s.Width), len(s.Amplitudes)-2)
	if low < 1 || high-low < 2 {
		return first, second, ErrTooFew
	}
	first = s.strongest(low, high, -1)
	second = s.strongest(low, high, first.Bin)
	sorted := slices.Clone(s.Amplitudes[low : high+1])
	slices.Sort(sorted)
	switch {
	case first.Amplitude < 4*sorted[len(sorted)/2], first.Bin == low, first.Bin == high:
		return first, second, ErrNotFound
	case second.Amplitude > 0.9*first.Amplitude:
		return first, second, ErrAmbiguous
	}
	return first, second, nil
}

// strongest is the largest bin between two, but for those within 2 of one; that is no peak of its own.
func (s Spectrum) strongest(low, high, but int) Peak {
	best := -1
	for m := low; m <= high; m++ {
		if but >= 0 && m >= but-2 && m <= but+2 {
			continue
		}
		peak := s.Amplitudes[m] >= s.Amplitudes[m-1] && s.Amplitudes[m] >= s.Amplitudes[m+1]
		if but >= 0 && !peak {
			continue
		}
		if best < 0 || s.Amplitudes[m] > s.Amplitudes[best] {
			best = m
		}
	}
	if best < 0 {
		return Peak{}
	}
	p := Peak{Frequency: float64(best) * s.Width, Amplitude: s.Amplitudes[best], Bin: best}
	before, at, after := math.Log(s.Amplitudes[best-1]), math.Log(s.Amplitudes[best]), math.Log(s.Amplitudes[best+1])
	if curve := before - 2*at + after; curve < 0 && !math.IsInf(curve, 0) {
		p.Frequency += s.Width * 0.5 * (before - after) / curve
	}
	return p
}

// finest is the largest code of what is computed: as fine as codes can be.
const finest = 32_000

// Filtered is the waveform behind a single pole at a frequency, Hz, in codes of its own that are as fine as they
// can be.
func (w *Waveform) Filtered(corner float64) *Waveform {
	mean := w.Mean()
	low, high, _, _ := w.Extremes(0)
	out := *w
	out.Zero, out.Scale = mean, math.Max(high-mean, mean-low)/finest
	if out.Scale == 0 {
		out.Scale = w.Quantum()
	}
	out.Codes, out.Lowest, out.Highest = make([]int16, len(w.Codes)), -finest, finest
	share := 1 - math.Exp(-2*math.Pi*corner*w.Step)
	y := w.At(0) - mean
	for i := range w.Codes {
		y += share * (w.At(i) - mean - y)
		out.Codes[i] = int16(math.Round(y / out.Scale))
	}
	out.Bandwidth = corner
	return &out
}
