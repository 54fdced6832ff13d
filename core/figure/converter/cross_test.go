package converter

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// railed is a point of a unit with two outputs: what is taken from each, and what each then gives.
func railed(index int, amps, amps2, volts, volts2 float64) record.Point {
	return record.Point{Index: index,
		Place: map[string]float64{"source.volts": 24, "load.amps": amps, "load2.amps": amps2},
		Averages: map[string]trace.Average{"source.volts": average(24), "load.amps": average(amps),
			"load2.amps": average(amps2), "load.volts": average(volts), "load2.volts": average(volts2)}}
}

func rails(points ...record.Point) *record.Record {
	rec := recordOf(points...)
	rec.Ratings = map[string]quantity.Quantity{"nominal_line": quantity.Of(24, "V"),
		"load.rated_current": quantity.Of(2, "A"), "load2.rated_current": quantity.Of(3, "A"),
		"load.rated_volts": quantity.Of(12, "V"), "load2.rated_volts": quantity.Of(5, "V")}
	return rec
}

// The 5 V output, held at 1 A, reads 5.041 V and 5.006 V at least and full load of the other; with all at full it has
// 5.020 V.
func TestCrossRegulationOfTheWorkedExample(t *testing.T) {
	rec := rails(railed(0, 0.2, 1, 12.01, 5.041), railed(1, 2, 1, 12.00, 5.006), railed(2, 2, 3, 11.99, 5.020))
	r := compute(rec, figure.Request{ID: "cross-regulation", Output: "load2", Against: "load",
		At: map[string]float64{"load2.amps": 1}})
	require.Nil(t, r.Undetermined, "%v", r.Undetermined)
	assert.InDelta(t, 0.697, r.Value, 5e-4)
	assert.Equal(t, "load2", r.Output)
}

// Without a pair it is the worst of all, and the table has each.
func TestCrossRegulationOfAllPairs(t *testing.T) {
	points := []record.Point{railed(0, 0.2, 0.3, 12.05, 5.10), railed(1, 2, 0.3, 12.02, 5.16),
		railed(2, 0.2, 3, 12.03, 5.00), railed(3, 2, 3, 12.00, 5.02)}
	r := compute(rails(points...), figure.Request{ID: "cross-regulation"})
	require.Nil(t, r.Undetermined, "%v", r.Undetermined)
	assert.InDelta(t, 100*0.02/5.02, r.Value, 1e-9)
	assert.Contains(t, r.Remarks, "volts of load2 with load stepped")
	require.Len(t, r.Table.Rows, 2)
	assert.Equal(t, []any{"load", "load2"}, r.Table.Rows[0][:2])
	assert.InDelta(t, 100*0.02/12, r.Table.Rows[0][2], 1e-9)

	// The other figures take each output at its own rating, and all others at theirs.
	accuracy := compute(rails(points...), figure.Request{ID: "output-accuracy", Output: "load2"})
	assert.InDelta(t, 0.4, accuracy.Value, 1e-9)
	regulation := compute(rails(points...), figure.Request{ID: "load-regulation", Output: "load2"})
	require.Nil(t, regulation.Undetermined, "%v", regulation.Undetermined)
	assert.InDelta(t, 100*(5.16-5.02)/5.02, regulation.Value, 1e-9)
	assert.Equal(t, map[string]float64{"source.volts": 24, "load.amps": 2}, regulation.At)
}

func TestCrossRegulationIsUndetermined(t *testing.T) {
	code := func(rec *record.Record, req figure.Request) string {
		req.ID = "cross-regulation"
		r := compute(rec, req)
		require.NotNil(t, r.Undetermined)
		return string(r.Undetermined.Code)
	}
	single := railed(0, 2, 0, 12, 5)
	delete(single.Place, "load2.amps")
	assert.Equal(t, "too-few", code(rails(single), figure.Request{}), "one output only")
	one := rails(railed(0, 2, 3, 12, 5))
	assert.Equal(t, "too-few", code(one, figure.Request{}), "no load was stepped")
	loose := rails(railed(0, 0.2, 3, 12, 5.04), railed(1, 2, 3, 12, 5))
	a := loose.Points[0].Averages["load2.amps"]
	a.Mean = 2.9
	loose.Points[0].Averages["load2.amps"] = a
	assert.Equal(t, "wrong-conditions", code(loose, figure.Request{Output: "load2", Against: "load"}))
	noFull := rails(railed(0, 0.2, 1, 12, 5.04), railed(1, 2, 1, 12, 5))
	assert.Equal(t, "no-point", code(noFull, figure.Request{Output: "load2", Against: "load",
		At: map[string]float64{"load2.amps": 1}}))
	assert.Equal(t, "no-point", code(noFull, figure.Request{Output: "load3"}))
	none := compute(noFull, figure.Request{ID: "cross-regulation", Output: "load", Against: "load"})
	assert.Equal(t, "no grid sets the loads of load and load", none.Undetermined.Sentence)
}

// One meter reads all points: its gain and its offset cost little, and the stated intervals hold the truth.
func TestCrossRegulationHoldsTheTruth(t *testing.T) {
	const runs = 1000
	held := 0
	rng := rand.New(rand.NewPCG(7, 16))
	spec := uncertainty.Spec{{To: 20, Reading: 5e-4, Offset: 4e-3, Resolution: 1e-4}}
	for range runs {
		gain, offset := 5e-4*(2*rng.Float64()-1), 4e-3*(2*rng.Float64()-1)
		read := func(truth float64) trace.Average {
			const noise, n = 3e-4, 10
			sum := 0.0
			for range n {
				sum += math.Round((truth*(1+gain)+offset+noise*rng.NormFloat64())/1e-4) * 1e-4
			}
			return trace.Average{Mean: sum / n, SD: noise, SE: noise / math.Sqrt(n), N: n}
		}
		rec := rails(railed(0, 0.2, 3, 12.02, 5.041), railed(1, 2, 3, 12.00, 5.006))
		rec.Specs = map[string]uncertainty.Spec{"load2.volts": spec}
		for i, truth := range []float64{5.041, 5.006} {
			rec.Points[i].Averages["load2.volts"] = read(truth)
		}
		r := compute(rec, figure.Request{ID: "cross-regulation", Output: "load2", Against: "load"})
		require.Nil(t, r.Undetermined)
		if math.Abs(r.Value-100*0.035/5.006) <= r.U {
			held++
		}
	}
	assert.InDelta(t, 0.95, float64(held)/runs, 0.02)
}
