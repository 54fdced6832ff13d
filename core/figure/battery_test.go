package figure

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// sample is a frame of a battery that a test writes down.
type sample struct{ t, volts, amps float64 }

// batteryRecord makes a record of what a cycler saw; charge and energy are integrated from the frames.
func batteryRecord(ratings map[string]quantity.Quantity, stages []Span, events []Event, frames ...sample) *Record {
	series := map[string]*trace.Series{"cycler.volts": {}, "cycler.amps": {}}
	for _, f := range frames {
		for column, x := range map[string]float64{"cycler.volts": f.volts, "cycler.amps": f.amps} {
			series[column].T, series[column].X = append(series[column].T, f.t), append(series[column].X, x)
		}
	}
	return &Record{Stages: stages, Events: events, Ratings: ratings, Columns: []string{"cycler.volts", "cycler.amps"},
		Series: 7, Trace: func(column string, a, b float64) (trace.Series, error) {
			s, ok := series[column]
			if !ok {
				return trace.Series{}, trace.ErrNoData
			}
			return s.Between(a, b), nil
		}}
}

// falling is a discharge whose volts fall along a straight line through two points.
func falling(amps, from, to, every float64, at func(t float64) float64) (frames []sample) {
	for t := from; t <= to+1e-9; t += every {
		frames = append(frames, sample{t, at(t), -amps})
	}
	return frames
}

func gannetRatings() map[string]quantity.Quantity {
	return map[string]quantity.Quantity{"cutoff": quantity.Of(21, "V"), "rated_capacity": quantity.Of(9.6, "Ah")}
}

func TestCapacityEndsAtTheCutoff(t *testing.T) {
	// 21.030 V at 17990 s and 20.980 V at 18000 s: the cutoff of 21 V is crossed at 17996 s, 9.598 Ah at 1.920 A.
	frames := falling(1.92, 0, 18010, 10, func(t float64) float64 { return 21.030 - (t-17990)*0.005 })
	rec := batteryRecord(gannetRatings(), []Span{{"empty", "discharge", 0, 18010}}, nil, frames...)
	r := Compute(rec, Request{ID: "capacity"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.92*17996/3600, r.Value, 1e-9)
	assert.Contains(t, r.Remarks, "no full charge before")
	assert.InDelta(t, 17996, Compute(rec, Request{ID: "crossing-time", Args: map[string]float64{"level": 21}}).Value, 1e-6)

	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 60, Offset: 0.005 * math.Sqrt(3)}},
		"cycler.amps": {{To: 12}}}
	r = Compute(rec, Request{ID: "capacity"})
	assert.InDelta(t, 0.53e-3, r.U/r.K, 0.01e-3, "5 mV on 5 mV/s are 1 s, 0.53 mAh")

	r = Compute(rec, Request{ID: "capacity", Args: map[string]float64{"cutoff": 20}})
	require.NotNil(t, r.Undetermined)
	assert.Equal(t, NotReached, r.Undetermined.Code)
	assert.Contains(t, r.Undetermined.Known, "≥ 9.605")
	assert.Equal(t, AlreadyBeyond,
		Compute(rec, Request{ID: "capacity", Args: map[string]float64{"cutoff": 200}}).Undetermined.Code)
	assert.InDelta(t, 100*9.59787/9.6, Compute(rec, Request{ID: "state-of-health"}).Value, 1e-3)
	rec.Ratings["rated_rate"] = quantity.Of(0.5, "C")
	assert.Equal(t, WrongConditions, Compute(rec, Request{ID: "state-of-health"}).Undetermined.Code)
	assert.InDelta(t, 0.2, Compute(rec, Request{ID: "c-rate"}).Value, 1e-9)
}

func TestAGapInADischarge(t *testing.T) {
	line := func(t float64) float64 { return 21.030 - (t-17990)*0.005 }
	frames := append(falling(1.92, 0, 8000, 10, line), falling(1.92, 8300, 18010, 10, line)...)
	rec := batteryRecord(gannetRatings(), []Span{{"empty", "discharge", 0, 18010}}, nil, frames...)
	r := Compute(rec, Request{ID: "capacity"})
	require.NotNil(t, r.Undetermined)
	assert.Equal(t, Gap, r.Undetermined.Code)
	assert.NotEmpty(t, r.Undetermined.Known)

	rec.Breaks = []Break{{T0: 8000, Off: 8100, T1: 8300, Within: 36}}
	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 60}}, "cycler.amps": {{To: 12}}}
	r = Compute(rec, Request{ID: "capacity"})
	require.Nil(t, r.Undetermined, "what is known of a break may be counted")
	assert.Contains(t, r.Remarks, "resumed")
	assert.InDelta(t, 36.0/3600, r.U, 0.006, "what is not known of it is a rectangle")
}

func TestACrossingInAGap(t *testing.T) {
	line := func(t float64) float64 { return 21.030 - (t-17990)*0.005 }
	at := func(gap float64) *Record {
		frames := append(falling(1.92, 0, 17990, 1, line), falling(1.92, 17990+gap, 18100, 1, line)...)
		rec := batteryRecord(gannetRatings(), []Span{{"empty", "discharge", 0, 18100}}, nil, frames...)
		rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 60}}, "cycler.amps": {{To: 12}}}
		return rec
	}
	r := Compute(at(8), Request{ID: "capacity"})
	require.Nil(t, r.Undetermined, "a short gap is bridged")
	assert.GreaterOrEqual(t, r.U, 0.9*8*1.92/2/3600, "what flowed in half of it is not known")
	r = Compute(at(40), Request{ID: "capacity"})
	require.NotNil(t, r.Undetermined)
	assert.Equal(t, Gap, r.Undetermined.Code)
	rec := at(40)
	rec.Breaks = []Break{{T0: 17990, Off: 17995, T1: 18030}}
	r = Compute(rec, Request{ID: "capacity"})
	require.NotNil(t, r.Undetermined, "nobody saw when")
	assert.Equal(t, "9.5947 to 9.616 Ah", r.Undetermined.Known)
}

func TestEfficiencyOfAPair(t *testing.T) {
	stages := []Span{{"fill", "charge", 0, 10000}, {"empty", "discharge", 10000, 20000}}
	events := []Event{{10000, EventCondition, "charge ended by taper"},
		{20000, EventCondition, "discharge ended by cutoff"}}
	var frames []sample
	for t := 0.0; t < 10000; t += 10 {
		frames = append(frames, sample{t, 26.299, 9.662 * 0.36 * 1.001})
	}
	for t := 10000.0; t <= 20000; t += 10 {
		frames = append(frames, sample{t, 24.786, -9.598 * 0.36})
	}
	events = append([]Event{{0, EventCommand, ""}, {9999, EventCommand, ""}}, events...)
	rec := batteryRecord(gannetRatings(), stages, events, frames...)
	r := Compute(rec, Request{ID: "coulombic-efficiency"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 99.34, r.Value, 0.15)
	r = Compute(rec, Request{ID: "energy-efficiency"})
	assert.InDelta(t, 93.62, r.Value, 0.2)
	assert.InDelta(t, 9.66, Compute(rec, Request{ID: "charge-returned"}).Value, 0.02)
	assert.Equal(t, "taper", Compute(rec, Request{ID: "termination", Stage: "fill"}).Text)
	rec.Events = rec.Events[:2]
	assert.Equal(t, WrongConditions, Compute(rec, Request{ID: "coulombic-efficiency"}).Undetermined.Code,
		"a half that did not end by itself is no half")
}

func TestPulseResistance(t *testing.T) {
	// 25.840 V at 0 A, 25.168 V at −9.60 A after 1 s: 70.0 mΩ.
	var frames []sample
	for t := 0.0; t < 9.95; t += 0.1 {
		frames = append(frames, sample{t, 25.840, 0})
	}
	for t := 10.05; t < 15; t += 0.1 {
		frames = append(frames, sample{t, 25.168, -9.6})
	}
	rec := batteryRecord(nil, []Span{{"rest", "rest", 0, 9.99}, {"pulse", "discharge", 9.99, 15}},
		[]Event{{10, EventCommand, "on"}}, frames...)
	r := Compute(rec, Request{ID: "pulse-resistance", Stage: "pulse"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 70.0, r.Value, 1e-6)
	assert.Equal(t, TooFew,
		Compute(rec, Request{ID: "pulse-resistance", Stage: "pulse",
			Args: map[string]float64{"delay": 0.1}}).Undetermined.Code)
	rec.Events = nil
	assert.Equal(t, NoMark, Compute(rec, Request{ID: "pulse-resistance", Stage: "pulse"}).Undetermined.Code)
}

func TestRecoveryAtRest(t *testing.T) {
	frames := falling(1.92, 0, 100, 1, func(float64) float64 { return 21 })
	for t := 101.0; t <= 800; t++ {
		frames = append(frames, sample{t, 21 + 1.64*(1-math.Exp(-(t-100)/100))/(1-math.Exp(-6)), 0})
	}
	events := []Event{{0, EventCommand, "on"}, {100, EventCondition, "discharge ended by cutoff"},
		{100.2, EventCommand, "off"}}
	rec := batteryRecord(gannetRatings(), []Span{{"empty", "discharge", 0, 100.2}, {"recover", "rest", 100.2, 800}},
		events, frames...)
	r := Compute(rec, Request{ID: "rest-recovery"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.640, r.Value, 1e-3)
	r = Compute(rec, Request{ID: "rest-recovery", Args: map[string]float64{"after": 1000}})
	assert.Equal(t, NoData, r.Undetermined.Code)
	assert.Contains(t, r.Undetermined.Known, "after 699.8 s")
	assert.InDelta(t, 22.64, Compute(rec, Request{ID: "rest-voltage"}).Value, 5e-3)
}

func TestStepDownCapacity(t *testing.T) {
	// 4, 2, 1, 0.5 A: 8.100 + 0.740 + 0.310 + 0.150 Ah.
	var frames []sample
	events := []Event{{0, EventCommand, "on"}}
	from := 0.0
	for k, q := range []float64{8.1, 0.74, 0.31, 0.15} {
		amps := 4 / math.Pow(2, float64(k))
		length := q * 3600 / amps
		for i := 0; i <= 200; i++ {
			t := from + length*float64(i)/200
			frames = append(frames, sample{t + float64(k)*1e-3, 21 + (1-float64(i)/200)*0.5 - 1e-9*float64(i), -amps})
		}
		if from += length; k < 3 {
			events = append(events, Event{from, EventCondition, "cutoff, step 1"},
				Event{from + 1e-4, EventCommand, "stepped down"})
		}
	}
	events = append(events, Event{from + 3e-3, EventCondition, "discharge ended by cutoff"})
	rec := batteryRecord(gannetRatings(), []Span{{"empty", "discharge", 0, from + 0.01}}, events, frames...)
	r := Compute(rec, Request{ID: "step-down-capacity"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 9.300, r.Value, 2e-3)
	assert.Len(t, r.Table.Rows, 4)
	assert.InDelta(t, 8.1, Compute(rec, Request{ID: "capacity"}).Value, 1e-3,
		"the capacity stays that to the first crossing")
}

func TestIncrementalCapacity(t *testing.T) {
	b := &battery{T: []float64{0, 1, 2, 3}, Volts: []float64{3.60, 3.61, 3.62, 3.63},
		Charge: []float64{1 * 3600, 1.04 * 3600, 1.1 * 3600, 1.15 * 3600}, Amps: []float64{1, 1, 1, 1}}
	_, err := binned(b, 0.01, true)
	assert.ErrorContains(t, err, "20 are needed")
	curve := [][2]float64{{3.605, 4}, {3.615, 6}, {3.625, 5}}
	assert.InDelta(t, 5.25, smoothed(curve)[0][1], 1e-12)

	// Two steps in the charge over the volts give two peaks.
	var frames []sample
	q := func(v float64) float64 { return v + 0.2/(1+math.Exp(-(v-3.5)/0.01)) + 0.1/(1+math.Exp(-(v-3.8)/0.01)) }
	for v := 3.2; v < 4.1; v += 0.0005 {
		frames = append(frames, sample{(q(v) - q(3.2)) * 3600, v, 1})
	}
	rec := batteryRecord(nil, []Span{{"fill", "charge", 0, 1e6}}, nil, frames...)
	rec.Series = 1
	r := Compute(rec, Request{ID: "incremental-capacity", Stage: "fill"})
	require.Nil(t, r.Undetermined)
	assert.Len(t, r.Remarks, 2)
	assert.InDelta(t, 6, r.Value, 0.4, "smoothed, about 1 + 0.2/(4 · 10 mV) Ah/V at the first step")
}

func TestKnee(t *testing.T) {
	k, height, err := Knee([]float64{0, 100, 200, 300, 400, 500}, []float64{100, 99, 98, 97, 92, 80})
	require.NoError(t, err)
	assert.Equal(t, 3, k)
	assert.InDelta(t, 0.45, height, 1e-9)
	_, _, err = Knee([]float64{0, 1, 2, 3, 4}, []float64{4, 3, 2, 1, 0})
	assert.ErrorContains(t, err, NotFound)
	_, _, err = Knee([]float64{0, 1, 2, 3, 4}, []float64{0, 1, 2, 3, 4})
	assert.ErrorContains(t, err, WrongSign)
}

func TestFade(t *testing.T) {
	f := Fading{Number: []float64{1, 2, 3, 4, 5}, Capacity: []float64{4.80, 4.78, 4.76, 4.75, 4.72}}
	assert.InDelta(t, 1.67, f.Fade(4.80), 0.005)
	assert.InDelta(t, 0.396, f.PerCycle(4.80), 0.0005)
	_, err := f.Life(4.80)
	assert.ErrorContains(t, err, NotReached)
	f.Capacity = []float64{4.80, 4.0, 3.9, 3.8, 3.7}
	life, err := f.Life(4.80)
	require.NoError(t, err)
	assert.InDelta(t, 3.6, life, 1e-9)
}

func TestCyclesOfARun(t *testing.T) {
	var frames []sample
	var stages []Span
	var events []Event
	at := 0.0
	for _, capacity := range []float64{4.80, 4.78, 4.76, 4.75, 4.72} {
		stages = append(stages, Span{"fill", "charge", at, at + 1000})
		events = append(events, Event{at, EventCommand, "on"}, Event{at + 1000, EventCondition, "charge ended by taper"})
		for t := at; t < at+1000; t += 10 {
			frames = append(frames, sample{t + 0.1, 28, capacity * 3.6})
		}
		at += 1000.1
		stages = append(stages, Span{"empty", "discharge", at, at + 1000.2})
		events = append(events, Event{at, EventCommand, "on"})
		for t := at; t <= at+1000; t += 10 {
			frames = append(frames, sample{t + 0.1, 25 - 4.0*(t-at)/1000, -capacity * 3.6})
		}
		events = append(events, Event{at + 1000.1, EventCondition, "discharge ended by cutoff"})
		at += 1000.2
	}
	rec := batteryRecord(gannetRatings(), stages, events, frames...)
	r := Compute(rec, Request{ID: "cycle-table"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 5, r.Value, 0)
	assert.Len(t, r.Table.Rows, 5)
	assert.InDelta(t, 4.80, r.Table.Rows[0][2], 0.06)
	r = Compute(rec, Request{ID: "fade"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.67, r.Value, 0.05)
	assert.InDelta(t, 0.396, Compute(rec, Request{ID: "fade-per-cycle"}).Value, 0.01)
	assert.Equal(t, NotReached, Compute(rec, Request{ID: "cycle-life"}).Undetermined.Code)
}

// logOf is a charge that a charger makes on its own, a frame each 10 s.
func logOf(parts ...func(t float64) (seconds float64, at func(s float64) (volts, amps float64))) (frames []sample) {
	t := 0.0
	for _, p := range parts {
		seconds, at := p(t)
		for s := 0.0; s < seconds; s += 10 {
			v, i := at(s)
			frames = append(frames, sample{t, v, i})
			t += 10
		}
	}
	return frames
}

func part(seconds float64, at func(s float64) (float64, float64)) func(float64) (float64,
	func(float64) (float64, float64)) {
	return func(float64) (float64, func(float64) (float64, float64)) { return seconds, at }
}

func TestStagesOfACharger(t *testing.T) {
	// 10 A for 4.5 h; at 28.7 V 12.0 Ah in 2.5 h; 0 A for 0.5 h; 27.2 V, 0.3 A for 4 h.
	const tau, taper = 5280.0, 2.5 * 3600
	scale := 12.0 * 3600 / (tau * (1 - math.Exp(-taper/tau)))
	frames := logOf(
		part(4.5*3600, func(s float64) (float64, float64) { return 25 + 3.7*s/(4.5*3600), 10 }),
		part(taper, func(s float64) (float64, float64) { return 28.7, scale * math.Exp(-s/tau) }),
		part(0.5*3600, func(s float64) (float64, float64) { return 26.5, 0 }),
		part(4*3600, func(s float64) (float64, float64) { return 27.2, 0.3 }),
	)
	rec := batteryRecord(map[string]quantity.Quantity{"rated_capacity": quantity.Of(60, "Ah")},
		[]Span{{"charger", "watch", 0, 11.5 * 3600}}, nil, frames...)
	r := Compute(rec, Request{ID: "charger-stages"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 58.2, r.Value, 0.1)
	var names []string
	var charges []float64
	for _, row := range r.Table.Rows {
		names, charges = append(names, row[0].(string)), append(charges, row[6].(float64))
	}
	require.Equal(t, []string{"bulk", "absorption", "test", "float"}, names)
	assert.InDeltaSlice(t, []float64{45, 12, 0, 1.2}, charges, 0.4)

	// 50 Ah were taken before.
	rec.Stages = append([]Span{{"empty", "discharge", -18000, -1}}, rec.Stages...)
	out := falling(10, -18000, -1, 10, func(float64) float64 { return 25 })
	whole := batteryRecord(rec.Ratings, rec.Stages, nil, append(out, frames...)...)
	r = Compute(whole, Request{ID: "charge-factor"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.140, r.Value, 0.01)
	assert.InDelta(t, 1.164,
		Compute(whole, Request{ID: "charge-factor", Choices: map[string]string{"until": "float"}}).Value, 0.01)
	short := batteryRecord(nil, []Span{{"charger", "watch", 0, 600}}, nil, frames[:60]...)
	assert.Equal(t, TooFew, Compute(short, Request{ID: "charger-stages"}).Undetermined.Code)
}

func TestSharesOfCellsInParallel(t *testing.T) {
	amps := map[string]float64{"meter.amps": 3.31, "meter2.amps": 3.20, "meter3.amps": 3.09}
	rec := &Record{Trace: func(column string, a, b float64) (trace.Series, error) {
		x, ok := amps[column]
		if !ok {
			return trace.Series{}, trace.ErrNoData
		}
		return trace.Series{T: []float64{0, 1800, 3600}, X: []float64{x, x, x}}, nil
	}}
	of := []string{"meter.amps", "meter2.amps", "meter3.amps"}
	r := Compute(rec, Request{ID: "share", Of: of})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 34.48, r.Value, 0.005)
	assert.InDelta(t, 32.19, r.Table.Rows[2][2], 0.005)
	assert.InDelta(t, 3.44, Compute(rec, Request{ID: "share-imbalance", Of: of}).Value, 0.005)
	assert.Equal(t, IsMissing, Compute(rec, Request{ID: "share", Of: append(of, "meter4.amps")}).Undetermined.Code)
	amps["meter3.amps"] = -3.09
	assert.Contains(t, Compute(rec, Request{ID: "share", Of: of}).Remarks, "circulating")
}
