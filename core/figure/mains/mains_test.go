package mains_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/figure/mains"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/uncertainty"
)

const minute = 60.0

// columns are what a meter read: values over times, s.
type columns map[string][]float64

// recordOf is a run of one stage, "low power", with what a meter read in it.
func recordOf(t []float64, read columns) *record.Record {
	rec := &record.Record{
		Stages:  []record.Span{{Name: "low power", Kind: "hold", T0: t[0], T1: t[len(t)-1], AtLeast: 600}},
		Specs:   map[string]uncertainty.Spec{},
		Ratings: map[string]quantity.Quantity{},
	}
	rec.Trace = recordtest.Trace(t, read)
	return rec
}

// constant is a run of 16 min with readings that do not change, one each minute.
func constant(values map[string]float64) *record.Record {
	var t []float64
	read := columns{}
	for k := range 17 {
		t = append(t, float64(k)*minute)
		for column, x := range values {
			read[column] = append(read[column], x)
		}
	}
	return recordOf(t, read)
}

// eider is what the worked examples know of a unit in standby.
var eider = map[string]float64{"meter.watts": 0.1448, "meter.volts": 230, "meter.amps": 4.1e-3,
	"meter.amps.peak": 24.6e-3}

// args are the arguments of a request.
type args = map[string]float64

func ask(rec *record.Record, id string, a args) figure.Result { return wired(rec, id, "", a) }

func wired(rec *record.Record, id, wiring string, a args) figure.Result {
	req := figure.Request{ID: id, Stage: "low power", Args: a}
	if wiring != "" {
		req.Choices = map[string]string{"wiring": wiring}
	}
	return figure.NewCatalogue(mains.Figures).Compute(rec, req)
}

// steps is a record of the times and watts of a worked example, with the whole stage as its window.
func steps(minutes, watts []float64) *record.Record {
	t := make([]float64, len(minutes))
	for i, m := range minutes {
		t[i] = m * minute
	}
	return recordOf(t, columns{"meter.watts": watts})
}

var whole = args{"discard": 0}

func TestPowerOfTheWorkedExamples(t *testing.T) {
	rec := steps([]float64{0, 4, 8, 16}, []float64{0.142, 0.146, 0.144, 0.142})
	p := ask(rec, "standby-power", whole)
	require.Nil(t, p.Undetermined)
	assert.InDelta(t, 0.14375, p.Value, 1e-9)
	assert.Contains(t, p.Remarks, figure.NotStated)
	assert.InDelta(t, -4.3e-3, ask(rec, "power-stability", whole).Value, 5e-5)

	s := ask(steps([]float64{0, 5, 10}, []float64{0.1430, 0.1434, 0.1432}), "power-stability", whole)
	require.Nil(t, s.Undetermined)
	assert.InDelta(t, 1.2e-3, s.Value, 1e-9)
	assert.Contains(t, strings.Join(s.Remarks, "; "), "stable: 0.12 of the permitted 0.01 W/h")

	var at, watts []float64
	for m := 0.0; m <= 30; m++ {
		at, watts = append(at, m), append(watts, 2.412)
		if m > 15 {
			watts[len(watts)-1] = 2.418
		}
	}
	step := ask(steps(at, watts), "power-step", whole)
	require.Nil(t, step.Undetermined)
	assert.InDelta(t, 18e-3, step.Value, 1e-9)
	assert.Contains(t, strings.Join(step.Remarks, "; "), "permitted 0.02415 W/h")
}

func TestAccumulationOfTheWorkedExamples(t *testing.T) {
	const wattHour = 3600.0
	rec := recordOf([]float64{0, 300, 600, 900}, columns{"meter.energy": {0, 0.01207 * wattHour, 0.02413 * wattHour,
		0.0362 * wattHour}, "meter.watts": {0.14375, 0.14375, 0.14375, 0.14375}})
	rec.Specs["meter.energy"] = uncertainty.Spec{{To: 1e6, Resolution: 1e-4 * wattHour}}
	rec.Specs["meter.watts"] = uncertainty.Spec{{To: 10}}
	a := ask(rec, "accumulated-power", whole)
	require.Nil(t, a.Undetermined)
	assert.InDelta(t, 0.1448, a.Value, 1e-9)
	assert.InDelta(t, 0.163e-3, a.U/a.K, 5e-7, "two roundings of the counter")
	d := ask(rec, "power-method-difference", args{"discard": 0, "total": 900})
	require.Nil(t, d.Undetermined)
	assert.InDelta(t, 0.73, d.Value, 5e-3)
	assert.Contains(t, d.Remarks, "bursts: report the accumulated power")
	rec.Specs["meter.energy"] = uncertainty.Spec{{To: 1e6, Resolution: 1e-3 * wattHour}}
	d = ask(rec, "power-method-difference", args{"discard": 0, "total": 900})
	assert.NotContains(t, d.Remarks, "bursts: report the accumulated power", "a coarse counter does not tell")

	falls := recordOf([]float64{0, 300, 600, 900}, columns{"meter.energy": {0, 40, 20, 130}})
	assert.Equal(t, record.Implausible, ask(falls, "accumulated-power", whole).Undetermined.Code)
	assert.Equal(t, record.TooFew, ask(rec, "accumulated-power", args{"discard": 0, "shortest": 1000}).Undetermined.Code)
}

func TestSupplyOfTheWorkedExamples(t *testing.T) {
	values := map[string]float64{"meter.volts": 231.2, "meter.volts.peak": 327.8, "meter.hertz": 50}
	for h := 1; h <= 13; h++ {
		values[fmt.Sprintf("meter.volts.h%d", h)] = 0
	}
	values["meter.volts.h1"], values["meter.volts.h3"], values["meter.volts.h5"], values["meter.volts.h7"] = 230, 1.2, 2.3,
		0.9
	rec := constant(values)
	thd := ask(rec, "supply-voltage-thd", nil)
	require.Nil(t, thd.Undetermined)
	assert.InDelta(t, 1.19, thd.Value, 5e-3)
	assert.InDelta(t, 1.418, ask(rec, "supply-crest-factor", nil).Value, 5e-4)
	assert.InDelta(t, 0, ask(rec, "supply-frequency-deviation", args{"nominal-hertz": 50}).Value, 1e-12)
	assert.Equal(t, record.NoRating, ask(rec, "supply-voltage-deviation", nil).Undetermined.Code)
	rec.Ratings["nominal_line"] = quantity.Quantity{Value: 230, Dim: quantity.Voltage}
	assert.Equal(t, record.NoRating, ask(rec, "supply-quality-breaches", nil).Undetermined.Code, "no nominal frequency")
	rec.Ratings["line_frequency"] = quantity.Quantity{Value: 50, Dim: quantity.Frequency}
	q := ask(rec, "supply-quality-breaches", nil)
	require.Nil(t, q.Undetermined)
	assert.Zero(t, q.Value)
	values["meter.volts.h5"] = 5.2
	rec = constant(values)
	q = ask(rec, "supply-quality-breaches", args{"nominal-volts": 230, "nominal-hertz": 50})
	assert.Equal(t, 1.0, q.Value)
	assert.Contains(t, strings.Join(q.Remarks, "; "), "distortion 2.3")

	at := []float64{0, 60, 120}
	rec = recordOf(at, columns{"meter.volts": {228.4, 231.1, 230}, "meter.hertz": {49.98, 50.03, 50.01}})
	v := ask(rec, "supply-voltage-deviation", args{"nominal-volts": 230})
	assert.InDelta(t, -0.70, v.Value, 5e-3, "the one farthest off, with its sign")
	assert.Contains(t, v.Remarks, "first at 0 s")
	assert.InDelta(t, 0.06, ask(rec, "supply-frequency-deviation", args{"nominal-hertz": 50}).Value, 5e-3)
}

func TestCurrentOfTheWorkedExamples(t *testing.T) {
	values := map[string]float64{"meter.amps": 4.1e-3, "meter.amps.peak": 24.6e-3}
	for h := 1; h <= 40; h++ {
		values[fmt.Sprintf("meter.amps.h%d", h)] = 0
	}
	values["meter.amps.h1"], values["meter.amps.h3"], values["meter.amps.h5"], values["meter.amps.h7"] = 4e-3, 3e-3, 2e-3,
		1e-3
	rec := constant(values)
	assert.InDelta(t, 93.5, ask(rec, "current-thd", nil).Value, 0.05)
	assert.InDelta(t, 6, ask(rec, "current-crest-factor", nil).Value, 1e-9)
	delete(values, "meter.amps.h21")
	short := ask(constant(values), "current-thd", nil)
	require.NotNil(t, short.Undetermined)
	assert.Equal(t, record.TooFew, short.Undetermined.Code)
	assert.Contains(t, short.Undetermined.Sentence, "up to order 20")
	rec.Specs["meter.amps.peak"] = uncertainty.Spec{{To: 0.02}}
	assert.Equal(t, record.Clipped, ask(rec, "current-crest-factor", nil).Undetermined.Code)
}

func TestHowWellAPowerMustBeKnown(t *testing.T) {
	rec := constant(eider)
	assert.InDelta(t, 39.07, ask(rec, "max-current-ratio", nil).Value, 5e-3)
	p := ask(rec, "permitted-uncertainty", nil)
	require.Nil(t, p.Undetermined)
	assert.InDelta(t, 0.020, p.Value, 1e-12)
	// 2.415 W with a ratio of 14: Î = MCR·P/V.
	rec = constant(map[string]float64{"meter.watts": 2.415, "meter.volts": 230, "meter.amps": 0.02,
		"meter.amps.peak": 14 * 2.415 / 230})
	assert.InDelta(t, 63.8e-3, ask(rec, "permitted-uncertainty", nil).Value, 5e-5)
	rec = constant(map[string]float64{"meter.watts": 2.415, "meter.volts": 230, "meter.amps": 0.0105,
		"meter.amps.peak": 0.0148})
	assert.InDelta(t, 0.02*2.415, ask(rec, "permitted-uncertainty", nil).Value, 1e-9, "a sine")
	lie := constant(map[string]float64{"meter.watts": 2, "meter.volts": 230, "meter.amps": 1e-3, "meter.amps.peak": 2e-3})
	assert.Equal(t, record.Implausible, ask(lie, "max-current-ratio", nil).Undetermined.Code)
}

func TestTheMetersOwnPowerIsTakenOff(t *testing.T) {
	rec := constant(map[string]float64{"meter.watts": 0.1713, "meter.volts": 230, "meter.amps": 4.1e-3})
	p := wired(rec, "burden-corrected-power", "voltmeter-at-unit", args{"across": 2e6})
	require.Nil(t, p.Undetermined)
	assert.InDelta(t, 0.14485, p.Value, 1e-9)
	p = wired(constant(eider), "burden-corrected-power", "voltmeter-at-supply", args{"through": 0.5})
	assert.InDelta(t, 0.14479, p.Value, 5e-6)
	assert.Equal(t, record.NoRating, ask(rec, "burden-corrected-power", nil).Undetermined.Code)
	assert.Equal(t, record.Implausible, wired(rec, "burden-corrected-power", "voltmeter-at-unit",
		args{"across": 1e5}).Undetermined.Code)
	x := ask(rec, "burden-crossover-current", args{"across": 2e6, "through": 0.5})
	assert.InDelta(t, 0.230, x.Value, 5e-4)
}

// Both wirings of one meter say the same of a unit, whatever the waveform: what they read differs by what the meter
// takes.
func TestBothWiringsSayTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 9))
	for range 300 {
		v, i := 100+150*rng.Float64(), math.Pow(10, -3*rng.Float64()-1)
		p, rv, ra := v*i*(0.1+0.9*rng.Float64()), math.Pow(10, 5+2*rng.Float64()), math.Pow(10, 2*rng.Float64()-1)
		atUnit := map[string]float64{"meter.watts": p + v*v/rv, "meter.volts": v,
			"meter.amps": math.Sqrt(i*i + 2*p/rv + v*v/(rv*rv))}
		atSupply := map[string]float64{"meter.watts": p + ra*i*i, "meter.volts": math.Sqrt(v*v + 2*ra*p + ra*ra*i*i),
			"meter.amps": i}
		a := wired(constant(atUnit), "burden-corrected-power", "voltmeter-at-unit", args{"across": rv})
		b := wired(constant(atSupply), "burden-corrected-power", "voltmeter-at-supply", args{"through": ra})
		if v*v/rv > p+v*v/rv || ra*i*i > p {
			continue
		}
		require.Nil(t, a.Undetermined)
		require.Nil(t, b.Undetermined)
		assert.InEpsilon(t, p, a.Value, 1e-9)
		assert.InEpsilon(t, p, b.Value, 1e-9)
	}
}

// frames are readings once a second of a power over time.
func frames(length float64, watts func(t float64) float64) *record.Record {
	var at, x []float64
	for s := 0.0; s <= length; s++ {
		at, x = append(at, s), append(x, watts(s))
	}
	return recordOf(at, columns{"meter.watts": x})
}

func TestWhatIsNotSettledIsNotSaid(t *testing.T) {
	drifts := frames(1200, func(s float64) float64 { return 0.140 + 0.015*s/3600 })
	p := ask(drifts, "standby-power", nil)
	require.NotNil(t, p.Undetermined)
	assert.Equal(t, record.NotSettled, p.Undetermined.Code)
	assert.Contains(t, p.Undetermined.Sentence, "15 mW/h")
	assert.Contains(t, strings.Join(ask(drifts, "power-stability", nil).Remarks, "; "), "not stable")
	steady := frames(1200, func(s float64) float64 { return 5 + 0.04*s/3600 })
	require.Nil(t, ask(steady, "standby-power", nil).Undetermined, "1 % an hour is permitted beyond 1 W")
	assert.Equal(t, record.TooFew, ask(frames(600, func(float64) float64 { return 1 }), "standby-power",
		nil).Undetermined.Code)

	cycles := frames(1800, func(s float64) float64 { // 20 s in 200 s it charges something
		if math.Mod(s, 200) < 20 {
			return 1.2
		}
		return 0.1
	})
	p = ask(cycles, "standby-power", args{"cycle": 200})
	require.Nil(t, p.Undetermined)
	assert.InDelta(t, 0.21, p.Value, 2e-3)
	assert.Equal(t, record.TooFew, ask(cycles, "standby-power", args{"cycle": 400}).Undetermined.Code, "three cycles")
	assert.Equal(t, record.TimeOrder, ask(cycles, "power-step", args{"period": 700}).Undetermined.Code)
	assert.Equal(t, record.TooFew, ask(cycles, "power-step", args{"period": 1300}).Undetermined.Code)
}

// Of a run of a unit in standby the interval that is stated holds the truth as often as it says.
func TestIntervalsHoldTheTruth(t *testing.T) {
	const runs = 1000
	spec := uncertainty.Range{To: 1, Reading: 0.002, Offset: 0.3e-3}
	rng := rand.New(rand.NewPCG(18, 6))
	held := map[string]int{}
	for range runs {
		truth := 0.05 + 0.2*rng.Float64()
		gain, offset := 1+spec.Reading*(2*rng.Float64()-1), spec.Offset*(2*rng.Float64()-1)
		var at, watts, energy []float64
		sum, q := 0.0, 0.36
		for s := 0.0; s <= 960; s += 10 {
			at = append(at, s)
			watts = append(watts, truth*gain+offset+0.5e-3*rng.NormFloat64())
			sum += (truth*gain + offset) * 10
			energy = append(energy, q*math.Floor(sum/q))
		}
		rec := recordOf(at, columns{"meter.watts": watts, "meter.energy": energy})
		rec.Specs["meter.watts"] = uncertainty.Spec{spec}
		rec.Specs["meter.energy"] = uncertainty.Spec{{To: 1e6, Resolution: q}}
		for id, r := range map[string]figure.Result{"standby-power": ask(rec, "standby-power", nil),
			"accumulated-power": ask(rec, "accumulated-power", nil)} {
			require.Nil(t, r.Undetermined, id)
			if math.Abs(r.Value-truth) <= r.U {
				held[id]++
			}
		}
	}
	for id, n := range held {
		assert.InDelta(t, 0.95*runs, n, 0.02*runs, id)
	}
	assert.Len(t, held, 2)
}
