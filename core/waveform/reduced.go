package waveform

import "math"

// Reduced gives at most n lines of the spectrum for a picture whose axis is logarithmic: of each stretch of it the
// strongest, so that none is lost. The mean is none of them.
func (s Spectrum) Reduced(n int) (hertz, amplitudes []float64) {
	last := len(s.Amplitudes) - 1
	if last < 1 || n < 1 {
		return nil, nil
	}
	ratio := math.Pow(float64(last+1), 1/float64(n))
	end := 1.0
	for m := 1; m <= last; {
		end = math.Max(end*ratio, float64(m+1))
		strongest := m
		for ; m <= last && float64(m) < end; m++ {
			if s.Amplitudes[m] > s.Amplitudes[strongest] {
				strongest = m
			}
		}
		hertz = append(hertz, float64(strongest)*s.Width)
		amplitudes = append(amplitudes, s.Amplitudes[strongest])
	}
	return hertz, amplitudes
}

// Bars gives the histogram of the waveform in at most n bars of one width, each of as many codes: the value in the
// middle of each, SI, and the share of the samples that lie there.
func (w *Waveform) Bars(n int) (values, shares []float64) {
	if len(w.Codes) == 0 || n < 1 {
		return nil, nil
	}
	h := w.Histogram()
	wide := (len(h.Counts) + n - 1) / n
	for i := 0; i < len(h.Counts); i += wide {
		count, end := 0, min(i+wide, len(h.Counts))
		for _, c := range h.Counts[i:end] {
			count += c
		}
		middle := float64(h.First) + float64(i) + float64(wide-1)/2
		values = append(values, w.Zero+w.Scale*middle)
		shares = append(shares, float64(count)/float64(len(w.Codes)))
	}
	return values, shares
}
