package device

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// around is how much of the time that the volts stood is averaged on both sides of its end, and alone how much of it
// before the end where the stage is over then; moved is how far the volts may move in it.
const around, alone, moved = 0.1, 0.02, 0.01

// endOf is the window of a stage around a time after its beginning, s; ok is false where it ended before.
func endOf(span record.Span, at float64) (from, to float64, ok bool) {
	to = min(span.T0+at*(1+around), span.T1)
	from = span.T0 + at - max(to-span.T0-at, alone*at)
	return from, to, span.T1 >= span.T0+at*(1-1e-9)
}

// stood is what was read after the volts had stood for a time: their mean and that of the amps, with the amps of the
// empty fixture.
type stood struct {
	volts, amps record.Measured
	fixture     float64 // A
	bare        *record.Measured
	corrected   bool
}

// leaks are the amps that flow through the insulation, in the direction of the volts.
func (s stood) leaks() float64 {
	return math.Copysign(1, s.volts.Mean.Value) * (s.amps.Mean.Value - s.fixture)
}

// standing reads a stage at a time after its beginning.
func standing(rec *record.Record, req figure.Request, at float64) (s stood, err error) {
	seat := seatOf(req)
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return s, err
	}
	from, to, ok := endOf(span, at)
	if !ok {
		return s, record.Because(record.NoData, "the volts stood for %.4g s only, not for %.4g s", span.T1-span.T0, at)
	}
	if s.volts, err = rec.Measured(seat+".volts", from, to); err != nil {
		return s, err
	}
	if s.amps, err = rec.Measured(seat+".amps", from, to); err != nil {
		return s, err
	}
	low, high := extremes(s.volts.X)
	if high-low > moved*math.Abs(s.volts.Mean.Value) {
		return s, record.Because(record.NotSettled, "the volts moved from %.5g to %.5g V", low, high)
	}
	s.fixture = req.Args[empty.Name]
	s.corrected = s.fixture != 0
	if req.Gear == "" {
		return s, nil
	}
	bare, err := rec.Span(req.Gear, 0)
	if err != nil {
		return s, err
	}
	if from, to, ok = endOf(bare, at); !ok {
		return s, record.Because(record.NoData, "the empty fixture stood for %.4g s only", bare.T1-bare.T0)
	}
	m, err := rec.Measured(seat+".amps", from, to)
	if err != nil {
		return s, err
	}
	s.fixture, s.bare, s.corrected = m.Mean.Value, &m, true
	return s, nil
}

func extremes(x []float64) (low, high float64) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, v := range x {
		low, high = min(low, v), max(high, v)
	}
	return low, high
}

// readings are what a resistance is computed from: volts, amps, and the amps of the empty fixture.
func (s stood) readings() (readings []uncertainty.Reading, stated bool) {
	readings, stated = []uncertainty.Reading{s.volts.Mean, s.amps.Mean}, s.volts.Stated && s.amps.Stated
	if s.bare != nil {
		return append(readings, s.bare.Mean), stated && s.bare.Stated
	}
	return append(readings, uncertainty.Reading{Value: s.fixture, Group: "empty fixture"}), stated
}

// ohms is R = V/(I − I₀).
func ohms(x []float64) float64 { return x[0] / (x[1] - x[2]) }

// floor is how well the amps through the insulation are known, A.
func (s stood) floor() float64 {
	readings, stated := s.readings()
	if !stated {
		return 0
	}
	return uncertainty.Propagate(func(x []float64) float64 { return x[1] - x[2] }, readings).U
}

// bound fails where the amps are not told from none: then the resistance is at least V/(max(I − I₀, 0) + U).
func (s stood) bound() error {
	floor := s.floor()
	if s.leaks() > floor {
		return nil
	}
	why := record.Because(record.BelowFloor, "the %.3g A through it are not told from 0, to ±%.2g A", s.leaks(), floor)
	if least := max(s.leaks(), 0) + floor; least > 0 {
		return why.Least(math.Abs(s.volts.Mean.Value)/least, "Ω")
	}
	return why
}

func insulation(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := standing(rec, req, req.Args[after.Name])
	if err != nil {
		return figure.Result{}, err
	}
	if err := s.bound(); err != nil {
		return figure.Result{}, err
	}
	readings, stated := s.readings()
	r := figure.Result{Value: ohms([]float64{s.volts.Mean.Value, s.amps.Mean.Value, s.fixture}), N: s.amps.Len()}
	if s.corrected {
		r.Remarks = append(r.Remarks, "corrected for the empty fixture")
	}
	r.WithUncertainty(ohms, readings, stated)
	return r, nil
}

// The times of the polarization index, s, and above how much the earlier resistance says little, Ω (IEEE 43).
const early, late, saysLittle = 60.0, 600.0, 5e9

// mostWarming is how far the temperature may move meanwhile, K.
const mostWarming = 2

// polarization is R(10 min)/R(1 min) at one voltage: the volts and the gain of the amps cancel, an offset does not.
func polarization(rec *record.Record, req figure.Request) (figure.Result, error) {
	first, err := standing(rec, req, early)
	if err != nil {
		return figure.Result{}, err
	}
	last, err := standing(rec, req, late)
	if err != nil {
		return figure.Result{}, err
	}
	if span, err := rec.Span(req.Stage, req.Pass); err == nil {
		if warmth, err := rec.Measured("thermo.celsius", span.T0, span.T0+late); err == nil {
			if low, high := extremes(warmth.X); high-low > mostWarming {
				return figure.Result{}, record.Because(record.WrongConditions, "the temperature moved by %.2g K meanwhile",
					high-low)
			}
		}
	}
	for _, s := range []stood{first, last} {
		if err := s.bound(); err != nil {
			return figure.Result{}, err
		}
	}
	a, statedA := first.readings()
	b, statedB := last.readings()
	index := func(x []float64) float64 { return ohms(x[3:]) / ohms(x[:3]) }
	at := func(s stood) []float64 { return []float64{s.volts.Mean.Value, s.amps.Mean.Value, s.fixture} }
	r := figure.Result{Value: index(append(at(first), at(last)...)), N: first.amps.Len() + last.amps.Len()}
	r.WithUncertainty(index, append(a, b...), statedA && statedB)
	if ohms(at(first)) > saysLittle {
		r.Remarks = append(r.Remarks, "says little: the insulation is better than 5 GΩ")
	}
	return r, nil
}
