package battery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/uncertainty"
)

// pulse is a rest of 10 s at one voltage and current, then 10 s at another, as a record with its stages and the
// mark of the step.
func pulse(rested, loaded recordtest.Sample) *record.Record {
	var frames []recordtest.Sample
	for k := 0; k < 200; k++ {
		t, at := float64(k)*0.1, rested
		if t >= 9.95 {
			t, at = t+0.05, loaded
		}
		frames = append(frames, recordtest.Sample{T: t, Volts: at.Volts, Amps: at.Amps})
	}
	return recordtest.Battery(nil, []record.Span{{Name: "rest", Kind: "rest", T0: 0, T1: 9.99},
		{Name: "pulse", Kind: "discharge", T0: 9.99, T1: 20.1}},
		[]record.Mark{recordtest.Command(10, "on")}, frames...)
}

// cycles is a charge and a discharge of 1000 s each, which end by their own rules.
func cycleOf() *record.Record {
	stages := []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 1000}, {Name: "empty", Kind: "discharge", T0: 1000.5,
		T1: 2000}}
	events := []record.Mark{recordtest.Command(0, "on"), recordtest.Ended(1000, "charge", "taper"),
		recordtest.Command(1000.5, "on"), recordtest.Ended(2000, "discharge", "cutoff")}
	frames := append(recordtest.Steady(0, 1000, 28, 2),
		recordtest.Falling(1.9, 1001, 2000, 1, func(t float64) float64 { return 25 - 4.001*(t-1001)/999 })...)
	return recordtest.Battery(gannetRatings(), stages, events, frames...)
}

// What keeps a figure of a battery from being known is said with its code, and with what is known all the same.
func TestWhenAFigureOfABatteryIsNotKnown(t *testing.T) {
	noisy := uncertainty.Spec{{To: 60, Resolution: 0.05}}
	for name, c := range map[string]struct {
		record  *record.Record
		change  func(*record.Record)
		request figure.Request
		code    string
	}{
		"a capacity while it was charged": {recordtest.Battery(gannetRatings(),
			[]record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 100}}, nil,
			recordtest.Steady(0, 100, 25, 2)...), nil, figure.Request{ID: "capacity"}, record.WrongSign},
		"a capacity without a cutoff": {cycleOf(), func(r *record.Record) { delete(r.Ratings, "cutoff") },
			figure.Request{ID: "capacity"}, record.NoRating},
		"a capacity without a discharge": {cycleOf(), func(r *record.Record) { r.Stages = r.Stages[:1] },
			figure.Request{ID: "capacity"},
			record.NoMark},
		"a capacity of a third pass": {cycleOf(), nil, figure.Request{ID: "capacity", Pass: 3}, record.NoMark},
		"health without a rated capacity": {cycleOf(), func(r *record.Record) { delete(r.Ratings, "rated_capacity") },
			figure.Request{ID: "state-of-health"}, record.NoRating},
		"a rate without a rated capacity": {cycleOf(), func(r *record.Record) { delete(r.Ratings, "rated_capacity") },
			figure.Request{ID: "c-rate"}, record.NoRating},
		"a charge that took": {recordtest.Battery(nil, []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 100}}, nil,
			recordtest.Steady(0, 100, 25, -2)...), nil, figure.Request{ID: "charge-returned"}, record.WrongSign},
		"a charge with a hole": {recordtest.Battery(nil, []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 500}}, nil,
			append(recordtest.Steady(0, 100, 25, 2), recordtest.Steady(400, 500, 25, 2)...)...), nil,
			figure.Request{ID: "charge-returned"}, record.Gap},
		"a charge that did not take place": {cycleOf(), func(r *record.Record) { r.Stages = r.Stages[1:] },
			figure.Request{ID: "charge-returned"}, record.NoMark},
		"an efficiency of one half": {cycleOf(), func(r *record.Record) { r.Stages = r.Stages[1:] },
			figure.Request{ID: "coulombic-efficiency"}, record.TooFew},
		"a mean voltage above the cutoff": {cycleOf(), nil, figure.Request{ID: "mean-discharge-voltage",
			Args: map[string]float64{"cutoff": 20}}, record.NotReached},
		"a resistance without a step": {pulse(recordtest.Sample{T: 0, Volts: 25.84, Amps: -1},
			recordtest.Sample{T: 0, Volts: 25.1, Amps: -1}), nil,
			figure.Request{ID: "pulse-resistance", Stage: "pulse"}, record.ZeroDivisor},
		"a resistance below the noise": {pulse(recordtest.Sample{T: 0, Volts: 25.84, Amps: 0},
			recordtest.Sample{T: 0, Volts: 25.80, Amps: -9.6}), func(r *record.Record) {
			r.Specs = map[string]uncertainty.Spec{"cycler.volts": noisy, "cycler.amps": {{To: 12}}}
		}, figure.Request{ID: "pulse-resistance", Stage: "pulse"}, record.BelowFloor},
		"a resistance that is negative": {pulse(recordtest.Sample{T: 0, Volts: 25.1, Amps: 0},
			recordtest.Sample{T: 0, Volts: 25.84, Amps: -9.6}), nil,
			figure.Request{ID: "pulse-resistance", Stage: "pulse"}, record.WrongSign},
		"a recovery that nobody switched": {cycleOf(), nil, figure.Request{ID: "rest-recovery"}, record.NoMark},
		"the end of a charge by hand": {cycleOf(),
			func(r *record.Record) {
				r.Marks[1] = record.Mark{T: 900, Kind: record.MarkHand, Label: "skipped the rest of fill"}
			},
			figure.Request{ID: "termination", Stage: "fill"}, record.NoMark},
		"a step-down that did not come down": {cycleOf(), func(r *record.Record) { r.Marks = r.Marks[:3] },
			figure.Request{ID: "step-down-capacity"}, record.NotReached},
		"increments of a current that varies": {recordtest.Battery(nil,
			[]record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 1000}}, nil,
			append(recordtest.Steady(0, 500, 25, 2), recordtest.Steady(500, 1000, 27, 1)...)...), nil,
			figure.Request{ID: "incremental-capacity",
				Stage: "fill"}, record.WrongConditions},
		"fade of one cycle":           {cycleOf(), nil, figure.Request{ID: "fade"}, record.TooFew},
		"fade per cycle of one cycle": {cycleOf(), nil, figure.Request{ID: "fade-per-cycle"}, record.TooFew},
		"shares of nothing": {recordtest.Battery(nil, []record.Span{{T1: 100}}, nil, recordtest.Steady(0, 100, 25, 0)...),
			nil,
			figure.Request{ID: "share", Of: []string{"cycler.amps", "cycler.amps"}}, record.ZeroDivisor},
		"a share of one": {recordtest.Battery(nil, []record.Span{{T1: 100}}, nil, recordtest.Steady(0, 100, 25, 1)...), nil,
			figure.Request{ID: "share", Of: []string{"cycler.amps"}}, record.TooFew},
	} {
		t.Run(name, func(t *testing.T) {
			if c.change != nil {
				c.change(c.record)
			}
			r := compute(c.record, c.request)
			require.NotNil(t, r.Undetermined, "%+v", r)
			assert.Equal(t, c.code, r.Undetermined.Code, r.Undetermined.Error())
			assert.NotEmpty(t, r.Undetermined.Sentence)
		})
	}
}

// The record of the cases above is sound: what they take away is what keeps the figure from being known.
func TestTheCycleOfTheseCasesIsSound(t *testing.T) {
	rec := cycleOf()
	for id, want := range map[string]float64{
		"capacity": 1.9 * 998.75 / 3600, "charge-returned": 2 * 999. / 3600, "coulombic-efficiency": 95, "termination": 1000,
		"c-rate": 1.9 / 9.6, "step-down-capacity": 1.9 * 998.75 / 3600,
	} {
		request := figure.Request{ID: id}
		if id == "termination" {
			request.Stage = "fill"
		}
		r := compute(rec, request)
		require.Nil(t, r.Undetermined, "%s: %v", id, r.Undetermined)
		assert.InEpsilon(t, want, r.Value, 5e-3, id)
	}
	assert.InDelta(t, 70,
		compute(pulse(recordtest.Sample{T: 0, Volts: 25.840, Amps: 0}, recordtest.Sample{T: 0, Volts: 25.168, Amps: -9.6}),
			figure.Request{ID: "pulse-resistance", Stage: "pulse"}).Value, 1e-6)
	rec.Ratings["rated_rate"] = quantity.Of(0.5, "C")
	assert.Nil(t,
		compute(rec, figure.Request{ID: "state-of-health", Choices: map[string]string{"conditions": "any"}}).Undetermined,
		"when it is said that any conditions will do")
}
