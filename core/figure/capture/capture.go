// Package capture computes the figures of fast captures: ripple, transients, recovery, edges, start-up and inrush.
// Terms are those of IEC 60469: base is the level before the trigger, top that of the last fifth of the capture.
package capture

import (
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
	"usherbench/core/waveform"
)

var endless = math.Inf(1)

// what a level of a transient may be.
const (
	after  = "after"
	before = "before"
	rated  = "rated"
)

func ofCapture(id, title, unit string, least float64, formula formula) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: least, Most: endless, Needs: figure.Capture,
		Formula: worst(formula)}
}

func with(d figure.Definition, args ...figure.Arg) figure.Definition {
	d.Args = args
	return d
}

func choosing(d figure.Definition, choices map[string][]string) figure.Definition {
	d.Choices = choices
	return d
}

func share(name string, fallback, most float64) figure.Arg {
	return figure.Arg{Name: name, Dim: quantity.Number, Default: fallback, Least: 0, Most: most}
}

var (
	bandwidth = figure.Arg{Name: "bandwidth", Dim: quantity.Frequency, Default: math.NaN(), Least: 1, Most: 1e12}
	smoothing = figure.Arg{Name: "smooth", Dim: quantity.Time, Default: 0, Least: 0, Most: 1e3}
	levels    = map[string][]string{"against": {after, before, rated}}
)

// Figures of this family.
var Figures = []figure.Definition{
	with(ofCapture("ripple-pp", "Ripple, peak to peak", "V", 0, ripplePP), share("discard", 0, 0.5), bandwidth),
	with(ofCapture("ripple-rms", "Ripple, rms", "V", 0, rippleRMS), bandwidth),
	with(choosing(ofCapture("transient-undershoot", "Undershoot", "V", 0, excursion(below, false)), levels), smoothing),
	with(choosing(ofCapture("transient-overshoot", "Overshoot", "V", 0, excursion(above, false)), levels), smoothing),
	with(choosing(ofCapture("transient-undershoot-percent", "Undershoot, share of the level", "%", 0,
		excursion(below, true)), levels), smoothing),
	with(choosing(ofCapture("transient-overshoot-percent", "Overshoot, share of the level", "%", 0,
		excursion(above, true)), levels), smoothing),
	with(choosing(ofCapture("recovery-time", "Recovery time", "s", 0, recovery),
		map[string][]string{"centre": {after, rated}}),
		figure.Arg{Name: "band", Dim: quantity.Voltage, Default: math.NaN(), Least: 1e-9, Most: 1e6},
		share("stay", 0.1, 0.9), smoothing),
	with(choosing(ofCapture("edge-time", "Time of an edge", "s", math.Inf(-1), edgeTime), directions), edgeArgs...),
	with(choosing(ofCapture("edge-delay", "Delay between edges", "s", math.Inf(-1), edgeDelay), directions),
		edgeArgs...),
	with(ofCapture("slew", "Slew", "V/s", math.Inf(-1), slew),
		figure.Arg{Name: "steepest", Dim: quantity.Number, Default: 0, Least: 0, Most: 1e6}),
	with(ofCapture("dominant-frequency", "Dominant frequency", "Hz", 0, dominantFrequency),
		figure.Arg{Name: "above", Dim: quantity.Frequency, Default: 0, Least: 0, Most: 1e12},
		figure.Arg{Name: "below", Dim: quantity.Frequency, Default: 0, Least: 0, Most: 1e12}),
	ofCapture("inrush", "Inrush current", "A", 0, inrush),
	with(ofCapture("inrush-i2t", "Inrush, I²t", "A²s", 0, inrushI2t), share("until", 0.1, 0.9)),
	ofCapture("captured-charge", "Charge in a capture", "Ah", math.Inf(-1), charge),
	ofCapture("rise-time", "Rise time", "s", 0, riseTime),
	with(ofCapture("startup-delay", "Start-up delay", "s", math.Inf(-1), startupDelay), share("from", 0.9, 1)),
	ofCapture("startup-overshoot", "Start-up overshoot", "%", 0, startupOvershoot),
}

// shot is one capture with the channel that a figure is of.
type shot struct {
	*waveform.Waveform
	rec     *record.Record
	capture record.Capture
}

// other reads another channel of the capture.
func (s shot) other(channel string) (shot, error) {
	w, err := s.rec.Waveform(s.capture, channel)
	return shot{w, s.rec, s.capture}, err
}

// formula computes a figure of one capture.
type formula func(s shot, req figure.Request) (figure.Result, error)

// worst is the figure of all captures of a stage: the largest of them, by its size. One of which it cannot be told is
// said; where it can be told of none the first says why.
func worst(of formula) func(*record.Record, figure.Request) (figure.Result, error) {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		captures, err := rec.CapturesOf(req.Stage, req.Pass)
		if err != nil {
			return figure.Result{}, err
		}
		var best figure.Result
		var first error
		told := 0
		for _, c := range captures {
			r, err := one(rec, c, req, of)
			if err != nil {
				if first == nil {
					first = err
				}
				continue
			}
			if told++; told == 1 || math.Abs(r.Value) > math.Abs(best.Value) {
				best = r
			}
		}
		if told == 0 {
			return figure.Result{}, first
		}
		if n := len(captures); n > 1 {
			best.Remarks = record.AddRemark(best.Remarks, fmt.Sprintf("largest of %d captures", n))
			if told < n {
				best.Remarks = record.AddRemark(best.Remarks, fmt.Sprintf("of %d it cannot be told: %s", n-told, first))
			}
		}
		return best, nil
	}
}

func one(rec *record.Record, c record.Capture, req figure.Request, of formula) (figure.Result, error) {
	w, err := rec.Waveform(c, req.Channel)
	if err != nil {
		return figure.Result{}, err
	}
	if w.Clipped() {
		return figure.Result{}, record.Because(record.Clipped,
			"%s stands at an end of its range; capture it again with a wider one", w.Channel)
	}
	r, err := of(shot{w, rec, c}, req)
	if err != nil {
		return r, record.CodeOfCapture(err, w.Channel)
	}
	r.N = max(r.N, w.Len())
	if w.Bandwidth > 0 {
		r.Remarks = record.AddRemark(r.Remarks, "bandwidth "+quantity.Quantity{Value: w.Bandwidth,
			Dim: quantity.Frequency}.Format(3))
		if 1/w.Step < 2.5*w.Bandwidth {
			r.Remarks = record.AddRemark(r.Remarks, "aliasing")
		}
	}
	return r, nil
}

// known adds U: rectangles and normal parts, and what noise does to peaks.
func (s shot) known(r *figure.Result, rectangles, normal []float64, peaks ...uncertainty.Peak) {
	if !s.Stated {
		r.Remarks = record.AddRemark(r.Remarks, figure.NotStated)
		return
	}
	parts := make([]uncertainty.Normal, len(normal))
	for i, u := range normal {
		parts[i].Standard = u
	}
	e := uncertainty.Expand(rectangles, parts)
	if len(peaks) > 0 {
		e = uncertainty.Skewed(e, peaks...)
	}
	r.U, r.K = e.U, e.K
}

// nearPeak is how far below its peak a sample still competes, in standard deviations of the noise: with less, few
// would be seen to compete just where the noise has been large.
const nearPeak = 0.8

// peak is what noise does to the extreme of the samples from index i on: as many as stand near it compete.
func (s shot) peak(from int, extreme float64, high bool) uncertainty.Peak {
	noise, sign := s.Noise(), 1.0
	if !high {
		sign = -1
	}
	counts := s.Between(from, s.Len()).Histogram()
	n := 1.0
	for range 8 { // how many compete and where the peak is without noise follow from each other
		level := sign * (sign*extreme - uncertainty.PeakOf(n, noise).Bias - nearPeak*noise)
		n = math.Max(2*float64(counts.Beyond((level-s.Zero)/s.Scale, high == (s.Scale > 0))), 1)
	}
	return uncertainty.PeakOf(n, noise)
}

// rippleHeight is the height of a ripple over its standard deviation: √3 for a triangle, and a little for its spikes.
const rippleHeight = 2

// withRipple adds to a peak what a ripple makes of it: it is too large by the height of the ripple, which is scaled as
// the peak is.
func withRipple(p uncertainty.Peak, l waveform.Levels, noise, scale float64) uncertainty.Peak {
	if own := math.Sqrt(math.Max(l.Ripple*l.Ripple-noise*noise, 0)); own > 0.7*noise {
		p.Bias += rippleHeight * own * scale
	}
	return p
}

// ratedVolts is what the nameplate says of the output.
func (s shot) ratedVolts() (float64, error) {
	q, ok := s.rec.Rating(seats.DefaultOutput, "rated_volts")
	if !ok {
		return 0, record.Because(record.NoRating, "the nameplate does not state rated_volts")
	}
	return q.Value, nil
}

// smoothed is a running mean over a time, which takes out ripple.
func (s shot) smoothed(over float64) shot {
	n := int(math.Round(over / s.Step))
	if n < 2 {
		return s
	}
	w := s.Averaged(n)
	return shot{w, s.rec, s.capture}
}
