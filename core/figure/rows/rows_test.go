package rows

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

func volts(x float64) map[string]trace.Average {
	return map[string]trace.Average{"source.volts": {Mean: x, N: 10}, "load.volts": {Mean: 2 * x, SE: 1e-3, N: 10}}
}

// exact is an instrument whose errors are far below a step.
var exact = map[string]uncertainty.Spec{
	"source.volts": {{To: 100, Resolution: 1e-6}}, "load.volts": {{To: 100, Reading: 0.001, Resolution: 1e-6}},
}

func TestLockoutOfTheTextbook(t *testing.T) {
	rec := &record.Record{Specs: exact, Points: []record.Point{
		{Row: "starts", Averages: volts(34.45), Before: volts(34.40)}, {Row: "stops", Averages: volts(32.85),
			Before: volts(32.90), Recovery: "recovers by itself"},
	}}
	on := compute(rec, figure.Request{ID: "lockout-on", Row: "starts"})
	off := compute(rec, figure.Request{ID: "lockout-off", Row: "stops"})
	hysteresis := compute(rec, figure.Request{ID: "lockout-hysteresis", Row: "starts", Against: "stops"})
	assert.InDelta(t, 34.425, on.Value, 1e-9)
	assert.InDelta(t, 32.875, off.Value, 1e-9)
	assert.Equal(t, []string{"recovers by itself"}, off.Remarks)
	assert.InDelta(t, 1.550, hysteresis.Value, 1e-9)
	assert.InDelta(t, 0.0144, on.U/on.K, 1e-4)
	assert.InDelta(t, 0.039, hysteresis.U, 1e-3)
	assert.InDelta(t, 34.425,
		compute(rec, figure.Request{ID: "found-level", Row: "starts", Quantity: "source.volts"}).Value,
		1e-9)
}

// The current of a unit that gave up in the step is that which was set, not a mean with the 0 A that are left.
func TestAUnitThatGivesWayHasTheLevelThatWasSet(t *testing.T) {
	amps := func(x float64) map[string]trace.Average {
		return map[string]trace.Average{"load.amps": {Mean: x, N: 10}}
	}
	rec := &record.Record{Specs: map[string]uncertainty.Spec{"load.amps": {{To: 10, Resolution: 1e-9}}},
		Points: []record.Point{
			{Row: "trips", Averages: amps(0.002), Before: amps(3.538), Held: map[string]float64{"load.amps": 3.54},
				Place: map[string]float64{"load.amps": 3.56}},
			{Row: "holds", Averages: amps(3.557), Before: amps(3.538), Held: map[string]float64{"load.amps": 3.54},
				Place: map[string]float64{"load.amps": 3.56}}}}
	trips := compute(rec, figure.Request{ID: "found-level", Row: "trips", Quantity: "load.amps"})
	assert.InDelta(t, 3.548, trips.Value, 1e-9)
	assert.InDelta(t, 0.0058, trips.U/trips.K, 1e-4)
	assert.Contains(t, trips.Remarks[0], "the unit gave way")
	holds := compute(rec, figure.Request{ID: "found-level", Row: "holds", Quantity: "load.amps"})
	assert.InDelta(t, 3.5475, holds.Value, 1e-9)
	assert.Empty(t, holds.Remarks)
}

func TestRowsThatSayTooLittleAreUndetermined(t *testing.T) {
	rec := &record.Record{Specs: exact, Points: []record.Point{{Row: "starts", Averages: volts(34)},
		{Row: "stops", Averages: volts(36),
			Before: volts(35)}, {Row: "idle", Averages: volts(30)},
		{Row: "vain", Averages: volts(30), Before: volts(30), Vain: true}}}
	for name, c := range map[string]struct {
		request figure.Request
		code    string
	}{
		"held at the first step": {figure.Request{ID: "lockout-on", Row: "starts"}, record.AlreadyBeyond},
		"nothing found":          {figure.Request{ID: "reading", Row: "vain", Quantity: "load.volts"}, record.NotReached},
		"found nothing":          {figure.Request{ID: "found-level", Row: "vain", Quantity: "load.volts"}, record.NotReached},
		"no such row":            {figure.Request{ID: "reading", Row: "none", Quantity: "load.volts"}, record.NoPoint},
		"not read":               {figure.Request{ID: "reading", Row: "idle", Quantity: "load.amps"}, record.IsMissing},
	} {
		r := compute(rec, c.request)
		if assert.NotNil(t, r.Undetermined, name) {
			assert.Equal(t, c.code, r.Undetermined.Code, name)
		}
	}
	r := compute(rec, figure.Request{ID: "reading", Row: "idle", Quantity: "load.volts"})
	assert.Equal(t, []any{60.0, "V"}, []any{r.Value, r.Unit})
	assert.InDelta(t, 0.06*0.95, r.U, 2e-3, "one rectangle of 0.1 %% of the reading")
}

// compute computes a figure of this family.
func compute(rec *record.Record, req figure.Request) figure.Result {
	return figure.NewCatalogue(Figures).Compute(rec, req)
}

// A reading is told in the unit that is asked for: 25 revolutions a second are 1500 a minute, ± the same share.
func TestAReadingIsToldInTheUnitThatIsAskedFor(t *testing.T) {
	speed := map[string]trace.Average{"meter.speed": {Mean: 25, SE: 0.01, N: 10}}
	rec := &record.Record{Points: []record.Point{{Row: "runs", Averages: speed}}, Specs: map[string]uncertainty.Spec{
		"meter.speed": {{To: 100, Reading: 0.001, Resolution: 1e-6}}}}
	own := compute(rec, figure.Request{ID: "reading", Row: "runs", Quantity: "meter.speed"})
	asked := compute(rec, figure.Request{ID: "reading", Row: "runs", Quantity: "meter.speed", In: "r/min"})
	assert.Equal(t, []any{25.0, "r/s"}, []any{own.Value, own.Unit})
	assert.Equal(t, "r/min", asked.Unit)
	assert.InDelta(t, 1500, asked.Value, 1e-9)
	assert.InDelta(t, 60*own.U, asked.U, 1e-9)
	assert.Equal(t, own.K, asked.K)
	assert.Equal(t, own.Remarks, asked.Remarks)
	for in, want := range map[string]string{"mV": "meter.speed is in r/s, which cannot be told in mV",
		"rounds": `"rounds" is not a unit`} {
		r := compute(rec, figure.Request{ID: "reading", Row: "runs", Quantity: "meter.speed", In: in})
		if assert.NotNil(t, r.Undetermined, in) {
			assert.Contains(t, r.Undetermined.Sentence, want)
		}
	}
	none := compute(rec, figure.Request{ID: "reading", Row: "none", Quantity: "meter.speed", In: "r/min"})
	assert.Equal(t, "r/min", none.Unit, "also where there is no value")
}
