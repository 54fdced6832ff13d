package backup

import (
	"errors"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// rampSlope is 0.8·(P_b − P_a)/(t₉₀ − t₁₀), between the first crossings of 10 % and 90 % of the way, W/s.
func rampSlope(rec *record.Record, req figure.Request) (figure.Result, error) {
	end, err := given(req, to)
	if err != nil {
		return figure.Result{}, err
	}
	begin := req.Args[from.Name]
	_, p, err := read(rec, req, outputOf(req), "watts")
	switch {
	case err != nil:
		return figure.Result{}, err
	case begin == end:
		return figure.Result{}, record.Because(record.ZeroDivisor, "a ramp from %.4g W to %.4g W has no slope", begin, end)
	}
	way := trace.Rising
	if end < begin {
		way = trace.Falling
	}
	tenth, err := crossing(p.Series, begin+0.1*(end-begin), way)
	if err != nil {
		return figure.Result{}, err
	}
	late, err := crossing(p.Series, begin+0.9*(end-begin), way)
	switch {
	case err != nil:
		return figure.Result{}, err
	case late.K == tenth.K:
		return figure.Result{}, record.Because(record.TooFew, "the ramp passed within one interval of %.4g s; read faster",
			p.T[tenth.K+1]-p.T[tenth.K])
	case late.T <= tenth.T:
		return figure.Result{}, record.Because(record.TimeOrder, "90 %% was reached before 10 %%")
	}
	f := figure.Of(p, 0.8*(end-begin)/(late.T-tenth.T))
	if !p.Stated {
		f.Remarks = append(f.Remarks, figure.NotStated)
		return f, nil
	}
	// A gain error moves the powers between which the way is measured; noise moves both crossings.
	apart := math.Sqrt2 * p.Noise() / math.Abs(f.Value) / (late.T - tenth.T)
	e := uncertainty.Expand([]float64{p.Mean.Gain * math.Abs(f.Value)},
		[]uncertainty.Normal{{Standard: apart * math.Abs(f.Value)}})
	f.U, f.K = e.U, e.K
	return f, nil
}

// crossing is where a power goes through a level for the first time.
func crossing(s trace.Series, level float64, way trace.Direction) (trace.Crossing, error) {
	c, err := s.Cross(level, way, 0)
	switch {
	case errors.Is(err, trace.ErrAlreadyBeyond):
		return c, record.Because(record.AlreadyBeyond, "the power began beyond %.5g W", level)
	case err != nil:
		return c, record.Because(record.NotReached, "the power never went through %.5g W", level)
	}
	return c, nil
}

// rampDeviation is the largest |P(t) − shape(t)| with its sign, W: of a straight line that begins with the stage.
func rampDeviation(rec *record.Record, req figure.Request) (figure.Result, error) {
	end, err := given(req, to)
	if err != nil {
		return figure.Result{}, err
	}
	takes, err := given(req, over)
	if err != nil {
		return figure.Result{}, err
	}
	span, p, err := read(rec, req, outputOf(req), "watts")
	if err != nil {
		return figure.Result{}, err
	}
	begin := req.Args[from.Name]
	asked := func(t float64) float64 { return begin + (end-begin)*math.Min((t-span.T0)/takes, 1) }
	at := 0
	for k := range p.X {
		if math.Abs(p.X[k]-asked(p.T[k])) > math.Abs(p.X[at]-asked(p.T[at])) {
			at = k
		}
	}
	f := figure.Of(p, p.X[at]-asked(p.T[at]))
	f.Remarks = append(f.Remarks, quantity.Sprintf("at %.6g s, where %.5g W was asked for", p.T[at], asked(p.T[at])))
	want := asked(p.T[at])
	p.Mean.Value, p.Mean.Noise, p.Mean.N = p.X[at], p.Noise(), 0 // a single reading has all of it
	f.KnownFrom(func(x []float64) float64 { return x[0] - want }, p)
	return f, nil
}

// holdDeviation is 100·(mean P − P_s)/P_s, %.
func holdDeviation(rec *record.Record, req figure.Request) (figure.Result, error) {
	want, err := given(req, request)
	if err != nil {
		return figure.Result{}, err
	}
	_, p, err := read(rec, req, outputOf(req), "watts")
	switch {
	case err != nil:
		return figure.Result{}, err
	case want == 0:
		return figure.Result{}, record.Because(record.ZeroDivisor, "a request of 0 W has no share")
	}
	off := func(x []float64) float64 { return 100 * (x[0] - want) / want }
	f := figure.Of(p, off([]float64{p.Mean.Value}))
	f.KnownFrom(off, p)
	return f, nil
}

// holdTime is the longest unbroken time with |P − P_s| ≤ band, from crossing to crossing, s.
func holdTime(rec *record.Record, req figure.Request) (figure.Result, error) {
	want, err := given(req, request)
	if err != nil {
		return figure.Result{}, err
	}
	within, err := given(req, band)
	if err != nil {
		return figure.Result{}, err
	}
	_, p, err := read(rec, req, outputOf(req), "watts")
	if err != nil {
		return figure.Result{}, err
	}
	off := trace.Series{T: p.T, X: make([]float64, p.Len())}
	for k, x := range p.X {
		off.X[k] = math.Abs(x-want) - within
	}
	longest, inside := stay(off)
	if !inside {
		return figure.Result{}, record.Because(record.NotReached, "the power was never within %.4g W of %.5g W", within, want)
	}
	f := figure.Of(p, longest)
	f.Remarks = append(f.Remarks, "each end lies within an interval of the readings")
	step := p.T[1] - p.T[0]
	e := uncertainty.Expand([]float64{step / 2, step / 2}, nil)
	f.U, f.K = e.U, e.K
	return f, nil
}

// stay is the longest unbroken time in which a series is not above 0, its ends interpolated.
func stay(s trace.Series) (longest float64, inside bool) {
	begin := math.NaN()
	end := func(t float64) {
		if !math.IsNaN(begin) {
			longest = math.Max(longest, t-begin)
		}
		begin = math.NaN()
	}
	for k := range s.X {
		is := s.X[k] <= 0
		inside = inside || is
		switch {
		case k == 0:
			if is {
				begin = s.T[0]
			}
		case is != (s.X[k-1] <= 0):
			at := s.T[k-1] + (s.T[k]-s.T[k-1])*s.X[k-1]/(s.X[k-1]-s.X[k])
			end(at)
			if is {
				begin = at
			}
		}
	}
	end(s.T[s.Len()-1])
	return longest, inside
}
