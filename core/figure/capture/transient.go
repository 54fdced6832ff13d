package capture

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/waveform"
)

// The two ways of an excursion.
const (
	below = false
	above = true
)

// level is what a transient is held against.
func (s shot) level(choice string) (level float64, l waveform.Levels, err error) {
	l, err = s.Levels()
	if choice == rated {
		level, missing := s.ratedVolts()
		if missing != nil {
			return level, l, missing
		}
		if err != nil {
			l.Noise = s.Noise()
		}
		return level, l, nil
	}
	if err != nil {
		return 0, l, err
	}
	if choice == before {
		return l.Base, l, nil
	}
	return l.Top, l, nil
}

// meets is the first sample after the trigger at which the waveform, which comes from the base, meets the top.
func (s shot) meets(l waveform.Levels) int {
	from := s.Index(0)
	for i := from; i < s.Len(); i++ {
		if (s.At(i) >= l.Top) != (l.Base >= l.Top) {
			return i
		}
	}
	return from
}

// excursion is how far the output goes beyond its level after the trigger: below it, or above it. Against the level
// after, it counts from where the waveform first meets that level: a static shift is none.
func excursion(up, asShare bool) formula {
	return func(s shot, req figure.Request) (figure.Result, error) {
		w := s.smoothed(req.Args["smooth"])
		choice := req.Choices["against"]
		level, l, err := w.level(choice)
		if err != nil {
			return figure.Result{}, err
		}
		from := w.Index(0)
		if choice == after && up == (l.Base > l.Top) && math.Abs(l.Base-l.Top) > 3*w.Noise() {
			from = w.meets(l) // the base lies on this side, and is no excursion
		}
		low, high, _, _ := w.Extremes(from)
		r := figure.Result{Value: level - low}
		peak := w.peak(from, low, false)
		if up {
			r.Value, peak = high-level, w.peak(from, high, true)
		}
		if math.IsNaN(r.Value) {
			return r, waveform.ErrNoData
		}
		peak = withRipple(peak, l, w.Noise(), 1)
		rectangles := []float64{s.Gain * math.Abs(r.Value), w.Quantum() / 2}
		normal := []float64{l.Noise / math.Sqrt(math.Max(float64(w.Len())/5, 1))}
		if choice == rated {
			rectangles[0] = s.Gain*math.Abs(level) + s.Offset
		}
		if noise := w.Noise(); r.Value <= 3*noise {
			r.Value, r.Remarks = 0, append(r.Remarks, "none")
			s.known(&r, []float64{3 * noise}, nil)
		} else {
			s.known(&r, rectangles, normal, peak)
		}
		if !asShare {
			return r, nil
		}
		if level == 0 {
			return r, record.Because(record.ZeroDivisor, "the level is 0, of which nothing is a share")
		}
		r.Value, r.U = 100*r.Value/math.Abs(level), 100*r.U/math.Abs(level)
		return r, nil
	}
}

// recovery is the time from the trigger to the last entry into the band about the centre. Entering and leaving again
// before that does not count.
func recovery(s shot, req figure.Request) (figure.Result, error) {
	band, given := req.Args["band"]
	if !given {
		return figure.Result{}, record.Because(record.WrongConditions, "say which band it must come back into")
	}
	w := s.smoothed(req.Args["smooth"])
	from := w.Index(0)
	if from >= w.Len() {
		return figure.Result{}, record.Because(record.NoMark, "nothing was captured from the trigger on")
	}
	centre, l, err := w.level(req.Choices["centre"])
	if err != nil {
		return figure.Result{}, err
	}
	if half := w.restless(); band < 1.5*half {
		return figure.Result{}, record.Because(record.BelowFloor, "the band of ±%s is not above 1.5 × half the ripple, %s",
			volts(band), volts(half))
	}
	last := -1
	for i := from; i < w.Len(); i++ {
		if math.Abs(w.At(i)-centre) > band {
			last = i
		}
	}
	r := figure.Result{Remarks: []string{"band ±" + quantity.Quantity{Value: band, Dim: quantity.Voltage}.Format(3)}}
	if last < 0 {
		r.Remarks = append(r.Remarks, "never left")
		s.known(&r, []float64{w.Step}, nil)
		return r, nil
	}
	if float64(w.Len()-1-last) < req.Args["stay"]*float64(w.Len()) {
		return r, record.Because(record.NotSettled, "it was outside until %s, and too little of the capture is left after "+
			"that", seconds(w.Time(last)))
	}
	edge := centre + math.Copysign(band, w.At(last)-centre)
	x, y := w.At(last), w.At(last+1)
	r.Value = w.Time(last) + w.Step*(edge-x)/(y-x)
	slope := math.Abs((y - x) / w.Step)
	if wide := w.slope(last, 4); wide > 0 {
		slope = wide
	}
	edgeBound := s.Gain * band
	if req.Choices["centre"] == rated {
		edgeBound = s.Gain*math.Abs(centre) + s.Offset
	}
	noise := w.Noise()
	ripples := math.Max(w.restless()-4.5*noise, 0)
	s.known(&r, []float64{edgeBound / slope, w.Quantum() / 2 / slope, ripples / slope},
		[]float64{betweenTwo * noise / slope, l.Noise / math.Sqrt(math.Max(float64(w.Len())/5, 1)) / slope})
	return r, nil
}

// slope is the steepness about a sample, over so many neighbours on each side.
func (s shot) slope(i, width int) float64 {
	a, b := max(i+1-width, 0), min(i+width, s.Len()-1)
	if b <= a {
		return 0
	}
	return math.Abs(s.At(b)-s.At(a)) / (float64(b-a) * s.Step)
}

// restless is half of what the end of the capture still moves: its ripple.
func (s shot) restless() float64 {
	end := s.Between(s.Len()-s.Len()/5, s.Len())
	if end.Len() == 0 {
		return 0
	}
	low, high, _, _ := end.Extremes(0)
	return (high - low) / 2
}
