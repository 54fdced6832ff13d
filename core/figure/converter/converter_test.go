package converter

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

func average(mean float64) trace.Average { return trace.Average{Mean: mean, N: 10} }

// point makes a point from the setpoints of line and load and the measured volts and amps on both sides.
func point(line, load, vin, iin, vout, iout float64) record.Point {
	return record.Point{
		Place: map[string]float64{"source.volts": line, "load.amps": load},
		Averages: map[string]trace.Average{
			"source.volts": average(vin), "source.amps": average(iin), "source.watts": average(vin * iin),
			"load.volts": average(vout), "load.amps": average(iout), "load.watts": average(vout * iout),
		},
	}
}

var ratings = map[string]quantity.Quantity{
	"nominal_line": quantity.Of(48, "V"), "rated_current": quantity.Of(8, "A"), "rated_volts": quantity.Of(15, "V"),
}

func recordOf(points ...record.Point) *record.Record {
	return &record.Record{Points: points, Ratings: ratings}
}

func TestEfficiencyAndLossOfTheWorkedExample(t *testing.T) {
	rec := recordOf(point(48, 8, 48.02, 2.680, 15.010, 8.000))
	// Each power to u = 0.05 %: half-widths of volts alone, so that the rectangle of each side is u·√3.
	spec := func() uncertainty.Spec { return uncertainty.Spec{{To: 100, Reading: 0.0005 * math.Sqrt(3)}} }
	exact := uncertainty.Spec{{To: 100}}
	rec.Specs = map[string]uncertainty.Spec{"source.volts": spec(), "source.amps": exact, "load.volts": spec(),
		"load.amps": exact}

	r := compute(rec, figure.Request{ID: "efficiency"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 93.31, r.Value, 5e-3)
	assert.InDelta(t, 0.066, r.U/r.K, 5e-4)
	assert.InDelta(t, 1.902, r.K, 2e-3, "two like rectangles")
	assert.Equal(t, "%", r.Unit)

	r = compute(rec, figure.Request{ID: "loss"})
	assert.InDelta(t, 8.61, r.Value, 5e-3)
	assert.InDelta(t, 0.088, r.U/r.K, 5e-4)
}

func TestRegulationOfTheWorkedExamples(t *testing.T) {
	line := recordOf(point(36, 8, 36, 3.5, 15.012, 8), point(48, 8, 48, 2.7, 15.008, 8), point(60, 8, 60, 2.2, 15.003, 8))
	assert.InDelta(t, 0.060, compute(line, figure.Request{ID: "line-regulation"}).Value, 5e-4)
	assert.InDelta(t, -9, compute(line, figure.Request{ID: "line-shift"}).Value, 1e-6)

	load := recordOf(point(48, 0.5, 48, 0.2, 15.046, 0.5), point(48, 4, 48, 1.3, 15.030, 4),
		point(48, 8, 48, 2.7, 15.006, 8))
	assert.InDelta(t, 0.267, compute(load, figure.Request{ID: "load-regulation"}).Value, 5e-4)
	assert.InDelta(t, -40, compute(load, figure.Request{ID: "load-shift"}).Value, 1e-6)

	between := recordOf(point(36, 8, 36, 3.5, 15.012, 8), point(60, 8, 60, 2.2, 15.003, 8))
	r := compute(between, figure.Request{ID: "line-regulation"})
	assert.InDelta(t, 100*0.009/15.0075, r.Value, 1e-9, "nominal line lies between the points: V_ref is interpolated")
	r = compute(between, figure.Request{ID: "line-regulation", Reference: "rated"})
	assert.InDelta(t, 0.06, r.Value, 1e-9)
}

func TestOutputAccuracyOfTheWorkedExample(t *testing.T) {
	rec := recordOf(point(48, 8, 48, 2.7, 15.010, 8), point(36, 8, 36, 3.4, 14.980, 8))
	rec.Specs = map[string]uncertainty.Spec{"load.volts": {{To: 20, Reading: 0.0005}}}
	r := compute(rec, figure.Request{ID: "output-accuracy"})
	assert.InDelta(t, 0.067, r.Value, 5e-4)
	assert.InDelta(t, 1.645*0.05/math.Sqrt(3), r.U, 1e-3, "the meter's gain counts in full")
	r = compute(rec, figure.Request{ID: "output-accuracy", At: map[string]float64{"load.amps": 8}})
	assert.InDelta(t, -0.133, r.Value, 5e-4, "the largest magnitude, with its sign")
	assert.Contains(t, r.Remarks[0], "largest of 2 points")
}

func TestOneMetersGainCancelsInRegulation(t *testing.T) {
	rec := recordOf(point(36, 8, 36, 3.5, 15.012, 8), point(48, 8, 48, 2.7, 15.008, 8), point(60, 8, 60, 2.2, 15.003, 8))
	rec.Specs = map[string]uncertainty.Spec{"load.volts": {{To: 20, Reading: 0.001, Offset: 0.002}}}
	r := compute(rec, figure.Request{ID: "line-regulation"})
	assert.Less(t, r.U, 1e-4, "0.1 % of gain would be 0.1 points if it did not cancel")
}

// hold gives traces of an unloaded unit that draws the given watts at 48 V for a time, with frames each 100 ms.
func hold(watts, seconds, loadAmps float64) *record.Record {
	columns := map[string]func(t float64) float64{
		"source.energy": func(t float64) float64 { return watts * t }, "source.volts": func(float64) float64 { return 48 },
		"source.amps": func(float64) float64 { return watts / 48 }, "load.amps": func(float64) float64 { return loadAmps },
	}
	return &record.Record{
		Stages: []record.Span{{Name: "power up", Kind: "set", T0: 0, T1: 1}, {Name: "no load", Kind: "hold", T0: 0,
			T1: seconds}},
		Trace: func(column string, t0, t1 float64) (trace.Series, error) {
			var s trace.Series
			for k := range int((t1-t0)*10) + 1 {
				at := t0 + float64(k)/10
				s.T, s.X = append(s.T, at), append(s.X, columns[column](at))
			}
			return s, nil
		},
		Specs: map[string]uncertainty.Spec{
			"source.volts": {{To: 60, Reading: 0.0003}}, "source.amps": {{To: 5, Reading: 0.0005, Offset: 50e-6}},
			"load.amps": {{To: 10, Offset: 1e-3}},
		},
	}
}

func TestNoLoadPowerIsEnergyOverTime(t *testing.T) {
	// The worked example: 0.0352 Wh in 600 s.
	r := compute(hold(0.2112, 600, 0), figure.Request{ID: "no-load-power"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 0.2112, r.Value, 1e-9)
	assert.InDelta(t, 1.645*50e-6*48/math.Sqrt(3), r.U, 3e-4, "the current's offset rules")
}

// pause drops the readings between two times.
func pause(rec *record.Record, from, to float64) *record.Record {
	whole := rec.Trace
	rec.Trace = func(column string, t0, t1 float64) (trace.Series, error) {
		s, err := whole(column, t0, t1)
		for k, at := range s.T {
			if at > from && at < to {
				s.X[k] = math.NaN()
			}
		}
		return s, err
	}
	return rec
}

func TestNoLoadPowerBridgesShortGapsAndNoLongOnes(t *testing.T) {
	r := compute(pause(hold(0.2112, 20, 0), 5, 9), figure.Request{ID: "no-load-power"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 0.2112, r.Value, 1e-9)
	assert.Equal(t, []string{"bridged"}, r.Remarks)
	r = compute(pause(hold(0.2112, 60, 0), 5, 35), figure.Request{ID: "no-load-power", Stage: "no load"})
	require.NotNil(t, r.Undetermined)
	assert.Equal(t, record.Gap, r.Undetermined.Code)
}

func TestWhatIsUndeterminedSaysWhy(t *testing.T) {
	ordinary := []record.Point{point(36, 8, 36, 3.5, 15.012, 8), point(48, 8, 48, 2.7, 15.008, 8)}
	coarse := hold(0.2112, 60, 0)
	coarse.Specs["source.amps"] = uncertainty.Spec{{To: 5, Offset: 5e-3}}
	limited := point(48, 8, 48, 2.7, 15, 8)
	limited.Averages["source.limited"] = average(1)
	few := point(48, 8, 48, 2.7, 15, 8)
	few.Averages["load.volts"] = trace.Average{Mean: 15, N: 2}
	missing := point(48, 8, 48, 2.7, 15, 8)
	missing.Averages["source.amps"] = trace.Average{}
	drifting := point(36, 8, 36, 3.5, 15, 8)
	drifting.Averages["load.volts"] = trace.Average{Mean: 15, N: 10, Drift: 0.1}
	unrated := recordOf(ordinary...)
	unrated.Ratings = nil
	idle := recordOf(point(48, 8, 48, 2.7, 0.001, 0.001))
	idle.Specs = map[string]uncertainty.Spec{}
	for _, c := range []string{"source.volts", "source.amps", "load.volts", "load.amps"} {
		idle.Specs[c] = uncertainty.Spec{{To: 100, Offset: 5e-3}}
	}
	for name, c := range map[string]struct {
		rec  *record.Record
		id   string
		code string
	}{
		"no such point": {recordOf(point(36, 8, 36, 3.5, 15, 8)), "efficiency", record.NoPoint},
		"one line only": {recordOf(ordinary[1]), "line-regulation", record.TooFew},
		"load not held": {recordOf(ordinary[0], point(48, 8, 48, 2.7, 15, 7.5)), "line-regulation",
			record.WrongConditions},
		"supply in its limit":  {recordOf(limited), "efficiency", record.Limited},
		"two readings":         {recordOf(few), "efficiency", record.TooFew},
		"a reading missing":    {recordOf(missing), "efficiency", record.IsMissing},
		"still drifting":       {recordOf(drifting, ordinary[1]), "line-regulation", record.NotSettled},
		"no rating":            {unrated, "line-regulation", record.NoRating},
		"no rated volts":       {unrated, "output-accuracy", record.NoRating},
		"more out than in":     {recordOf(point(48, 8, 48, 2.0, 15, 8)), "efficiency", record.Implausible},
		"zero power in":        {recordOf(point(48, 8, 48, 0, 15, 8)), "efficiency", record.ZeroDivisor},
		"no load":              {idle, "efficiency", record.BelowFloor},
		"the load is on":       {hold(0.2, 60, 0.5), "no-load-power", record.NoMark},
		"window too short":     {hold(0.2, 5, 0), "no-load-power", record.TooFew},
		"range too coarse":     {coarse, "no-load-power", record.BelowFloor},
		"a figure that is not": {recordOf(), "brightness", record.NoData},
		"nominal line not there": {recordOf(point(36, 8, 36, 3.5, 15, 8), point(40, 8, 40, 3.2, 15, 8)), "line-regulation",
			record.NoPoint},
	} {
		r := compute(c.rec, figure.Request{ID: c.id})
		require.NotNil(t, r.Undetermined, name)
		assert.Equal(t, c.code, r.Undetermined.Code, fmt.Sprintf("%s: %s", name, r.Undetermined.Sentence))
		assert.NotEmpty(t, r.Undetermined.Sentence)
		assert.Zero(t, r.Value, "an undetermined figure has no value")
	}
}

// compute computes a figure of this family.
func compute(rec *record.Record, req figure.Request) figure.Result {
	return figure.NewCatalogue(Figures).Compute(rec, req)
}
