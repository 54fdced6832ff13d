package battery

import (
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// instrument reads a true value with a gain and an offset of its own, noise, and steps.
type instrument struct{ gain, offset, noise, step float64 }

func (i instrument) read(rng *rand.Rand, truth float64) float64 {
	x := truth*(1+i.gain) + i.offset + i.noise*rng.NormFloat64()
	return math.Round(x/i.step) * i.step
}

// seen is a battery's true course: volts, and amps that are fed and drained.
type seen struct{ t, volts, fed, drained float64 }

// benches are a cycler, which reads both ways, and a supply beside a load.
var benches = map[string]struct {
	specs map[string]uncertainty.Spec
	noise map[string]float64
	reads func(s seen) map[string]float64
}{
	"cycler": {map[string]uncertainty.Spec{
		"cycler.volts": {{To: 60, Reading: 0.0003, Offset: 3e-3, Resolution: 1e-3}},
		"cycler.amps":  {{To: 12, Reading: 0.0005, Offset: 2e-3, Resolution: 1e-3}},
	}, map[string]float64{"cycler.volts": 0.5e-3, "cycler.amps": 0.4e-3}, func(s seen) map[string]float64 {
		return map[string]float64{"cycler.volts": s.volts, "cycler.amps": s.fed - s.drained}
	}},
	"source and load": {map[string]uncertainty.Spec{
		"load.volts":  {{To: 150, Reading: 0.00025, Offset: 4e-3, Resolution: 1e-4}},
		"source.amps": {{To: 10, Reading: 0.0005, Offset: 1.5e-3, Resolution: 1e-4}},
		"load.amps":   {{To: 30, Reading: 0.0008, Offset: 2e-3, Resolution: 1e-4}},
	}, map[string]float64{"load.volts": 0.15e-3, "source.amps": 0.08e-3, "load.amps": 0.12e-3},
		func(s seen) map[string]float64 {
			return map[string]float64{"load.volts": s.volts, "source.amps": s.fed, "load.amps": s.drained}
		}},
}

// course is a charge, a rest, a discharge down to the cutoff, and a recovery, with the truth of each figure.
func course() (all []seen, stages []record.Span, marks []record.Mark, truth map[string]float64) {
	const every, charging, taking, low, high = 2.0, 2.0, 2.4, 20.0, 28.0
	t := 0.0
	run := func(seconds float64, at func(past float64) seen) {
		for past := 0.0; past < seconds-1e-9; past += every {
			s := at(past)
			s.t = t + past + 1e-3 // a frame comes after the command
			all = append(all, s)
		}
		t += seconds
	}
	stage := func(kind string, from float64, ended string) {
		stages = append(stages, record.Span{Name: kind, Kind: kind, T0: from, T1: t})
		if ended != "" {
			marks = append(marks, record.Mark{T: t, Kind: record.MarkCondition,
				About: record.Ended{Stage: kind, Rules: []string{ended}}})
		}
	}
	marks = append(marks, record.Mark{T: 0, Kind: record.MarkCommand})
	run(1500, func(past float64) seen { return seen{volts: low + 4 + (high-low-4)*past/1500, fed: charging} })
	stage("charge", 0, "taper")
	marks = append(marks, record.Mark{T: t, Kind: record.MarkCommand})
	run(60, func(float64) seen { return seen{volts: 27} })
	stage("rest", t-60, "")
	began := t
	marks = append(marks, record.Mark{T: t, Kind: record.MarkCommand})
	const slope = 6.0 / 1200 // V/s
	run(1210, func(past float64) seen { return seen{volts: 26 - slope*past, drained: taking} })
	stage("discharge", began, "cutoff")
	off := t
	marks = append(marks, record.Mark{T: t, Kind: record.MarkCommand})
	recovering := func(past float64) float64 { return 26 - slope*1210 + 1.5*(1-math.Exp(-past/40)) + 0.3 }
	run(300, func(past float64) seen { return seen{volts: recovering(past)} })
	stages = append(stages, record.Span{Name: "recover", Kind: "rest", T0: off, T1: t})
	charge, taken := charging*1500., taking*1200.
	in, out := charging*1500*(low+4+high)/2, taking*1210*(26-slope*605)
	truth = map[string]float64{
		"capacity": taken / 3600, "discharge-energy": taken * (26 + 20) / 2 / 3600, "charge-returned": charge / 3600,
		"energy-returned":      in / 3600,
		"coulombic-efficiency": 100 * taking * 1210 / charge, "energy-efficiency": 100 * out / in,
		"pulse-resistance": 1000 * (26 - slope*10 - 27) / -taking,
		"rest-recovery":    recovering(200) - (26 - slope*1210), "mean-discharge-voltage": 23,
	}
	return all, stages, marks, truth
}

// The stated 95 % intervals hold the truth of 93 to 97 of 100 runs whose instruments are drawn from their
// specifications, on a bench with one instrument as on one with two.
func TestStatedIntervalsOfBatteriesHoldTheTruth(t *testing.T) {
	const runs = 1000
	all, stages, marks, truth := course()
	for name, bench := range benches {
		rng := rand.New(rand.NewPCG(7, uint64(len(name))))
		held := map[string]int{}
		for range runs {
			rec := measured(rng, all, bench.specs, bench.noise, bench.reads)
			rec.Stages, rec.Marks, rec.Ratings, rec.Series = stages, marks, gannetRatings(), 7
			rec.Ratings["cutoff"] = quantity.Of(20, "V")
			for id, want := range truth {
				req := figure.Request{ID: id}
				switch id {
				case "rest-recovery":
					req.Args = map[string]float64{"after": 200}
				case "pulse-resistance":
					req.Args = map[string]float64{"delay": 10, "before": 20}
				}
				r := compute(rec, req)
				require.Nil(t, r.Undetermined, "%s on %s: %v", id, name, r.Undetermined)
				if math.Abs(r.Value-want) <= r.U {
					held[id]++
				}
			}
		}
		for id := range truth {
			share := 100 * float64(held[id]) / runs
			t.Logf("%s, %s: %.1f %%", name, id, share)
			assert.GreaterOrEqual(t, share, 93.0, "%s on %s", id, name)
			assert.LessOrEqual(t, share, 97.0, "%s on %s", id, name)
		}
	}
}

// measured is the record of a true course by instruments that are drawn from their specifications.
func measured(rng *rand.Rand, all []seen, specs map[string]uncertainty.Spec, noise map[string]float64,
	reads func(seen) map[string]float64) *record.Record {
	instruments := map[string]instrument{}
	series := map[string]*trace.Series{}
	rec := &record.Record{Specs: specs}
	for _, column := range slices.Sorted(maps.Keys(specs)) {
		spec := specs[column]
		even := func(bound float64) float64 { return (2*rng.Float64() - 1) * bound }
		instruments[column] = instrument{even(spec[0].Reading), even(spec[0].Offset), noise[column], spec[0].Resolution}
		series[column] = &trace.Series{}
		rec.Columns = append(rec.Columns, column)
	}
	for _, s := range all {
		read := reads(s)
		for _, column := range rec.Columns {
			x := read[column]
			series[column].T = append(series[column].T, s.t)
			series[column].X = append(series[column].X, instruments[column].read(rng, x))
		}
	}
	rec.Trace = func(column string, a, b float64) (trace.Series, error) { return series[column].Between(a, b), nil }
	return rec
}
