package battery

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// compute computes a figure of this family.
func compute(rec *record.Record, req figure.Request) figure.Result {
	return figure.NewCatalogue(Figures).Compute(rec, req)
}

func gannetRatings() map[string]quantity.Quantity {
	return map[string]quantity.Quantity{"cutoff": quantity.Of(21, "V"), "rated_capacity": quantity.Of(9.6, "Ah")}
}

func TestCapacityEndsAtTheCutoff(t *testing.T) {
	// 21.030 V at 17990 s and 20.980 V at 18000 s: the cutoff of 21 V is crossed at 17996 s, 9.598 Ah at 1.920 A.
	frames := recordtest.Falling(1.92, 0, 18010, 10, func(t float64) float64 { return 21.030 - (t-17990)*0.005 })
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 18010}}, nil,
		frames...)
	r := compute(rec, figure.Request{ID: "capacity"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.92*17996/3600, r.Value, 1e-9)
	assert.Contains(t, r.Remarks, "no full charge before")
	assert.InDelta(t, 17996,
		compute(rec, figure.Request{ID: "crossing-time", Args: map[string]float64{"level": 21}}).Value, 1e-6)

	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 200, Offset: 0.005 * math.Sqrt(3)}},
		"cycler.amps": {{To: 12}}}
	r = compute(rec, figure.Request{ID: "capacity"})
	assert.InDelta(t, 0.53e-3, r.U/r.K, 0.01e-3, "5 mV on 5 mV/s are 1 s, 0.53 mAh")

	r = compute(rec, figure.Request{ID: "capacity", Args: map[string]float64{"cutoff": 20}})
	require.NotNil(t, r.Undetermined)
	assert.Equal(t, record.NotReached, r.Undetermined.Code)
	assert.Contains(t, r.Undetermined.Known, "≥ 9.605")
	assert.Equal(t, record.AlreadyBeyond,
		compute(rec, figure.Request{ID: "capacity", Args: map[string]float64{"cutoff": 200}}).Undetermined.Code)
	assert.InDelta(t, 100*9.59787/9.6, compute(rec, figure.Request{ID: "state-of-health"}).Value, 1e-3)
	rec.Ratings["rated_rate"] = quantity.Of(0.5, "C")
	assert.Equal(t, record.WrongConditions, compute(rec, figure.Request{ID: "state-of-health"}).Undetermined.Code)
	assert.InDelta(t, 0.2, compute(rec, figure.Request{ID: "c-rate"}).Value, 1e-9)
}

func TestAGapInADischarge(t *testing.T) {
	line := func(t float64) float64 { return 21.030 - (t-17990)*0.005 }
	frames := append(recordtest.Falling(1.92, 0, 8000, 10, line), recordtest.Falling(1.92, 8300, 18010, 10, line)...)
	of := func() *record.Record {
		return recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 18010}}, nil,
			frames...)
	}
	r := compute(of(), figure.Request{ID: "capacity"})
	require.NotNil(t, r.Undetermined)
	assert.Equal(t, record.Gap, r.Undetermined.Code)
	assert.NotEmpty(t, r.Undetermined.Known)

	rec := of()
	rec.Breaks = []record.Break{{T0: 8000, Off: 8100, T1: 8300, Within: 36}}
	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 200}}, "cycler.amps": {{To: 12}}}
	r = compute(rec, figure.Request{ID: "capacity"})
	require.Nil(t, r.Undetermined, "what is known of a break may be counted")
	assert.Contains(t, r.Remarks, "resumed")
	assert.InDelta(t, 36.0/3600, r.U, 0.006, "what is not known of it is a rectangle")
}

func TestACrossingInAGap(t *testing.T) {
	line := func(t float64) float64 { return 21.030 - (t-17990)*0.005 }
	at := func(gap float64) *record.Record {
		frames := append(recordtest.Falling(1.92, 0, 17990, 1, line), recordtest.Falling(1.92, 17990+gap, 18100, 1, line)...)
		rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 18100}}, nil,
			frames...)
		rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 200}}, "cycler.amps": {{To: 12}}}
		return rec
	}
	r := compute(at(4), figure.Request{ID: "capacity"})
	require.Nil(t, r.Undetermined, "that is no gap of a record of a frame a second")
	for _, long := range []float64{8, 40} {
		r = compute(at(long), figure.Request{ID: "capacity"})
		require.NotNil(t, r.Undetermined, "a gap of %g s may be bridged, but nobody saw when the level was crossed", long)
		assert.Equal(t, record.Gap, r.Undetermined.Code)
		assert.InDelta(t, 1.92*17990/3600, *r.Undetermined.AtLeast, 1e-3)
		assert.InDelta(t, 1.92*(17990+long)/3600, *r.Undetermined.AtMost, 1e-3)
	}
	rec := at(40)
	rec.Breaks = []record.Break{{T0: 17990, Off: 17995, T1: 18030}}
	r = compute(rec, figure.Request{ID: "capacity"})
	require.NotNil(t, r.Undetermined, "nobody saw when")
	assert.Equal(t, "9.5947 to 9.616 Ah", r.Undetermined.Known)
}

func TestEfficiencyOfAPair(t *testing.T) {
	stages := []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 10000}, {Name: "empty", Kind: "discharge", T0: 10000,
		T1: 20000}}
	events := []record.Mark{recordtest.Ended(10000, "charge", "taper"),
		recordtest.Ended(20000, "discharge", "cutoff")}
	var frames []recordtest.Sample
	for t := 0.0; t < 10000; t += 10 {
		frames = append(frames, recordtest.Sample{T: t, Volts: 26.299, Amps: 9.662 * 0.36 * 1.001})
	}
	for t := 10000.0; t <= 20000; t += 10 {
		frames = append(frames, recordtest.Sample{T: t, Volts: 24.786, Amps: -9.598 * 0.36})
	}
	events = append([]record.Mark{recordtest.Command(0, ""), recordtest.Command(9999, "")}, events...)
	rec := recordtest.Battery(gannetRatings(), stages, events, frames...)
	r := compute(rec, figure.Request{ID: "coulombic-efficiency"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 99.34, r.Value, 0.15)
	r = compute(rec, figure.Request{ID: "energy-efficiency"})
	assert.InDelta(t, 93.62, r.Value, 0.2)
	assert.InDelta(t, 9.66, compute(rec, figure.Request{ID: "charge-returned"}).Value, 0.02)
	assert.Equal(t, "taper", compute(rec, figure.Request{ID: "termination", Stage: "fill"}).Text)
	rec.Marks = rec.Marks[:2]
	assert.Equal(t, record.WrongConditions, compute(rec, figure.Request{ID: "coulombic-efficiency"}).Undetermined.Code,
		"a half that did not end by itself is no half")
}

func TestPulseResistance(t *testing.T) {
	// 25.840 V at 0 A, 25.168 V at −9.60 A after 1 s: 70.0 mΩ.
	var frames []recordtest.Sample
	for t := 0.0; t < 9.95; t += 0.1 {
		frames = append(frames, recordtest.Sample{T: t, Volts: 25.840, Amps: 0})
	}
	for t := 10.05; t < 15; t += 0.1 {
		frames = append(frames, recordtest.Sample{T: t, Volts: 25.168, Amps: -9.6})
	}
	rec := recordtest.Battery(nil, []record.Span{{Name: "rest", Kind: "rest", T0: 0, T1: 9.99},
		{Name: "pulse", Kind: "discharge", T0: 9.99, T1: 15}},
		[]record.Mark{recordtest.Command(10, "on")}, frames...)
	r := compute(rec, figure.Request{ID: "pulse-resistance", Stage: "pulse"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 70.0, r.Value, 1e-6)
	assert.Equal(t, record.TooFew,
		compute(rec, figure.Request{ID: "pulse-resistance", Stage: "pulse",
			Args: map[string]float64{"delay": 0.1}}).Undetermined.Code)
	rec.Marks = nil
	assert.Equal(t, record.NoMark, compute(rec, figure.Request{ID: "pulse-resistance", Stage: "pulse"}).Undetermined.Code)
}

func TestRecoveryAtRest(t *testing.T) {
	frames := recordtest.Falling(1.92, 0, 100, 1, func(float64) float64 { return 21 })
	for t := 101.0; t <= 800; t++ {
		frames = append(frames, recordtest.Sample{T: t, Volts: 21 + 1.64*(1-math.Exp(-(t-100)/100))/(1-math.Exp(-6)),
			Amps: 0})
	}
	events := []record.Mark{recordtest.Command(0, "on"), recordtest.Ended(100, "discharge", "cutoff"),
		recordtest.Command(100.2, "off")}
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 100.2},
		{Name: "recover", Kind: "rest", T0: 100.2, T1: 800}},
		events, frames...)
	r := compute(rec, figure.Request{ID: "rest-recovery"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.640, r.Value, 1e-3)
	r = compute(rec, figure.Request{ID: "rest-recovery", Args: map[string]float64{"after": 1000}})
	assert.Equal(t, record.NoData, r.Undetermined.Code)
	assert.Contains(t, r.Undetermined.Known, "after 699.8 s")
	assert.InDelta(t, 22.64, compute(rec, figure.Request{ID: "rest-voltage"}).Value, 5e-3)
}

func TestStepDownCapacity(t *testing.T) {
	// 4, 2, 1, 0.5 A: 8.100 + 0.740 + 0.310 + 0.150 Ah.
	var frames []recordtest.Sample
	events := []record.Mark{recordtest.Command(0, "on")}
	from := 0.0
	for k, q := range []float64{8.1, 0.74, 0.31, 0.15} {
		amps := 4 / math.Pow(2, float64(k))
		length := q * 3600 / amps
		for i := 0; i <= 200; i++ {
			t := from + length*float64(i)/200
			frames = append(frames, recordtest.Sample{T: t + float64(k)*1e-3,
				Volts: 21 + (1-float64(i)/200)*0.5 - 1e-9*float64(i), Amps: -amps})
		}
		if from += length; k < 3 {
			events = append(events, record.Mark{T: from, Kind: record.MarkCondition, About: record.CutoffReached{Step: 1}},
				record.Mark{T: from + 1e-4, Kind: record.MarkCommand, About: record.SteppedDown{}})
		}
	}
	events = append(events, recordtest.Ended(from+3e-3, "discharge", "cutoff"))
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: from + 0.01,
		AtLeast: 40}},
		events, frames...)
	r := compute(rec, figure.Request{ID: "step-down-capacity"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 9.300, r.Value, 2e-3)
	assert.Len(t, r.Table.Rows, 4)
	assert.InDelta(t, 8.1, compute(rec, figure.Request{ID: "capacity"}).Value, 1e-3,
		"the capacity stays that to the first crossing")
}

func TestIncrementalCapacity(t *testing.T) {
	b := &record.Battery{T: []float64{0, 1, 2, 3}, Volts: []float64{3.60, 3.61, 3.62, 3.63},
		Charge: []float64{1 * 3600, 1.04 * 3600, 1.1 * 3600, 1.15 * 3600}, Amps: []float64{1, 1, 1, 1}}
	_, err := binned(b, 0.01, true)
	assert.ErrorContains(t, err, "20 are needed")
	curve := [][2]float64{{3.605, 4}, {3.615, 6}, {3.625, 5}}
	assert.InDelta(t, 5.25, smoothed(curve)[0][1], 1e-12)

	// Two steps in the charge over the volts give two peaks.
	var frames []recordtest.Sample
	q := func(v float64) float64 { return v + 0.2/(1+math.Exp(-(v-3.5)/0.01)) + 0.1/(1+math.Exp(-(v-3.8)/0.01)) }
	for v := 3.2; v < 4.1; v += 0.0005 {
		frames = append(frames, recordtest.Sample{T: (q(v) - q(3.2)) * 3600, Volts: v, Amps: 1})
	}
	rec := recordtest.Battery(nil, []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: frames[len(frames)-1].T,
		AtLeast: 15}}, nil, frames...)
	rec.Series = 1
	r := compute(rec, figure.Request{ID: "incremental-capacity", Stage: "fill"})
	require.Nil(t, r.Undetermined)
	assert.Len(t, r.Remarks, 3, "two peaks, and that no accuracy is stated")
	assert.InDelta(t, 6, r.Value, 0.4, "smoothed, about 1 + 0.2/(4 · 10 mV) Ah/V at the first step")
}

func TestKnee(t *testing.T) {
	k, height, err := Knee([]float64{0, 100, 200, 300, 400, 500}, []float64{100, 99, 98, 97, 92, 80})
	require.NoError(t, err)
	assert.Equal(t, 3, k)
	assert.InDelta(t, 0.45, height, 1e-9)
	_, _, err = Knee([]float64{0, 1, 2, 3, 4}, []float64{4, 3, 2, 1, 0})
	assert.ErrorContains(t, err, record.NotFound)
	_, _, err = Knee([]float64{0, 1, 2, 3, 4}, []float64{0, 1, 2, 3, 4})
	assert.ErrorContains(t, err, record.WrongSign)
}

func TestFade(t *testing.T) {
	f := Fading{Number: []float64{1, 2, 3, 4, 5}, Capacity: []float64{4.80, 4.78, 4.76, 4.75, 4.72}}
	assert.InDelta(t, 1.67, f.Fade(4.80), 0.005)
	assert.InDelta(t, 0.396, f.PerCycle(4.80), 0.0005)
	_, err := f.Life(4.80)
	assert.ErrorContains(t, err, record.NotReached)
	f.Capacity = []float64{4.80, 4.0, 3.9, 3.8, 3.7}
	life, err := f.Life(4.80)
	require.NoError(t, err)
	assert.InDelta(t, 3.6, life, 1e-9)
}

func TestCyclesOfARun(t *testing.T) {
	var frames []recordtest.Sample
	var stages []record.Span
	var events []record.Mark
	at := 0.0
	for _, capacity := range []float64{4.80, 4.78, 4.76, 4.75, 4.72} {
		stages = append(stages, record.Span{Name: "fill", Kind: "charge", T0: at, T1: at + 1000})
		events = append(events, recordtest.Command(at, "on"), recordtest.Ended(at+1000, "charge", "taper"))
		for t := at; t < at+1000; t += 10 {
			frames = append(frames, recordtest.Sample{T: t + 0.1, Volts: 28, Amps: capacity * 3.6})
		}
		at += 1000.1
		stages = append(stages, record.Span{Name: "empty", Kind: "discharge", T0: at, T1: at + 1000.2})
		events = append(events, recordtest.Command(at, "on"))
		for t := at; t <= at+1000; t += 10 {
			frames = append(frames, recordtest.Sample{T: t + 0.1, Volts: 25 - 4.0*(t-at)/1000, Amps: -capacity * 3.6})
		}
		events = append(events, recordtest.Ended(at+1000.1, "discharge", "cutoff"))
		at += 1000.2
	}
	rec := recordtest.Battery(gannetRatings(), stages, events, frames...)
	r := compute(rec, figure.Request{ID: "cycle-table"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 5, r.Value, 0)
	assert.Len(t, r.Table.Rows, 5)
	assert.InDelta(t, 4.80, r.Table.Rows[0][2], 0.06)
	r = compute(rec, figure.Request{ID: "fade"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.67, r.Value, 0.05)
	assert.InDelta(t, 0.396, compute(rec, figure.Request{ID: "fade-per-cycle"}).Value, 0.01)
	assert.Equal(t, record.NotReached, compute(rec, figure.Request{ID: "cycle-life"}).Undetermined.Code)
}

func TestSharesOfCellsInParallel(t *testing.T) {
	amps := map[string]float64{"meter.amps": 3.31, "meter2.amps": 3.20, "meter3.amps": 3.09}
	rec := &record.Record{Stages: []record.Span{{T1: 3600}}, Trace: func(column string, a, b float64) (trace.Series,
		error) {
		x, ok := amps[column]
		if !ok {
			return trace.Series{}, trace.ErrNoData
		}
		return trace.Series{T: []float64{0, 1800, 3600}, X: []float64{x, x, x}}, nil
	}}
	of := []string{"meter.amps", "meter2.amps", "meter3.amps"}
	r := compute(rec, figure.Request{ID: "share", Of: of})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 34.48, r.Value, 0.005)
	assert.InDelta(t, 32.19, r.Table.Rows[2][2], 0.005)
	assert.InDelta(t, 3.44, compute(rec, figure.Request{ID: "share-imbalance", Of: of}).Value, 0.005)
	assert.Equal(t, record.IsMissing,
		compute(rec, figure.Request{ID: "share", Of: append(of, "meter4.amps")}).Undetermined.Code)
	amps["meter3.amps"] = -3.09
	assert.Contains(t, compute(rec, figure.Request{ID: "share", Of: of}).Remarks, "circulating")
}
