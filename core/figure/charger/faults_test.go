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
	"usherbench/core/uncertainty"
)

// deckLog is a discharge of 50 Ah and a charge at 10 A for 4.5 h that then tapers, logged twice a minute, with a hole.
func deckLog(from, to float64) *record.Record {
	var samples []recordtest.Sample
	add := func(t, volts, amps float64) {
		if t < from || t > to {
			samples = append(samples, recordtest.Sample{T: t, Volts: volts, Amps: amps})
		}
	}
	const began, full = 18000.0, 18000 + 4.5*3600
	for t := 0.0; t < began; t += 30 {
		add(t, 26-5*t/began, -10)
	}
	for t := began + 0.5; t < full; t += 30 {
		add(t, 24+4.7*(t-began)/(full-began), 10)
	}
	for t := full + 0.5; t < full+9000; t += 30 {
		add(t, 28.7, 10*math.Exp(-(t-full)/3000))
	}
	rec := recordtest.Battery(map[string]quantity.Quantity{"rated_capacity": quantity.Of(60, "Ah")},
		[]record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: began}, {Name: "log", Kind: "watch", T0: began,
			T1: full + 9000}}, []record.Mark{recordtest.Command(0, "on"), recordtest.Command(began, "off")}, samples...)
	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 60, Reading: 1e-3}},
		"cycler.amps": {{To: 20, Reading: 1e-3}}}
	return rec
}

func TestAHoleInALogAddsNothing(t *testing.T) {
	whole := compute(deckLog(-1, -1), figure.Request{ID: "charger-stages"})
	require.Nil(t, whole.Undetermined, "%v", whole.Undetermined)
	assert.InDelta(t, 45+7.9, whole.Value, 0.1)
	assert.Positive(t, whole.U)
	short := compute(deckLog(30000, 30300), figure.Request{ID: "charger-stages"})
	require.Nil(t, short.Undetermined, "five minutes of a log are bridged")
	assert.Contains(t, short.Remarks, "bridged")
	holed := compute(deckLog(22000, 22000+3*3600), figure.Request{ID: "charger-stages"})
	require.NotNil(t, holed.Undetermined, "three hours are not: %g Ah", holed.Value)
	assert.Equal(t, record.Gap, holed.Undetermined.Code)
	assert.Contains(t, holed.Undetermined.Known, "22.8", "what is known outside")
	names := map[string]any{}
	for _, row := range holed.Table.Rows {
		names[row[0].(string)] = row[6]
	}
	assert.Contains(t, names, "unknown")
	assert.Nil(t, names["unknown"], "of what nobody saw no charge is told")
	assert.Contains(t, names, "absorption", "the stages around it stay")
	factor := compute(deckLog(22000, 22000+3*3600), figure.Request{ID: "charge-factor"})
	require.NotNil(t, factor.Undetermined)
	assert.Equal(t, record.Gap, factor.Undetermined.Code)
	sound := compute(deckLog(-1, -1), figure.Request{ID: "charge-factor"})
	require.Nil(t, sound.Undetermined, "%v", sound.Undetermined)
	assert.InDelta(t, 52.9/50, sound.Value, 0.01)
	assert.Less(t, sound.U, 0.001, "one range of one ammeter: its gain cancels")
}

func TestALogOfNothingHasNoShares(t *testing.T) {
	rec := recordtest.Battery(nil, []record.Span{{Name: "log", Kind: "watch", T0: 0, T1: 4000}}, nil,
		recordtest.Steady(0, 4000, 25, 0)...)
	r := compute(rec, figure.Request{ID: "charger-stages"})
	require.Nil(t, r.Undetermined, "%v", r.Undetermined)
	assert.Contains(t, r.Remarks, figure.TrueZero)
	for _, row := range r.Table.Rows {
		assert.Nil(t, row[8], "no share of nothing")
	}
}
