package capture

import (
	"errors"
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/waveform"
)

// rippling is a capture in steady state, in the bandwidth that is asked for, with its dominant frequency.
type rippling struct {
	shot
	period  float64 // s; 0: none stands out
	remarks []string
}

// Ripple must be seen over so many periods, and each of them in so many samples.
const leastPeriods, leastSamples = 10, 8

func steady(s shot, req figure.Request) (r rippling, err error) {
	r.shot = s
	if asked, given := req.Args["bandwidth"]; given {
		switch {
		case s.Bandwidth > 0 && s.Bandwidth < 0.99*asked:
			return r, record.Because(record.Limited, "it was captured with %s only", hertz(s.Bandwidth))
		case s.Bandwidth == 0 || s.Bandwidth > 1.01*asked:
			r.Waveform = s.Filtered(asked)
			r.remarks = append(r.remarks, "filtered")
		}
	}
	line, _, err := r.Dominant(0, 0)
	switch {
	case errors.Is(err, waveform.ErrNotFound) || errors.Is(err, waveform.ErrAmbiguous):
		r.remarks = append(r.remarks, "no frequency stands out")
		return r, nil
	case err != nil:
		return r, err
	}
	r.period = 1 / line.Frequency
	periods, samples := s.Span()/r.period, r.period/s.Step
	if periods < leastPeriods || samples < leastSamples {
		return r, record.Because(record.TooFew,
			"%.3g periods of %s were captured, each in %.3g samples; %d and %d are needed", periods,
			hertz(line.Frequency), samples, leastPeriods, leastSamples)
	}
	return r, nil
}

func hertz(f float64) string { return quantity.Quantity{Value: f, Dim: quantity.Frequency}.Format(3) }

// floorOf is a figure of the capture with the tip of the probe shorted, which a request names with against. The value
// must be above 1.5 × of it.
func floorOf(s shot, req figure.Request, value float64, of func(*waveform.Waveform) float64) (x float64, given bool,
	err error) {
	if req.Against == "" {
		return 0, false, nil
	}
	captures, err := s.rec.CapturesOf(req.Against, 0)
	if err != nil {
		return 0, true, err
	}
	for _, c := range captures {
		w, err := s.rec.Waveform(c, req.Channel)
		if err != nil {
			return 0, true, err
		}
		x = math.Max(x, of(w))
	}
	if value < 1.5*x {
		return x, true, record.Because(record.BelowFloor, "%s is not above 1.5 × the %s of the shorted tip",
			volts(value), volts(x))
	}
	return x, true, nil
}

// ripplePP is max − min; with discard p, quantile(1 − p/2) − quantile(p/2) of the samples.
func ripplePP(s shot, req figure.Request) (figure.Result, error) {
	w, err := steady(s, req)
	if err != nil {
		return figure.Result{}, err
	}
	discard := req.Args["discard"]
	span := func(w *waveform.Waveform) float64 {
		h := w.Histogram()
		return w.Quantum() * (h.Quantile(1-discard/2) - h.Quantile(discard/2))
	}
	r := figure.Result{Value: span(w.Waveform), Remarks: append(w.remarks, "over "+seconds(s.Span()))}
	if _, _, err := floorOf(s, req, r.Value, span); err != nil {
		return r, err
	}
	rectangles := []float64{s.Gain * r.Value, w.Quantum() / 2, w.Quantum() / 2}
	if discard > 0 {
		s.known(&r, rectangles, nil)
		return r, nil
	}
	low, high, _, _ := w.Extremes(0)
	s.known(&r, rectangles, nil, w.peak(0, low, false), w.peak(0, high, true))
	return r, nil
}

func volts(x float64) string   { return quantity.Quantity{Value: x, Dim: quantity.Voltage}.Format(3) }
func seconds(x float64) string { return quantity.Quantity{Value: x, Dim: quantity.Time}.Format(3) }

// rippleRMS is √(Σ(x − x̄)²/n) over whole periods of the dominant frequency. The noise of a shorted tip
// comes off in squares.
func rippleRMS(s shot, req figure.Request) (figure.Result, error) {
	w, err := steady(s, req)
	if err != nil {
		return figure.Result{}, err
	}
	n := w.Len()
	if w.period > 0 {
		n = int(math.Floor(w.Span()/w.period) * w.period / w.Step)
	}
	whole := w.Between(0, n)
	r := figure.Result{Value: whole.Deviation(), N: n, Remarks: append(w.remarks, "over "+seconds(whole.Span()))}
	floor, given, err := floorOf(s, req, r.Value, (*waveform.Waveform).Deviation)
	switch {
	case err != nil:
		return r, err
	case given:
		r.Value = math.Sqrt(r.Value*r.Value - floor*floor)
		r.Remarks = record.AddRemark(r.Remarks, "corrected")
	}
	if r.Value == 0 {
		s.known(&r, []float64{w.Quantum() / 2}, nil)
		return r, nil
	}
	// Noise that is not taken off makes it too large by N²/(2x); that part is known, but not which way it counts.
	noise := w.Noise()
	extra := r.Value - math.Sqrt(math.Max(r.Value*r.Value-noise*noise, 0))
	if given {
		extra = 0
	}
	s.known(&r, []float64{s.Gain * r.Value, extra}, []float64{noise / math.Sqrt(2*float64(n))})
	return r, nil
}

// dominantFrequency is the strongest line of the spectrum between above and below.
func dominantFrequency(s shot, req figure.Request) (figure.Result, error) {
	first, second, err := s.Dominant(req.Args["above"], req.Args["below"])
	switch {
	case errors.Is(err, waveform.ErrAmbiguous):
		return figure.Result{}, record.Because(record.Ambiguous, "%s and %s are as strong as each other",
			hertz(first.Frequency), hertz(second.Frequency))
	case err != nil:
		return figure.Result{}, err
	}
	bin := first.Frequency / math.Max(float64(first.Bin), 1)
	r := figure.Result{Value: first.Frequency, Remarks: []string{fmt.Sprintf("amplitude %s",
		quantity.Sprintf("%.3g %s", first.Amplitude, s.Unit))}}
	// The interpolation is off by up to 0.016 bin, and noise moves the line by its share of the amplitude.
	noise := s.Noise() * math.Sqrt(2/float64(s.Len())) / first.Amplitude
	s.known(&r, []float64{0.016 * bin, timeBase * first.Frequency}, []float64{noise * bin})
	return r, nil
}

// timeBase is how far the clock of an instrument may be off, as a share, where nobody says how good it is.
const timeBase = 50e-6
