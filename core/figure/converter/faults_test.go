package converter

import (
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

// at is a point at a place with means of ten readings; watts follow from volts and amps where they are not given.
func at(place map[string]float64, means map[string]float64) record.Point {
	p := record.Point{Place: place, Averages: map[string]trace.Average{}}
	for column, x := range means {
		p.Averages[column] = trace.Average{Mean: x, N: 10, SE: 1e-5}
	}
	for _, seat := range []string{"source", "source2", "load", "load2", "meter"} {
		volts, ok := means[seat+".volts"]
		if _, given := means[seat+".watts"]; ok && !given {
			p.Averages[seat+".watts"] = trace.Average{Mean: volts * means[seat+".amps"], N: 10, SE: 1e-5}
		}
	}
	return p
}

var nominal = map[string]float64{"source.volts": 48, "load.amps": 8}

func of(id string, points ...record.Point) figure.Result {
	return compute(&record.Record{Ratings: ratings, Points: points}, figure.Request{ID: id})
}

func TestPowerThatFlowsTheWrongWayHasNoEfficiency(t *testing.T) {
	for name, means := range map[string]map[string]float64{
		"out of the input":  {"source.volts": 48, "source.amps": -2.7, "load.volts": 15, "load.amps": 8},
		"into the output":   {"source.volts": 48, "source.amps": 2.7, "load.volts": 15, "load.amps": -8},
		"volts turned over": {"source.volts": 48, "source.amps": 2.7, "load.volts": -15, "load.amps": 8},
	} {
		for _, id := range []string{"efficiency", "loss"} {
			r := of(id, at(nominal, means))
			require.NotNil(t, r.Undetermined, "%s %s: %g", id, name, r.Value)
			assert.Equal(t, record.WrongSign, r.Undetermined.Code, "%s %s", id, name)
		}
	}
	idle := map[string]float64{"source.volts": 48, "source.amps": 0.02, "load.volts": 15, "load.amps": 0}
	assert.Equal(t, record.BelowFloor, of("efficiency", at(nominal, idle)).Undetermined.Code,
		"nothing comes out, and nobody says how well that is known")
	assert.InDelta(t, 0.96, of("loss", at(nominal, idle)).Value, 1e-9)
}

// Everything that feeds the unit and everything that drains it counts.
func TestEveryInputAndOutputCounts(t *testing.T) {
	p := at(nominal, map[string]float64{"source.volts": 48, "source.amps": 2, "source2.volts": 12, "source2.amps": 0.5,
		"load.volts": 15, "load.amps": 4, "load2.volts": 5, "load2.amps": 4})
	assert.InDelta(t, 100*80/102., of("efficiency", p).Value, 1e-9)
	assert.InDelta(t, 22, of("loss", p).Value, 1e-9)
	named := compute(&record.Record{Ratings: ratings, Points: []record.Point{p}},
		figure.Request{ID: "efficiency", Input: "source", Output: "load2"})
	assert.InDelta(t, 100*20/96., named.Value, 1e-9, "but where the request names them")
}

// An instrument that measures watts is believed to its own accuracy: volts times amps are no watts of
// alternating current.
func TestMeasuredWattsHaveTheirOwnAccuracy(t *testing.T) {
	p := at(nominal, map[string]float64{"meter.volts": 230, "meter.amps": 1.5, "meter.watts": 148, "source.volts": 48,
		"source.amps": 2.9, "load.volts": 15, "load.amps": 8})
	rec := &record.Record{Ratings: ratings, Points: []record.Point{p}, Specs: map[string]uncertainty.Spec{
		"meter.volts": {{To: 300, Reading: 0.01}}, "meter.amps": {{To: 5, Reading: 0.01}},
		"meter.watts": {{To: 500, Reading: 0.002}}, "load.volts": {{To: 60}}, "load.amps": {{To: 30}}}}
	r := compute(rec, figure.Request{ID: "efficiency", Input: "meter"})
	require.Nil(t, r.Undetermined, "the nominal line is that of the supply, not of who measures: %v", r.Undetermined)
	assert.InDelta(t, 100*120/148., r.Value, 1e-9)
	assert.InDelta(t, 0.95*0.002*r.Value, r.U, 0.005)
}

// A load that is held at 0 A is held, and no share of it can be taken.
func TestALoadAtZeroIsHeld(t *testing.T) {
	var points []record.Point
	for _, line := range []float64{36, 48, 60} {
		points = append(points, at(map[string]float64{"source.volts": line, "load.amps": 0},
			map[string]float64{"source.volts": line, "source.amps": 0.02, "load.volts": 15 - line/1e4,
				"load.amps": 2e-4 * math.Sin(line)}))
	}
	rec := &record.Record{Ratings: ratings, Points: points}
	for _, id := range []string{"line-regulation", "line-shift"} {
		r := compute(rec, figure.Request{ID: id, At: map[string]float64{"load.amps": 0}})
		assert.Nil(t, r.Undetermined, "%s: %v", id, r.Undetermined)
	}
	for k := range rec.Points {
		a := rec.Points[k].Averages["load.amps"]
		a.Mean = 0.02 * float64(k)
		rec.Points[k].Averages["load.amps"] = a
	}
	for _, id := range []string{"line-regulation", "line-shift"} {
		r := compute(rec, figure.Request{ID: id, At: map[string]float64{"load.amps": 0}})
		require.NotNil(t, r.Undetermined, id)
		assert.Equal(t, record.WrongConditions, r.Undetermined.Code, id)
		assert.NotContains(t, r.Undetermined.Sentence, "%")
	}
}

func TestNothingIsAShareOfZeroVolts(t *testing.T) {
	rec := &record.Record{Ratings: map[string]quantity.Quantity{"rated_volts": quantity.Of(0, "V"),
		"nominal_line": quantity.Of(48, "V"), "rated_current": quantity.Of(8, "A")},
		Points: []record.Point{at(nominal, map[string]float64{"source.volts": 48, "load.volts": 15, "load.amps": 8})}}
	assert.Equal(t, record.ZeroDivisor, compute(rec, figure.Request{ID: "output-accuracy"}).Undetermined.Code)
}

// idleFor is a hold without load of so many seconds, at half a watt, with a hole.
func idleFor(seconds, from, to float64, second bool) *record.Record {
	columns := map[string]*trace.Series{}
	put := func(column string, t, x float64) {
		if columns[column] == nil {
			columns[column] = &trace.Series{}
		}
		columns[column].T, columns[column].X = append(columns[column].T, t), append(columns[column].X, x)
	}
	for past := 0.0; past <= seconds; past++ {
		if past > from && past < to {
			continue
		}
		for column, x := range map[string]float64{"source.volts": 50, "source.amps": 0.01, "source.energy": 0.5 * past,
			"load.amps": 0} {
			put(column, past, x)
		}
		if second {
			put("source2.volts", past, 12)
			put("source2.amps", past, 0.02)
			put("source2.energy", past, 0.24*past)
		}
	}
	rec := &record.Record{Stages: []record.Span{{Name: "idle", Kind: "hold", T0: 0, T1: seconds}},
		Specs: map[string]uncertainty.Spec{},
		Trace: func(column string, a, b float64) (trace.Series, error) {
			if columns[column] == nil {
				return trace.Series{}, trace.ErrNoData
			}
			return columns[column].Between(a, b), nil
		}}
	for column := range columns {
		rec.Columns = append(rec.Columns, column)
		rec.Specs[column] = uncertainty.Spec{{To: 100, Reading: 1e-3, Resolution: 1e-4}}
	}
	return rec
}

func TestAHoleInAHoldWithoutLoadIsAGap(t *testing.T) {
	r := compute(idleFor(1200, 0, 0, false), figure.Request{ID: "no-load-power"})
	require.Nil(t, r.Undetermined, "%v", r.Undetermined)
	assert.InDelta(t, 0.5, r.Value, 1e-9)
	assert.Positive(t, r.U)
	for name, c := range map[string][2]float64{"in the middle": {500, 560}, "at the end": {1130, 1201}} {
		r := compute(idleFor(1200, c[0], c[1], false), figure.Request{ID: "no-load-power", Stage: "idle"})
		require.NotNil(t, r.Undetermined, name)
		assert.Equal(t, record.Gap, r.Undetermined.Code, name)
	}
	assert.InDelta(t, 0.74, compute(idleFor(60, 0, 0, true), figure.Request{ID: "no-load-power"}).Value, 1e-9,
		"an auxiliary supply counts")
}
