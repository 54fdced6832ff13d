package converter

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// meter reads a true value as an instrument of the given accuracy does: with its own gain and offset, noise, and steps.
type meter struct{ gain, offset, noise, step float64 }

func (m meter) average(rng *rand.Rand, truth float64, n int) trace.Average {
	var s trace.Series
	for k := range n {
		x := truth*(1+m.gain) + m.offset + m.noise*rng.NormFloat64()
		s.T, s.X = append(s.T, float64(k)*0.02), append(s.X, math.Round(x/m.step)*m.step)
	}
	a, err := trace.SettledAverage(s, 0)
	if err != nil {
		panic(err)
	}
	return a
}

var coverageSpecs = map[string]uncertainty.Spec{
	"source.volts": {{To: 80, Reading: 0.0003, Offset: 6e-3, Resolution: 1e-3}},
	"source.amps":  {{To: 10, Reading: 0.0005, Offset: 1.5e-3, Resolution: 1e-4}},
	"load.volts":   {{To: 150, Reading: 0.00025, Offset: 4e-3, Resolution: 1e-4}},
	"load.amps":    {{To: 30, Reading: 0.0005, Offset: 2e-3, Resolution: 1e-4}},
}

var coverageNoise = map[string]float64{"source.volts": 0.4e-3, "source.amps": 0.08e-3, "load.volts": 0.15e-3,
	"load.amps": 0.12e-3}

// The stated 95 % intervals are held against the truth in a thousand runs with instrument errors drawn from the
// specifications. Gain and offset are drawn independently here while they are bounded together, so intervals
// that these errors rule hold more often.
func TestStatedIntervalsHoldTheTruth(t *testing.T) {
	const runs, readings = 1000, 12
	rng := rand.New(rand.NewPCG(11, 12))
	held := map[string]int{}
	for range runs {
		meters := map[string]meter{}
		for column, spec := range coverageSpecs {
			even := func(bound float64) float64 { return (2*rng.Float64() - 1) * bound }
			meters[column] = meter{even(spec[0].Reading), even(spec[0].Offset), coverageNoise[column], spec[0].Resolution}
		}
		rec := &record.Record{Ratings: ratings, Specs: coverageSpecs}
		truths := map[float64]float64{36: 14.9746, 48: 14.9700, 60: 14.9658}
		var efficiencyTruth float64
		for _, line := range []float64{36, 48, 60} {
			out, in := truths[line], (truths[line]*8+6.3)/line
			p := record.Point{Place: map[string]float64{"source.volts": line, "load.amps": 8},
				Averages: map[string]trace.Average{}}
			for column, truth := range map[string]float64{"source.volts": line, "source.amps": in, "load.volts": out,
				"load.amps": 8} {
				p.Averages[column] = meters[column].average(rng, truth, readings)
			}
			for _, seat := range []string{"source", "load"} {
				p.Averages[seat+".watts"] = trace.Average{Mean: p.Averages[seat+".volts"].Mean * p.Averages[seat+".amps"].Mean,
					N: readings}
			}
			rec.Points = append(rec.Points, p)
			if line == 48 {
				efficiencyTruth = 100 * out * 8 / (line * in)
			}
		}
		for id, truth := range map[string]float64{
			"efficiency": efficiencyTruth, "output-accuracy": 100 * (truths[48] - 15) / 15,
			"line-shift":      1000 * (truths[60] - truths[36]),
			"line-regulation": 100 * (truths[36] - truths[60]) / truths[48],
		} {
			r := compute(rec, figure.Request{ID: id})
			require.Nil(t, r.Undetermined, id)
			if math.Abs(r.Value-truth) <= r.U {
				held[id]++
			}
		}
	}
	for id, n := range held {
		share := 100 * float64(n) / runs
		t.Logf("%s: %.1f %%", id, share)
		assert.GreaterOrEqual(t, share, 93.0, id)
	}
	for _, id := range []string{"line-shift", "line-regulation"} {
		assert.LessOrEqual(t, 100*float64(held[id])/runs, 97.5,
			"%s: noise alone rules it, so its interval must not be too wide either", id)
	}
}
