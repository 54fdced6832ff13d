package charger

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
)

// compute computes a figure of this family.
func compute(rec *record.Record, req figure.Request) figure.Result {
	return figure.NewCatalogue(Figures).Compute(rec, req)
}

// logOf is a charge that a charger makes on its own, a frame each 10 s.
func logOf(parts ...func(t float64) (seconds float64,
	at func(s float64) (volts, amps float64))) (frames []recordtest.Sample) {
	t := 0.0
	for _, p := range parts {
		seconds, at := p(t)
		for s := 0.0; s < seconds; s += 10 {
			v, i := at(s)
			frames = append(frames, recordtest.Sample{T: t, Volts: v, Amps: i})
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
	rec := recordtest.Battery(map[string]quantity.Quantity{"rated_capacity": quantity.Of(60, "Ah")},
		[]record.Span{{Name: "charger", Kind: "watch", T0: 0, T1: 11.5 * 3600}}, nil, frames...)
	r := compute(rec, figure.Request{ID: "charger-stages"})
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
	rec.Stages = append([]record.Span{{Name: "empty", Kind: "discharge", T0: -18000, T1: -1}}, rec.Stages...)
	out := recordtest.Falling(10, -18000, -1, 10, func(float64) float64 { return 25 })
	whole := recordtest.Battery(rec.Ratings, rec.Stages, nil, append(out, frames...)...)
	r = compute(whole, figure.Request{ID: "charge-factor"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.140, r.Value, 0.01)
	assert.InDelta(t, 1.164,
		compute(whole, figure.Request{ID: "charge-factor", Choices: map[string]string{"until": "float"}}).Value, 0.01)
	short := recordtest.Battery(nil, []record.Span{{Name: "charger", Kind: "watch", T0: 0, T1: 600}}, nil, frames[:60]...)
	assert.Equal(t, record.TooFew, compute(short, figure.Request{ID: "charger-stages"}).Undetermined.Code)
}

func TestALogOfAChargeThatWasNone(t *testing.T) {
	ratings := map[string]quantity.Quantity{"rated_capacity": quantity.Of(9.6, "Ah")}
	log := []record.Span{{Name: "log", Kind: "watch", T0: 0, T1: 4000}}
	rec := recordtest.Battery(ratings, log, nil, recordtest.Steady(0, 4000, 25, -2)...)
	assert.Equal(t, record.WrongSign, compute(rec, figure.Request{ID: "charger-stages"}).Undetermined.Code)

	rec = recordtest.Battery(ratings, []record.Span{{Name: "out", Kind: "discharge", T0: 0, T1: 100},
		{Name: "log", Kind: "watch", T0: 100, T1: 4000}}, nil,
		append(recordtest.Steady(0, 100, 25, -2), recordtest.Steady(100, 4000, 28, 2)...)...)
	assert.Equal(t, record.BelowFloor, compute(rec, figure.Request{ID: "charge-factor"}).Undetermined.Code,
		"a factor after next to nothing")
}
