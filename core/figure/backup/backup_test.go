package backup_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/figure/backup"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

type (
	args    = map[string]float64
	columns map[string][]float64
)

// recordOf is a run of one stage, "it", of which columns were read.
func recordOf(t []float64, read columns) *record.Record {
	rec := &record.Record{Stages: []record.Span{{Name: "it", Kind: "hold", T0: t[0], T1: t[len(t)-1], AtLeast: 4000}},
		Specs: map[string]uncertainty.Spec{}}
	rec.Trace = recordtest.Trace(t, read)
	return rec
}

func ask(rec *record.Record, id string, a args) figure.Result {
	return figure.NewCatalogue(backup.Figures).Compute(rec, figure.Request{ID: id, Stage: "it", Args: a})
}

func TestRampsOfTheWorkedExamples(t *testing.T) {
	ramp := recordOf([]float64{0, 5.4, 10.4, 30, 50.4, 60}, columns{"load.watts": {0, 0, 500, 2460, 4500, 5000}})
	slope := ask(ramp, "ramp-slope", args{"to": 5000})
	require.Nil(t, slope.Undetermined)
	assert.InDelta(t, 100, slope.Value, 1e-9)
	assert.Equal(t, record.ZeroDivisor, ask(ramp, "ramp-slope", args{"from": 5000, "to": 5000}).Undetermined.Code)
	assert.Equal(t, record.NotReached, ask(ramp, "ramp-slope", args{"to": 9000}).Undetermined.Code)
	assert.Equal(t, record.AlreadyBeyond, ask(ramp, "ramp-slope", args{"from": -9000, "to": 5000}).Undetermined.Code)
	assert.Equal(t, record.NoRating, ask(ramp, "ramp-slope", nil).Undetermined.Code)
	jump := recordOf([]float64{0, 1, 2}, columns{"load.watts": {0, 0, 5000}})
	assert.Equal(t, record.TooFew, ask(jump, "ramp-slope", args{"to": 5000}).Undetermined.Code)
	down := recordOf([]float64{0, 10, 20}, columns{"load.watts": {5000, 2500, 0}})
	assert.InDelta(t, -250, ask(down, "ramp-slope", args{"from": 5000, "to": 0}).Value, 1e-9)

	// 2480 W where 2550 W was asked for, and 4030 W for 4000 W.
	off := recordOf([]float64{0, 25.5, 40}, columns{"load.watts": {0, 2480, 4030}})
	assert.InDelta(t, -70, ask(off, "ramp-deviation", args{"to": 4000, "over": 40}).Value, 1e-9)
	assert.InDelta(t, -0.26, ask(recordOf([]float64{0, 60}, columns{"load.watts": {4987, 4987}}), "hold-deviation",
		args{"request": 5000}).Value, 1e-9)
}

func TestTimeWithinABandOfTheWorkedExample(t *testing.T) {
	var at, watts []float64
	for s := 0.0; s <= 3700; s++ {
		at = append(at, s)
		x := 5000.0
		if s < 52 || s > 1852 && s < 1912 || s > 3652 {
			x = 5200
		}
		watts = append(watts, x)
	}
	h := ask(recordOf(at, columns{"load.watts": watts}), "hold-time", args{"request": 5000, "band": 100})
	require.Nil(t, h.Undetermined)
	assert.InDelta(t, 1800, h.Value, 1+1e-9, "from crossing to crossing, each half way between two readings")
	never := ask(recordOf(at, columns{"load.watts": watts}), "hold-time", args{"request": 9000, "band": 100})
	assert.Equal(t, record.NotReached, never.Undetermined.Code)
}

func TestPowerThatGoesRoundOfTheWorkedExamples(t *testing.T) {
	hour := []float64{0, 1800, 3600}
	constant := func(x float64) []float64 { return []float64{x, x, x} }
	rec := recordOf(hour, columns{"meter.watts": constant(412.5), "load.watts": constant(5100)})
	assert.InDelta(t, 411, ask(rec, "mains-loss", args{"stored": 1.5 * 3600}).Value, 1e-9)
	assert.InDelta(t, 91.9, ask(rec, "recirculated-share", nil).Value, 0.05)
	rec = recordOf(hour, columns{"meter.watts": constant(5100), "load.watts": constant(4954)})
	spec := uncertainty.Spec{{To: 10e3, Reading: 0.001}}
	rec.Specs["meter.watts"], rec.Specs["load.watts"] = spec, spec
	loss, eta := ask(rec, "input-output-loss", nil), ask(rec, "input-output-efficiency", nil)
	assert.InDelta(t, 146, loss.Value, 1e-9)
	assert.InDelta(t, 97.14, eta.Value, 5e-3)
	assert.InDelta(t, 8.2, 2*loss.U/loss.K, 0.05, "two meters, each by itself")
	assert.InDelta(t, 0.159, 2*eta.U/eta.K, 5e-4)
	rec = recordOf(hour, columns{"meter.watts": constant(5000), "load.watts": constant(5100)})
	assert.Equal(t, record.Implausible, ask(rec, "input-output-loss", nil).Undetermined.Code)
	assert.Equal(t, record.Implausible, ask(rec, "input-output-efficiency", nil).Undetermined.Code)
	rec = recordOf(hour, columns{"meter.watts": constant(-5), "load.watts": constant(0)})
	assert.Equal(t, record.Implausible, ask(rec, "mains-loss", nil).Undetermined.Code)
	assert.Equal(t, record.ZeroDivisor, ask(rec, "recirculated-share", nil).Undetermined.Code)
}

// gearAlone gives a record the points of a stage in which the gear was loaded without the unit.
func gearAlone(rec *record.Record, watts, lost []float64) {
	for i := range watts {
		rec.Points = append(rec.Points, record.Point{Stage: "gear", Averages: map[string]trace.Average{
			"load.watts": {Mean: watts[i], N: 10}, "meter.watts": {Mean: lost[i], N: 10}}})
	}
}

func TestLossOfTheUnitOfTheWorkedExample(t *testing.T) {
	hour := []float64{0, 1800, 3600}
	read := columns{"meter.watts": {411, 411, 411}, "load.watts": {5100, 5100, 5100}}
	lossOf := func(watts, lost []float64) figure.Result {
		rec := recordOf(hour, read)
		spec := uncertainty.Spec{{To: 10e3, Reading: 0.001}}
		rec.Specs["meter.watts"], rec.Specs["load.watts"] = spec, spec
		gearAlone(rec, watts, lost)
		return figure.NewCatalogue(backup.Figures).Compute(rec, figure.Request{ID: "unit-loss", Stage: "it", Gear: "gear"})
	}
	r := lossOf([]float64{6100, 0, 4100}, []float64{300.4, 90, 230.4})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 145.6, r.Value, 1e-9, "in the middle between two points")
	r = lossOf([]float64{5100}, []float64{265.4})
	assert.InDelta(t, 145.6, r.Value, 1e-9)
	assert.InDelta(t, 0.168, 2*r.U/r.K, 5e-4, "one meter: its gain acts on the difference")
	r = lossOf([]float64{0, 5080}, []float64{90, 265})
	require.Nil(t, r.Undetermined, "a load keeps its power as well as it can")
	assert.Equal(t, record.NoPoint, lossOf([]float64{0, 4000}, []float64{90, 230}).Undetermined.Code)
	assert.Equal(t, record.NoPoint, lossOf([]float64{6000, 7000}, []float64{300, 330}).Undetermined.Code)
	assert.Equal(t, record.NoData, lossOf(nil, nil).Undetermined.Code)
}

func TestTimeOnBatteryOfTheWorkedExample(t *testing.T) {
	var at, mains, out []float64
	for s := 0.0; s <= 760; s++ {
		at = append(at, s)
		x, y := 230.0, 230.0
		if s >= 12 {
			x = 0
		}
		switch {
		case s == 754:
			y = 209
		case s >= 755:
			y = 205
		}
		mains, out = append(mains, x), append(out, y)
	}
	a := args{"nominal": 230, "low": 207, "lost": 0.1}
	rec := recordOf(at, columns{"meter.volts": mains, "load.volts": out})
	b := ask(rec, "backup-time", a)
	require.Nil(t, b.Undetermined)
	assert.InDelta(t, 754.5-11.9, b.Value, 1e-9, "the mains falls between two readings")
	assert.Equal(t, record.NoRating, ask(rec, "backup-time", args{"low": 207}).Undetermined.Code)
	assert.Equal(t, record.NoRating, ask(rec, "backup-time", args{"nominal": 230}).Undetermined.Code)
	rec.Stages[0].T0, rec.Stages[0].AtLeast = 12, 1
	b = ask(rec, "backup-time", a)
	require.Nil(t, b.Undetermined, "the stage itself takes the mains away")
	assert.InDelta(t, 754.5-12, b.Value, 1e-9)
	rec.Stages[0].T0 = 14
	assert.Equal(t, record.AlreadyBeyond, ask(rec, "backup-time", a).Undetermined.Code)
	rec.Stages[0].T0, rec.Stages[0].AtLeast = 0, 4000
	stays := ask(recordOf(at, columns{"meter.volts": mains, "load.volts": mains[:0:0]}), "backup-time", a)
	assert.NotNil(t, stays.Undetermined, "no output was read")
	for k := range out {
		out[k] = 230
	}
	stays = ask(rec, "backup-time", a)
	require.NotNil(t, stays.Undetermined)
	assert.Equal(t, record.NotReached, stays.Undetermined.Code)
	assert.InDelta(t, 748.1, *stays.Undetermined.AtLeast, 1e-9, "it lasted so long at least")
	out[100] = 100
	stays = ask(rec, "backup-time", args{"nominal": 230, "low": 207, "for": 5})
	assert.Equal(t, record.NotReached, stays.Undetermined.Code, "a dip is no end")
	for k := range out {
		out[k] = 100
	}
	assert.Equal(t, record.AlreadyBeyond, ask(rec, "backup-time", a).Undetermined.Code)
}

// Of runs of power that goes round the intervals that are stated hold the truth as often as they say.
func TestIntervalsHoldTheTruth(t *testing.T) {
	const runs = 1000
	spec := uncertainty.Range{To: 100e3, Reading: 0.001, Offset: 5}
	rng := rand.New(rand.NewPCG(18, 9))
	// meter is one that is off in its own way, in a run.
	meter := func() func(x float64) float64 {
		gain, offset := 1+spec.Reading*(2*rng.Float64()-1), spec.Offset*(2*rng.Float64()-1)
		return func(x float64) float64 { return gain*x + offset + 3*rng.NormFloat64() }
	}
	held := map[string]int{}
	for range runs {
		round := 5000 + 55e3*rng.Float64()
		gear := func(power float64) float64 { return 180 + 0.038*power }
		unit := round * (0.02 + 0.05*rng.Float64())
		truth := map[string]float64{"recirculated-share": 100 * (1 - (unit+gear(round))/round), "unit-loss": unit}
		net, load := meter(), meter()
		var at []float64
		read := columns{}
		for s := 0.0; s <= 60; s++ {
			at = append(at, s)
			read["meter.watts"] = append(read["meter.watts"], net(unit+gear(round)))
			read["load.watts"] = append(read["load.watts"], load(round))
		}
		rec := recordOf(at, read)
		rec.Specs["meter.watts"], rec.Specs["load.watts"] = uncertainty.Spec{spec}, uncertainty.Spec{spec}
		averaged := func(of func(x float64) float64, x float64) trace.Average {
			sum := 0.0
			for range 20 {
				sum += of(x) / 20
			}
			return trace.Average{Mean: sum, SE: 3 / math.Sqrt(20), N: 20}
		}
		for _, power := range []float64{0, 15e3, 30e3, 45e3, 60e3} {
			rec.Points = append(rec.Points, record.Point{Stage: "gear", Averages: map[string]trace.Average{
				"load.watts": averaged(load, power), "meter.watts": averaged(net, gear(power))}})
		}
		for id, x := range truth {
			r := figure.NewCatalogue(backup.Figures).Compute(rec, figure.Request{ID: id, Stage: "it", Gear: "gear"})
			require.Nil(t, r.Undetermined)
			if math.Abs(r.Value-x) <= r.U {
				held[id]++
			}
		}
	}
	for id, n := range held {
		t.Logf("%s: %.1f %%", id, 100*float64(n)/runs)
		assert.InDelta(t, 0.95*runs, n, 0.02*runs, id)
	}
}
