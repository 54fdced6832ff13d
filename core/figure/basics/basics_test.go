package basics_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/figure/basics"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/uncertainty"
)

// recordOf is a run of one stage with the columns given.
func recordOf(t []float64, columns map[string][]float64) *record.Record {
	rec := &record.Record{Stages: []record.Span{{Name: "window", Kind: "hold", T0: t[0], T1: t[len(t)-1], AtLeast: 10}},
		Specs: map[string]uncertainty.Spec{"load.amps": {{To: 30, Reading: 0.001, Offset: 1e-3}}}}
	rec.Trace = recordtest.Trace(t, columns)
	return rec
}

func ask(rec *record.Record, id, quantity string, args map[string]float64) figure.Result {
	return figure.NewCatalogue(basics.Figures).Compute(rec, figure.Request{ID: id, Stage: "window", Quantity: quantity,
		Args: args})
}

func TestWorkedExamples(t *testing.T) {
	times, amps, volts := []float64{0, 1, 2, 4}, []float64{2, 2, 1, 1}, []float64{12, 12, 12.2, 12.2}
	watts := make([]float64, len(amps))
	for i := range amps {
		watts[i] = amps[i] * volts[i]
	}
	rec := recordOf(times, map[string][]float64{"load.amps": amps, "load.watts": watts})
	for id, want := range map[string]float64{"mean": 1.375, "rms": 1.458, "minimum": 1, "maximum": 2} {
		r := ask(rec, id, "load.amps", nil)
		require.Nil(t, r.Undetermined, id)
		assert.InDelta(t, want, r.Value, 5e-4, id)
		assert.Equal(t, "A", r.Unit)
		assert.Positive(t, r.U, id)
	}
	assert.Contains(t, ask(rec, "minimum", "load.amps", nil).Remarks, "first at 2 s")
	assert.InDelta(t, 1.528e-3, ask(rec, "charge", "load.amps", nil).Value, 5e-7)
	energy := ask(rec, "energy", "load.watts", nil)
	assert.InDelta(t, 18.47e-3, energy.Value, 5e-6)
	assert.Contains(t, energy.Remarks, figure.NotStated)
	assert.Equal(t, record.WrongConditions, ask(rec, "charge", "load.watts", nil).Undetermined.Code)
}

func TestSlopeOfTheWorkedExample(t *testing.T) {
	rec := recordOf([]float64{0, 60, 120, 180, 240}, map[string][]float64{
		"thermo.celsius": {40.00, 40.03, 40.05, 40.06, 40.07}})
	rec.Stages[0].AtLeast = 60
	r := ask(rec, "slope", "thermo.celsius", nil)
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.02, r.Value*3600, 5e-3)
	assert.Equal(t, "°C/s", r.Unit)
}

func TestSettledAverageOfTheWorkedExample(t *testing.T) {
	var times, x []float64
	for i, mv := range []float64{0, 0.3, 0.5, 0.2, -0.2, -0.4, -0.3, -0.1} {
		times, x = append(times, 0.1*float64(i)), append(x, 15.001+mv/1000)
	}
	rec := recordOf(times, map[string][]float64{"load.volts": x})
	rec.Specs["load.volts"] = uncertainty.Spec{{To: 20}}
	r := ask(rec, "settled-average", "load.volts", nil)
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 15.0010, r.Value, 1e-4)
	assert.InDelta(t, 0.238e-3, r.U/r.K, 2e-5)
	for i := range x {
		x[i] += 0.02 * float64(i)
	}
	drifts := ask(rec, "settled-average", "load.volts", nil)
	require.NotNil(t, drifts.Undetermined)
	assert.Equal(t, record.NotSettled, drifts.Undetermined.Code)
}

func TestWindowsAndGaps(t *testing.T) {
	var times, amps []float64
	for k := range 100 {
		times, amps = append(times, float64(k)), append(amps, float64(k))
	}
	rec := recordOf(times, map[string][]float64{"load.amps": amps})
	part := ask(rec, "mean", "load.amps", map[string]float64{"from": 10, "for": 20})
	assert.InDelta(t, 20, part.Value, 1e-9)
	late := ask(rec, "mean", "load.amps", map[string]float64{"from": 200})
	assert.Equal(t, record.NoData, late.Undetermined.Code)
	for k := 40; k < 80; k++ {
		amps[k] = math.NaN()
	}
	assert.Equal(t, record.Gap, ask(rec, "mean", "load.amps", nil).Undetermined.Code)
	most := ask(rec, "maximum", "load.amps", nil)
	require.Nil(t, most.Undetermined)
	assert.InDelta(t, 99, most.Value, 1e-9)
	assert.Contains(t, most.Remarks, "gaps")
	assert.Equal(t, record.NoMark, figure.NewCatalogue(basics.Figures).Compute(rec,
		figure.Request{ID: "mean", Stage: "none", Quantity: "load.amps"}).Undetermined.Code)
}
