package converter

import (
	"maps"
	"math"
	"math/rand/v2"
	"slices"
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

// The stated 95 % intervals hold the truth of 93 to 97 of 100 runs whose instruments are drawn from their
// specifications, gain and offset each by itself.
func TestStatedIntervalsHoldTheTruth(t *testing.T) {
	const runs, readings, nominal, full = 1000, 12, 48.0, 8.0
	rng := rand.New(rand.NewPCG(11, 12))
	output := func(line, amps float64) float64 { return 15.01 - 0.35e-3*(line-nominal) - 5e-3*amps }
	input := func(line, amps float64) float64 {
		return (output(line, amps)*amps + 1 + 0.1*amps + 0.06*amps*amps) / line
	}
	held := map[string]int{}
	for range runs {
		meters := map[string]meter{}
		for _, column := range slices.Sorted(maps.Keys(coverageSpecs)) {
			spec := coverageSpecs[column]
			even := func(bound float64) float64 { return (2*rng.Float64() - 1) * bound }
			meters[column] = meter{even(spec[0].Reading), even(spec[0].Offset), coverageNoise[column], spec[0].Resolution}
		}
		rec := &record.Record{Ratings: ratings, Specs: coverageSpecs}
		for _, place := range [][2]float64{{36, full}, {nominal, full}, {60, full}, {nominal, 1}, {nominal, 4}} {
			line, amps := place[0], place[1]
			p := record.Point{Place: map[string]float64{"source.volts": line, "load.amps": amps},
				Averages: map[string]trace.Average{}}
			truths := map[string]float64{"source.volts": line, "source.amps": input(line, amps),
				"load.volts": output(line, amps), "load.amps": amps}
			for _, column := range slices.Sorted(maps.Keys(truths)) {
				p.Averages[column] = meters[column].average(rng, truths[column], readings)
			}
			for _, seat := range []string{"source", "load"} {
				p.Averages[seat+".watts"] = trace.Average{Mean: p.Averages[seat+".volts"].Mean * p.Averages[seat+".amps"].Mean,
					N: readings}
			}
			rec.Points = append(rec.Points, p)
		}
		in, out := nominal*input(nominal, full), output(nominal, full)*full
		reference := output(nominal, full)
		for id, truth := range map[string]float64{
			"efficiency": 100 * out / in, "loss": in - out, "output-accuracy": 100 * (reference - 15) / 15,
			"line-shift":      1000 * (output(60, full) - output(36, full)),
			"line-regulation": 100 * (output(36, full) - output(60, full)) / reference,
			"load-shift":      1000 * (reference - output(nominal, 1)),
			"load-regulation": 100 * (output(nominal, 1) - reference) / reference,
		} {
			r := compute(rec, figure.Request{ID: id})
			require.Nil(t, r.Undetermined, "%s: %v", id, r.Undetermined)
			if math.Abs(r.Value-truth) <= r.U {
				held[id]++
			}
		}
	}
	require.Len(t, held, 7)
	for id, n := range held {
		share := 100 * float64(n) / runs
		t.Logf("%s: %.1f %%", id, share)
		assert.GreaterOrEqual(t, share, 93.0, id)
		assert.LessOrEqual(t, share, 97.0, id)
	}
}
