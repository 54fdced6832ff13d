package capture

import (
	"errors"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
	"usherbench/core/waveform"
)

var (
	directions = map[string][]string{"direction": {"rising", "falling"}}
	edgeArgs   = []figure.Arg{share("level", 0.5, 1), share("hysteresis", 0.1, 1),
		{Name: "number", Dim: quantity.Number, Default: 1, Least: 1, Most: 1e6}}
)

// riseOf is the way from 10 % to 90 % after the trigger, seen in enough samples.
func riseOf(s shot) (waveform.Rise, waveform.Levels, error) {
	l, err := s.Levels()
	if err != nil {
		return waveform.Rise{}, l, err
	}
	if s.Index(0) < 1 {
		return waveform.Rise{}, l, record.Because(record.NoData, "nothing was captured before the trigger")
	}
	if step := math.Abs(l.Top - l.Base); step < 10*math.Max(l.Noise, s.Noise()) {
		return waveform.Rise{}, l, record.Because(record.BelowFloor, "the step of %s is under 10 × the noise", volts(step))
	}
	rise, err := s.Rise(l, 0)
	if err != nil {
		return rise, l, err
	}
	if rise.Samples < 5 {
		bound := math.Abs(rise.T90 - rise.T10)
		why := record.Because(record.TooFew, "%d samples lie between 10 and 90 %%; five are needed", rise.Samples)
		why.AtMost, why.Known = &bound, "≤ "+seconds(bound)
		return rise, l, why
	}
	return rise, l, nil
}

// betweenTwo is what is left of the noise of two samples on the line between them, in the mean over the line:
// √(2/3).
const betweenTwo = 0.816

// crossingU is the standard uncertainty of the time of a crossing, s.
func (s shot) crossingU(slope float64) float64 {
	if slope == 0 {
		return s.Step
	}
	return math.Hypot(s.Noise()*betweenTwo/math.Abs(slope), s.Step/math.Sqrt(12)/10)
}

// hasty is how much too early the first crossing of a level is, or too late the last, s: where noise and ripple are not
// small against what the waveform goes between two samples, as many samples as lie in them compete.
func (s shot) hasty(slope float64, l waveform.Levels) uncertainty.Peak {
	if slope == 0 {
		return uncertainty.Peak{}
	}
	slope = math.Abs(slope)
	noise := s.Noise()
	p := uncertainty.PeakOf(2*noise/(slope*s.Step), betweenTwo*noise/slope)
	return withRipple(p, l, noise, 1/slope)
}

// riseTime is t90 − t10. An instrument of bandwidth B widens it by 0.35/B, in squares.
func riseTime(s shot, _ figure.Request) (figure.Result, error) {
	rise, l, err := riseOf(s)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: rise.T90 - rise.T10, N: rise.Samples}
	widened := 0.0
	if s.Bandwidth > 0 {
		own := 0.35 / s.Bandwidth
		widened = r.Value - math.Sqrt(math.Max(r.Value*r.Value-own*own, 0))
	}
	s.known(&r, []float64{widened, timeBase * r.Value}, nil, s.hasty(rise.Slope10, l), s.hasty(rise.Slope90, l))
	return r, nil
}

// startupDelay is t10 of the output minus the time at which the input passes a share of its own step.
func startupDelay(s shot, req figure.Request) (figure.Result, error) {
	rise, out, err := riseOf(s)
	if err != nil {
		return figure.Result{}, err
	}
	if req.Since == "" {
		return figure.Result{}, record.Because(record.WrongConditions,
			"say with since which channel captures the input or the enable")
	}
	in, err := s.other(req.Since)
	if err != nil {
		return figure.Result{}, err
	}
	l, err := in.Levels()
	if err != nil && !errors.Is(err, waveform.ErrNotSettled) { // a line that sags a little has come all the same
		return figure.Result{}, err
	}
	level := l.Base + req.Args["from"]*(l.Top-l.Base)
	begun := in.Crossings(level, 0, l.Top > l.Base, 0, 1)
	if len(begun) == 0 {
		return figure.Result{}, record.Because(record.NotReached, "%s does not reach its level", req.Since)
	}
	r := figure.Result{Value: rise.T10 - begun[0].T, N: s.Len()}
	s.known(&r, []float64{timeBase * r.Value}, []float64{in.crossingU(begun[0].Slope)}, s.hasty(rise.Slope10, out))
	return r, nil
}

// startupOvershoot is 100·(max − top)/(top − base).
func startupOvershoot(s shot, _ figure.Request) (figure.Result, error) {
	_, l, err := riseOf(s)
	if err != nil {
		return figure.Result{}, err
	}
	step := l.Top - l.Base
	low, high, _, _ := s.Extremes(0)
	beyond, peak := high-l.Top, s.peak(0, high, true)
	if step < 0 {
		beyond, peak = l.Top-low, s.peak(0, low, false)
	}
	scale := 100 / math.Abs(step)
	r := figure.Result{Value: beyond * scale}
	noise := s.Noise()
	peak = withRipple(peak, l, noise, 1)
	if beyond <= 3*noise {
		r.Value, r.Remarks = 0, append(r.Remarks, "none")
		s.known(&r, []float64{3 * noise * scale}, nil)
		return r, nil
	}
	peak.Bias, peak.Deviation = peak.Bias*scale, peak.Deviation*scale
	s.known(&r, []float64{s.Quantum() / 2 * scale},
		[]float64{scale * l.Noise / math.Sqrt(math.Max(float64(s.Len())/5, 1))}, peak)
	return r, nil
}

// slew is 0.8·(top − base)/(t90 − t10), with the sign of the edge; with steepest m the largest slope of a
// straight line through m neighbours.
func slew(s shot, req figure.Request) (figure.Result, error) {
	rise, l, err := riseOf(s)
	if err != nil {
		return figure.Result{}, err
	}
	if m := int(req.Args["steepest"]); m > 0 {
		return steepest(s, m)
	}
	took := rise.T90 - rise.T10
	r := figure.Result{Value: 0.8 * (l.Top - l.Base) / took, N: rise.Samples}
	size := math.Abs(r.Value)
	share := size / took
	early, late := s.hasty(rise.Slope10, l), s.hasty(rise.Slope90, l)
	s.known(&r, []float64{s.Gain * size, timeBase * size}, nil,
		uncertainty.Peak{Bias: early.Bias * share, Deviation: early.Deviation * share},
		uncertainty.Peak{Bias: late.Bias * share, Deviation: late.Deviation * share})
	return r, nil
}

// leastLine is how many neighbours make a line.
const leastLine = 5

func steepest(s shot, m int) (figure.Result, error) {
	if m < leastLine || m > s.Len() {
		return figure.Result{}, record.Because(record.TooFew, "a line goes through at least %d samples, and at most all",
			leastLine)
	}
	middle := float64(m-1) / 2
	sxx := float64(m) * float64(m*m-1) / 12
	r := figure.Result{N: m}
	for i := 0; i+m <= s.Len(); i++ {
		sum := 0.0
		for k := range m {
			sum += (float64(k) - middle) * s.At(i+k)
		}
		if slope := sum / sxx / s.Step; math.Abs(slope) > math.Abs(r.Value) {
			r.Value = slope
		}
	}
	s.known(&r, []float64{s.Gain * math.Abs(r.Value)}, []float64{s.Noise() / math.Sqrt(sxx) / s.Step})
	return r, nil
}

// edgeOf finds the asked edge of a channel.
func edgeOf(s shot, req figure.Request) (waveform.Crossing, error) {
	l, err := s.Levels()
	if err != nil && !errors.Is(err, waveform.ErrNotSettled) {
		return waveform.Crossing{}, err
	}
	low, high, _, _ := s.Extremes(0)
	if math.Abs(l.Top-l.Base) < (high-low)/2 { // a train of edges ends where it likes: what it goes between counts
		l.Base, l.Top = low, high
	}
	step := math.Abs(l.Top - l.Base)
	if step == 0 {
		return waveform.Crossing{}, waveform.ErrNotReached
	}
	level := math.Min(l.Base, l.Top) + req.Args["level"]*step
	asked := int(req.Args["number"])
	edges := s.Crossings(level, req.Args["hysteresis"]*step, req.Choices["direction"] == "rising", 0, asked)
	if len(edges) < asked {
		return waveform.Crossing{}, record.Because(record.NotReached, "%s has %d such edges, not %d", s.Channel, len(edges),
			asked)
	}
	return edges[asked-1], nil
}

// edgeTime is when an edge crosses its level, from the trigger.
func edgeTime(s shot, req figure.Request) (figure.Result, error) {
	edge, err := edgeOf(s, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: edge.T, N: s.Len()}
	s.known(&r, []float64{timeBase * math.Abs(r.Value)}, []float64{s.crossingU(edge.Slope)})
	return r, nil
}

// edgeDelay is the edge of a channel minus that of the channel that since names, on one time base.
func edgeDelay(s shot, req figure.Request) (figure.Result, error) {
	if req.Since == "" {
		return figure.Result{}, record.Because(record.WrongConditions, "say with since from which channel it counts")
	}
	to, err := edgeOf(s, req)
	if err != nil {
		return figure.Result{}, err
	}
	first, err := s.other(req.Since)
	if err != nil {
		return figure.Result{}, err
	}
	from, err := edgeOf(first, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: to.T - from.T, N: s.Len()}
	s.known(&r, []float64{timeBase * math.Abs(r.Value)}, []float64{s.crossingU(to.Slope), first.crossingU(from.Slope)})
	return r, nil
}

// inrushOf checks that a capture shows the whole inrush, and gives its peak.
func inrushOf(s shot) (peak float64, at int, remarks []string, err error) {
	low, high, lowAt, highAt := s.Extremes(0)
	peak, at = high, highAt
	if -low > high {
		peak, at = -low, lowAt
	}
	if s.Index(0) < 1 {
		return peak, at, nil, record.Because(record.NoData, "nothing was captured before the trigger")
	}
	if math.Abs(s.At(0)) > 0.1*peak {
		return peak, at, nil, record.Because(record.NoData, "the capture begins above 10 %% of the peak")
	}
	half := 0
	for i := range s.Codes {
		if math.Abs(s.At(i)) > peak/2 {
			half++
		}
	}
	if half < 10 {
		remarks = append(remarks, "coarse")
	}
	return peak, at, remarks, nil
}

// inrush is max |i| of the input current.
func inrush(s shot, _ figure.Request) (figure.Result, error) {
	peak, at, remarks, err := inrushOf(s)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Value: peak, Remarks: remarks}
	s.known(&r, []float64{s.Gain*peak + s.Offset, s.Quantum() / 2}, nil, s.peak(0, s.At(at), s.At(at) > 0))
	return r, nil
}

// inrushI2t is the trapezoid of i² from the trigger to the first sample from which |i| stays below a share of the
// peak.
func inrushI2t(s shot, req figure.Request) (figure.Result, error) {
	peak, _, remarks, err := inrushOf(s)
	if err != nil {
		return figure.Result{}, err
	}
	from, to := s.Index(0), s.Len()-1
	for to > from && math.Abs(s.At(to)) < req.Args["until"]*peak {
		to--
	}
	to = min(to+1, s.Len()-1)
	r := figure.Result{Remarks: remarks}
	var rms float64
	for i := from; i < to; i++ {
		x, y := s.At(i), s.At(i+1)
		r.Value += (x*x + y*y) / 2 * s.Step
		rms += x * x
	}
	if to > from {
		rms = math.Sqrt(rms / float64(to-from))
	}
	length := float64(to-from) * s.Step
	s.known(&r, []float64{2 * s.Gain * r.Value, 2 * s.Offset * rms * length},
		[]float64{2 * s.Noise() * rms * s.Step * math.Sqrt(float64(to-from))})
	return r, nil
}

// charge is the trapezoid of amps over the whole of a capture, every sample of it.
func charge(s shot, _ figure.Request) (figure.Result, error) {
	if s.Unit != "A" {
		return figure.Result{}, record.Because(record.NoData, "%s is in %s; charge is of a channel in A", s.Channel, s.Unit)
	}
	n := s.Len()
	ends := (s.At(0) + s.At(n-1)) / 2
	r := figure.Result{Value: (s.Mean()*float64(n) - ends) * s.Step / record.AmpHour}
	length := float64(n-1) * s.Step / record.AmpHour
	s.known(&r, []float64{s.Gain * r.Value, s.Offset * length}, []float64{s.Noise() * length / math.Sqrt(float64(n))})
	return r, nil
}
