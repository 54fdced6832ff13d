package figure

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/quantity"
	"usherbench/core/uncertainty"
)

// steady is a stretch of frames at constant volts and amps, a frame each second.
func steady(from, to, volts, amps float64) (frames []sample) {
	for t := from; t < to; t++ {
		frames = append(frames, sample{t, volts, amps})
	}
	return frames
}

// pulse is a rest of 10 s at one voltage and current, then 10 s at another, as a record with its stages and the
// mark of the step.
func pulse(rested, loaded sample) *Record {
	var frames []sample
	for k := 0; k < 200; k++ {
		t, at := float64(k)*0.1, rested
		if t >= 9.95 {
			t, at = t+0.05, loaded
		}
		frames = append(frames, sample{t, at.volts, at.amps})
	}
	return batteryRecord(nil, []Span{{"rest", "rest", 0, 9.99}, {"pulse", "discharge", 9.99, 20.1}},
		[]Event{{10, EventCommand, "on"}}, frames...)
}

// cycles is a charge and a discharge of 1000 s each, which end by their own rules.
func cycles() *Record {
	stages := []Span{{"fill", "charge", 0, 1000}, {"empty", "discharge", 1000.5, 2000}}
	events := []Event{{0, EventCommand, "on"}, {1000, EventCondition, "charge ended by taper"},
		{1000.5, EventCommand, "on"}, {2000, EventCondition, "discharge ended by cutoff"}}
	frames := append(steady(0, 1000, 28, 2),
		falling(1.9, 1001, 2000, 1, func(t float64) float64 { return 25 - 4.001*(t-1001)/999 })...)
	return batteryRecord(gannetRatings(), stages, events, frames...)
}

// What keeps a figure of a battery from being known is said with its code, and with what is known all the same.
func TestWhenAFigureOfABatteryIsNotKnown(t *testing.T) {
	noisy := uncertainty.Spec{{To: 60, Resolution: 0.05}}
	for name, c := range map[string]struct {
		record  *Record
		change  func(*Record)
		request Request
		code    string
	}{
		"a capacity while it was charged": {batteryRecord(gannetRatings(), []Span{{"empty", "discharge", 0, 100}}, nil,
			steady(0, 100, 25, 2)...), nil, Request{ID: "capacity"}, WrongSign},
		"a capacity without a cutoff": {cycles(), func(r *Record) { delete(r.Ratings, "cutoff") },
			Request{ID: "capacity"}, NoRating},
		"a capacity without a discharge": {cycles(), func(r *Record) { r.Stages = r.Stages[:1] }, Request{ID: "capacity"},
			NoMark},
		"a capacity of a third pass": {cycles(), nil, Request{ID: "capacity", Pass: 3}, NoMark},
		"health without a rated capacity": {cycles(), func(r *Record) { delete(r.Ratings, "rated_capacity") },
			Request{ID: "state-of-health"}, NoRating},
		"a rate without a rated capacity": {cycles(), func(r *Record) { delete(r.Ratings, "rated_capacity") },
			Request{ID: "c-rate"}, NoRating},
		"a charge that took": {batteryRecord(nil, []Span{{"fill", "charge", 0, 100}}, nil,
			steady(0, 100, 25, -2)...), nil, Request{ID: "charge-returned"}, WrongSign},
		"a charge with a hole": {batteryRecord(nil, []Span{{"fill", "charge", 0, 500}}, nil,
			append(steady(0, 100, 25, 2), steady(400, 500, 25, 2)...)...), nil, Request{ID: "charge-returned"}, Gap},
		"a charge that did not take place": {cycles(), func(r *Record) { r.Stages = r.Stages[1:] },
			Request{ID: "charge-returned"}, NoMark},
		"an efficiency of one half": {cycles(), func(r *Record) { r.Stages = r.Stages[1:] },
			Request{ID: "coulombic-efficiency"}, TooFew},
		"a mean voltage above the cutoff": {cycles(), nil, Request{ID: "mean-discharge-voltage",
			Args: map[string]float64{"cutoff": 20}}, NotReached},
		"a resistance without a step": {pulse(sample{0, 25.84, -1}, sample{0, 25.1, -1}), nil,
			Request{ID: "pulse-resistance", Stage: "pulse"}, ZeroDivisor},
		"a resistance below the noise": {pulse(sample{0, 25.84, 0}, sample{0, 25.80, -9.6}), func(r *Record) {
			r.Specs = map[string]uncertainty.Spec{"cycler.volts": noisy, "cycler.amps": {{To: 12}}}
		}, Request{ID: "pulse-resistance", Stage: "pulse"}, BelowFloor},
		"a resistance that is negative": {pulse(sample{0, 25.1, 0}, sample{0, 25.84, -9.6}), nil,
			Request{ID: "pulse-resistance", Stage: "pulse"}, WrongSign},
		"a recovery that nobody switched": {cycles(), nil, Request{ID: "rest-recovery"}, NoMark},
		"the end of a charge by hand": {cycles(),
			func(r *Record) { r.Events[1] = Event{900, "hand", "skipped the rest of fill"} },
			Request{ID: "termination", Stage: "fill"}, NoMark},
		"a step-down that did not come down": {cycles(), func(r *Record) { r.Events = r.Events[:3] },
			Request{ID: "step-down-capacity"}, NotReached},
		"increments of a current that varies": {batteryRecord(nil, []Span{{"fill", "charge", 0, 1000}}, nil,
			append(steady(0, 500, 25, 2), steady(500, 1000, 27, 1)...)...), nil, Request{ID: "incremental-capacity",
			Stage: "fill"}, WrongConditions},
		"fade of one cycle":           {cycles(), nil, Request{ID: "fade"}, TooFew},
		"fade per cycle of one cycle": {cycles(), nil, Request{ID: "fade-per-cycle"}, TooFew},
		"stages of a log that discharges": {batteryRecord(gannetRatings(), []Span{{"log", "watch", 0, 4000}}, nil,
			steady(0, 4000, 25, -2)...), nil, Request{ID: "charger-stages"}, WrongSign},
		"a factor after next to nothing": {batteryRecord(gannetRatings(), []Span{{"out", "discharge", 0, 100},
			{"log", "watch", 100, 4000}}, nil, append(steady(0, 100, 25, -2), steady(100, 4000, 28, 2)...)...), nil,
			Request{ID: "charge-factor"}, BelowFloor},
		"shares of nothing": {batteryRecord(nil, nil, nil, steady(0, 100, 25, 0)...), nil,
			Request{ID: "share", Of: []string{"cycler.amps", "cycler.amps"}}, ZeroDivisor},
		"a share of one": {batteryRecord(nil, nil, nil, steady(0, 100, 25, 1)...), nil,
			Request{ID: "share", Of: []string{"cycler.amps"}}, TooFew},
	} {
		t.Run(name, func(t *testing.T) {
			if c.change != nil {
				c.change(c.record)
			}
			r := Compute(c.record, c.request)
			require.NotNil(t, r.Undetermined, "%+v", r)
			assert.Equal(t, c.code, r.Undetermined.Code, r.Undetermined.Error())
			assert.NotEmpty(t, r.Undetermined.Sentence)
		})
	}
}

// The record of the cases above is sound: what they take away is what keeps the figure from being known.
func TestTheCycleOfTheseCasesIsSound(t *testing.T) {
	rec := cycles()
	for id, want := range map[string]float64{
		"capacity": 1.9 * 998.75 / 3600, "charge-returned": 2 * 999. / 3600, "coulombic-efficiency": 95, "termination": 1000,
		"c-rate": 1.9 / 9.6, "step-down-capacity": 1.9 * 998.75 / 3600,
	} {
		request := Request{ID: id}
		if id == "termination" {
			request.Stage = "fill"
		}
		r := Compute(rec, request)
		require.Nil(t, r.Undetermined, "%s: %v", id, r.Undetermined)
		assert.InEpsilon(t, want, r.Value, 5e-3, id)
	}
	assert.InDelta(t, 70, Compute(pulse(sample{0, 25.840, 0}, sample{0, 25.168, -9.6}),
		Request{ID: "pulse-resistance", Stage: "pulse"}).Value, 1e-6)
	rec.Ratings["rated_rate"] = quantity.Of(0.5, "C")
	assert.Nil(t,
		Compute(rec, Request{ID: "state-of-health", Choices: map[string]string{"conditions": "any"}}).Undetermined,
		"when it is said that any conditions will do")
}
