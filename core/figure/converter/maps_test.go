package converter

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
)

// with is a point of a map that has just that efficiency, %.
func with(line, load, efficiency float64) record.Point {
	return point(line, load, line, 15*load/(efficiency/100)/line, 15, load)
}

func TestMapOfTheWorkedExample(t *testing.T) {
	rec := recordOf(with(48, 4, 94.10), with(60, 4, 93.60), with(48, 8, 93.30), with(60, 8, 92.90))
	at := figure.Request{ID: "efficiency-map", At: map[string]float64{"source.volts": 54, "load.amps": 5}}
	r := compute(rec, at)
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 93.66, r.Value, 5e-3)
	assert.Len(t, r.Table.Rows, 4)
	assert.Contains(t, r.Remarks, "interpolated")
	whole := compute(rec, figure.Request{ID: "efficiency-map"})
	assert.InDelta(t, 94.10, whole.Value, 1e-9)
	at.At = map[string]float64{"source.volts": 72, "load.amps": 5}
	assert.Equal(t, record.NoPoint, compute(rec, at).Undetermined.Code, "never beyond")
	rec.Points = rec.Points[:3]
	at.At = map[string]float64{"source.volts": 54, "load.amps": 5}
	assert.Equal(t, record.NoPoint, compute(rec, at).Undetermined.Code, "a corner is missing")
	at.At = map[string]float64{"source.volts": 54, "load.amps": 4}
	assert.InDelta(t, 93.85, compute(rec, at).Value, 1e-9, "on an edge two are enough")
}

func TestPeakEfficiency(t *testing.T) {
	rec := recordOf(with(48, 2, 91), with(48, 4, 94.1), with(48, 8, 93.3))
	r := compute(rec, figure.Request{ID: "peak-efficiency"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 94.1, r.Value, 1e-9)
	assert.InDelta(t, 4, r.At["load.amps"], 0)
	assert.NotContains(t, r.Remarks, "edge")
	rec.Points[2] = with(48, 8, 95)
	assert.Contains(t, compute(rec, figure.Request{ID: "peak-efficiency"}).Remarks, "edge")
	rec.Points = rec.Points[:2]
	assert.Equal(t, record.TooFew, compute(rec, figure.Request{ID: "peak-efficiency"}).Undetermined.Code)
}

func TestWeightedEfficiencyOfTheWorkedExample(t *testing.T) {
	rec := recordOf(with(48, 2, 91.2), with(48, 4, 93.8), with(48, 6, 94.1), with(48, 8, 93.3))
	r := compute(rec, figure.Request{ID: "weighted-efficiency"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 93.10, r.Value, 1e-9)
	odd := figure.Request{ID: "weighted-efficiency", Args: map[string]float64{"w25": 0.5}}
	assert.Equal(t, record.WrongConditions, compute(rec, odd).Undetermined.Code)
	rec.Points = rec.Points[1:]
	missing := compute(rec, figure.Request{ID: "weighted-efficiency"})
	assert.Equal(t, record.NoPoint, missing.Undetermined.Code)
	assert.Contains(t, missing.Undetermined.Sentence, "load.amps 2 A")
}

func TestDropoutOfTheWorkedExample(t *testing.T) {
	five := func(volts, out float64) record.Point { return point(volts, 1, volts, 1, out, 1) }
	rec := recordOf(five(12, 5), five(5.40, 4.985), five(5.30, 4.935), five(5.20, 4.88))
	rec.Ratings = map[string]quantity.Quantity{"nominal_line": quantity.Of(12, "V"), "rated_current": quantity.Of(1, "A"),
		"rated_volts": quantity.Of(5, "V")}
	r := compute(rec, figure.Request{ID: "dropout-input"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 5.330, r.Value, 1e-9)
	assert.InDelta(t, 0.380, compute(rec, figure.Request{ID: "dropout"}).Value, 1e-9)
	rec.Points = rec.Points[:2]
	holds := compute(rec, figure.Request{ID: "dropout-input"})
	assert.Equal(t, record.NotReached, holds.Undetermined.Code)
	assert.InDelta(t, 5.4, *holds.Undetermined.AtMost, 1e-9)
	rec.Points = append(rec.Points, five(5.2, 0.1))
	assert.Equal(t, record.NotFound, compute(rec, figure.Request{ID: "dropout-input"}).Undetermined.Code, "it locked out")
}
