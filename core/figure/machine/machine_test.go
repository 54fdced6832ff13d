package machine

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

func compute(rec *record.Record, req figure.Request) figure.Result {
	return figure.NewCatalogue(Figures).Compute(rec, req)
}

func sound(t *testing.T, rec *record.Record, req figure.Request) figure.Result {
	t.Helper()
	r := compute(rec, req)
	require.Nil(t, r.Undetermined, "%s: %v", req.ID, r.Undetermined)
	return r
}

func code(t *testing.T, rec *record.Record, req figure.Request) string {
	t.Helper()
	r := compute(rec, req)
	require.NotNil(t, r.Undetermined, "%s is %g", req.ID, r.Value)
	return r.Undetermined.Code
}

// rowOf are points of a row, a second apart from a time on: each has values by column.
func rowOf(row string, from float64, all ...map[string]float64) (points []record.Point) {
	for k, values := range all {
		p := record.Point{Index: k, Row: row, T0: from + float64(k) - 0.1, T1: from + float64(k) + 0.1,
			Place: map[string]float64{}, Averages: map[string]trace.Average{}}
		for column, x := range values {
			p.Averages[column] = trace.Average{Mean: x, N: 5, SE: math.Abs(x) * 1e-6}
		}
		points = append(points, p)
	}
	return points
}

// cooled are resistances at times after a switch-off at 1000 s.
func cooled(t, ohms []float64) (points []record.Point) {
	for k := range t {
		p := rowOf("hot", 1000, map[string]float64{"ohmmeter.ohms": ohms[k]})[0]
		p.T0, p.T1 = 1000+t[k]-0.5, 1000+t[k]+0.5
		points = append(points, p)
	}
	return points
}

var offAt1000 = []record.Mark{{T: 1000, Kind: record.MarkCommand,
	About: record.Commanded{Words: map[string]string{"mains.output": seats.Off}}}}

func args(pairs ...any) map[string]float64 {
	m := map[string]float64{}
	for k := 0; k < len(pairs); k += 2 {
		m[pairs[k].(string)] = pairs[k+1].(float64)
	}
	return m
}

func TestWindingsByTheirWorkedExamples(t *testing.T) {
	rec := &record.Record{Points: rowOf("cold", 0, map[string]float64{"ohmmeter.ohms": 1.862, "thermo.celsius": 23.4,
		"thermo2.celsius": 23.9})}
	r := sound(t, rec, figure.Request{ID: "winding-resistance", Row: "cold"})
	assert.InDelta(t, 1.8735, r.Value, 5e-5)
	assert.Equal(t, "at 25 °C", r.Remarks[0])
	rec.Points[0].Averages["thermo2.celsius"] = trace.Average{Mean: 26, N: 5}
	assert.Equal(t, record.WrongConditions, code(t, rec, figure.Request{ID: "winding-resistance", Row: "cold"}))

	rec = &record.Record{Marks: offAt1000, Points: cooled([]float64{20, 40, 60}, []float64{2.480, 2.440, 2.408})}
	r = sound(t, rec, figure.Request{ID: "hot-resistance", Row: "hot"})
	assert.InDelta(t, 2.530, r.Value, 5e-5)
	require.NotNil(t, r.Drawing)
	assert.InDelta(t, r.Value, r.Spots[0].Y, 1e-9)
	log := figure.Request{ID: "hot-resistance", Row: "hot", Choices: map[string]string{"method": "log-linear"}}
	assert.InDelta(t, 2.516, sound(t, rec, log).Value, 5e-4)
	log.Args = args("floor", 2.280)
	assert.InDelta(t, 2.530, sound(t, rec, log).Value, 5e-4)

	rec.Points = append(rec.Points, rowOf("cold", 0, map[string]float64{"ohmmeter.ohms": 1.980, "thermo.celsius": 22})...)
	rec.Trace = func(string, float64, float64) (trace.Series, error) {
		return trace.Series{T: []float64{940, 960, 980, 1000}, X: []float64{24.5, 24.5, 24.5, 24.5}}, nil
	}
	r = sound(t, rec, figure.Request{ID: "temperature-rise", Row: "hot", Rows: map[string]string{"cold": "cold"}})
	assert.InDelta(t, 68.9, r.Value, 0.05)
	assert.Contains(t, r.Remarks, "winding 93.4 °C, coolant 24.5 °C")
}

func TestWhyNoHotResistance(t *testing.T) {
	hot := figure.Request{ID: "hot-resistance", Row: "hot"}
	for want, rec := range map[string]*record.Record{
		record.TooFew:      {Marks: offAt1000, Points: cooled([]float64{20, 40}, []float64{2.48, 2.44})},
		record.NoMark:      {Points: cooled([]float64{20, 40, 60}, []float64{2.48, 2.44, 2.41})},
		record.NoPoint:     {Marks: offAt1000, Points: cooled([]float64{70, 90, 110}, []float64{2.48, 2.44, 2.41})},
		record.Implausible: {Marks: offAt1000, Points: cooled([]float64{20, 40, 60}, []float64{2.40, 2.44, 2.48})},
	} {
		assert.Equal(t, want, code(t, rec, hot))
	}
	late := &record.Record{Marks: offAt1000, Points: cooled([]float64{40, 60, 80}, []float64{2.48, 2.44, 2.408})}
	assert.Contains(t, sound(t, late, hot).Remarks, "late: the first reading is of 40 s")
}

// worked is a machine whose points give the worked examples of losses by kind.
func worked() *record.Record {
	noLoad := func(v, watts, amps float64) map[string]float64 {
		return map[string]float64{"meter.volts": v, "meter.amps": amps, "meter.watts": watts}
	}
	rec := &record.Record{Ratings: map[string]quantity.Quantity{"line_volts": quantity.Of(400, "V"),
		"poles": {Value: 4}}}
	// The constant losses of the example, with what the winding loses at 2.40 Ω on top.
	for _, p := range [][3]float64{{120, 72.8, 0.6}, {160, 83.2, 0.75}, {200, 95.9, 0.9}, {240, 112.0, 1.1},
		{320, 145, 1.4}, {400, 199.00, 1.90}} {
		rec.Points = append(rec.Points, rowOf("no load", 0, noLoad(p[0], p[1]+1.5*p[2]*p[2]*2.40, p[2]))...)
	}
	return rec
}

func TestLossesByTheirWorkedExamples(t *testing.T) {
	rec := &record.Record{Points: rowOf("load", 0, map[string]float64{"meter.volts": 400, "meter.amps": 4.80,
		"meter.watts": 2460})}
	assert.InDelta(t, 87.4, sound(t, rec, figure.Request{ID: "winding-loss", Row: "load", Args: args("resistance",
		2.530)}).Value, 0.05)
	one := figure.Request{ID: "winding-loss", Row: "load", Args: args("resistance", 2.530),
		Choices: map[string]string{"phases": "one"}}
	assert.InDelta(t, 4.8*4.8*2.53, sound(t, rec, one).Value, 1e-9)
	assert.Equal(t, record.NoData, code(t, rec, figure.Request{ID: "winding-loss", Row: "load"}))

	rec = worked()
	of := func(id string) figure.Request {
		return figure.Request{ID: id, Row: "no load", Args: args("resistance", 2.40)}
	}
	assert.InDelta(t, 199.0, sound(t, rec, of("constant-loss")).Value, 0.05)
	assert.InDelta(t, 59.85, sound(t, rec, of("friction-windage-loss")).Value, 0.005)
	assert.InDelta(t, 139.15, sound(t, rec, of("iron-loss")).Value, 0.005)
	rec.Points = rec.Points[2:]
	assert.Equal(t, record.TooFew, code(t, rec, of("friction-windage-loss")))
	rec.Points[0].Averages["meter.watts"] = trace.Average{Mean: 1, N: 5}
	assert.Equal(t, record.Implausible, code(t, rec, figure.Request{ID: "constant-loss", Row: "no load",
		Args: args("resistance", 2.40, "volts", 200.0)}))
}

// loadedMachine has load points of which every loss is known: friction 60 W, iron 140 W whatever the volts, a
// resistance of 2.5 Ω, and an additional loss of 0.1 W/(N·m)² beside 0.5 W of something else.
func loadedMachine(torques ...float64) *record.Record {
	rec := &record.Record{Ratings: map[string]quantity.Quantity{"line_volts": quantity.Of(400, "V"),
		"poles": {Value: 4}}}
	for _, v := range []float64{100, 150, 200, 240, 300, 400, 440} {
		amps := v / 200
		rec.Points = append(rec.Points, rowOf("no load", 0, map[string]float64{"meter.volts": v, "meter.amps": amps,
			"meter.watts": 60 + 140*v*v/160000 + 1.5*amps*amps*2.5})...)
	}
	for _, tq := range torques {
		speed := 25 * (1 - 0.0028*tq)
		p := map[string]float64{"shaft.torque": tq, "shaft.speed": speed, "meter.hertz": 50, "meter.volts": 400,
			"meter.amps": 1.5 + 0.24*tq}
		out, winding := 2*math.Pi*speed*tq, 1.5*p["meter.amps"]*p["meter.amps"]*2.5
		slip := 0.0028 * tq
		watts := 2000.0
		for range 100 { // the power that balances
			m := test{readings: []uncertainty.Reading{{Value: 400}, {Value: p["meter.amps"]}, {Value: watts}},
				ohms: func([]float64, place) float64 { return 2.5 }}
			inner := m.inner(values(m.readings), place{0, 1, 2, -1, -1, -1, -1})
			iron := ironOf(inner)
			watts = out + winding + iron + 60 + slip*(watts-winding-iron) + 0.1*tq*tq + 0.5
		}
		p["meter.watts"] = watts
		rec.Points = append(rec.Points, rowOf("load", 100, p)...)
	}
	return rec
}

// ironOf is the iron's loss of that machine, straight between its points without load.
func ironOf(v float64) float64 {
	at := []float64{100, 150, 200, 240, 300, 400, 440}
	of := func(v float64) float64 { return 140 * v * v / 160000 }
	for k := 1; k < len(at); k++ {
		if v <= at[k] {
			return of(at[k-1]) + (v-at[k-1])/(at[k]-at[k-1])*(of(at[k])-of(at[k-1]))
		}
	}
	return of(v)
}

func TestLossesOfAMachineAddUp(t *testing.T) {
	rec := loadedMachine(2, 5, 8, 11, 14, 16)
	of := func(id string) figure.Request {
		return figure.Request{ID: id, Row: "load", Rows: map[string]string{"no load": "no load"},
			Args: args("resistance", 2.5,
				"torque", 14.0)}
	}
	a := sound(t, rec, of("additional-load-loss"))
	assert.InDelta(t, 0.1*14*14, a.Value, 0.05)
	sum := sound(t, rec, of("summed-loss"))
	watts := rec.Points[7+4].Averages["meter.watts"].Mean
	out := 2 * math.Pi * 25 * (1 - 0.0028*14) * 14
	assert.InDelta(t, watts-out-0.5, sum.Value, 0.1)
	require.NotNil(t, sum.Table)
	assert.Len(t, sum.Table.Rows, 6)
	assert.InDelta(t, 100*(out+0.5)/watts, sound(t, rec, of("summed-efficiency")).Value, 0.01)
	slip := sound(t, rec, of("slip-loss"))
	assert.Contains(t, slip.Remarks, "slip 0.0392")

	assert.Equal(t, record.TooFew, code(t, loadedMachine(5, 10, 15), of("additional-load-loss")))
	without := of("slip-loss")
	rec.Ratings = map[string]quantity.Quantity{"line_volts": quantity.Of(400, "V")}
	assert.Equal(t, record.NoRating, code(t, rec, without))
	without.Args["pole-pairs"] = 2
	sound(t, rec, without)
	rec.Points[7].Averages["shaft.speed"] = trace.Average{Mean: 25.4, N: 5}
	assert.Equal(t, record.WrongSign, code(t, rec, without))
}

// swept is a response as points of a grid.
func swept(x, y []float64) *record.Record {
	rec := &record.Record{}
	for k := range x {
		p := rowOf("", float64(k), map[string]float64{"drive.percent": x[k] / 100, "force.newtons": y[k]})[0]
		p.Place["drive.percent"], p.Stage = x[k]/100, "sweep"
		rec.Points = append(rec.Points, p)
	}
	return rec
}

func TestTheLinearRangeByItsWorkedExample(t *testing.T) {
	rec := swept([]float64{0, 1, 2, 3, 4, 5, 6}, []float64{0, 0.02, 1.01, 2.00, 2.99, 4.02, 4.30})
	of := func(id string, within float64) figure.Request {
		return figure.Request{ID: id, Quantity: "force.newtons", Over: "drive.percent", Args: args("within", within)}
	}
	r := sound(t, rec, of("linear-range", 0.05))
	assert.InDelta(t, 4, r.Value, 1e-9)
	assert.Equal(t, "%", r.Unit)
	assert.Contains(t, r.Remarks, "largest residual 0.016 N")
	assert.InDelta(t, 1, sound(t, rec, of("linear-range-low", 0.05)).Value, 1e-9)
	assert.InDelta(t, 5, sound(t, rec, of("linear-range-high", 0.05)).Value, 1e-9)
	slope := sound(t, rec, of("linear-range-slope", 0.05))
	assert.InDelta(t, 0.998, slope.Value, 5e-4)
	assert.Equal(t, "N/%", slope.Unit)
	assert.Equal(t, record.NotFound, code(t, rec, of("linear-range", 0.001)))
	assert.Equal(t, record.TooFew, code(t, swept([]float64{0, 1, 2}, []float64{0, 1, 2}), of("linear-range", 0.05)))
	assert.Equal(t, record.NoRating, code(t, rec, figure.Request{ID: "linear-range", Quantity: "force.newtons",
		Over: "drive.percent"}))
	assert.Contains(t, sound(t, rec, of("linear-range", 5)).Remarks[0], "edge")
}

// Nothing is answered up to 10 %, from there on 2 N for every percent; the way back lies 1 % behind.
func TestAResponseThereAndBack(t *testing.T) {
	var x, y []float64
	for k := range 21 {
		at := 5 * float64(min(k, 20-k))
		play := map[bool]float64{true: 1}[k > 10 && k < 20]
		x, y = append(x, at), append(y, 2*math.Max(at+play-10, 0))
	}
	rec := swept(x, y)
	for k, p := range rec.Points {
		p.Averages["source.watts"] = trace.Average{Mean: 5 + y[k]*y[k]/100, N: 5}
	}
	of := func(id, over string) figure.Request {
		return figure.Request{ID: id, Quantity: "force.newtons", Over: over, Args: args("within", 0.05)}
	}
	zone := sound(t, rec, of("dead-zone", "drive.percent"))
	assert.InDelta(t, 10, zone.Value, 1e-9)
	assert.Equal(t, "%", zone.Unit)
	lag := sound(t, rec, of("response-hysteresis", "drive.percent"))
	assert.InDelta(t, 100*2.0/80, lag.Value, 1e-9)
	assert.Contains(t, lag.Remarks[0], "largest at ")
	yield := sound(t, rec, of("response-yield", "source.watts"))
	assert.InDelta(t, 80.0/69, yield.Value, 1e-9)
	assert.Equal(t, "N/W", yield.Unit)
	best := of("response-yield", "source.watts")
	best.Choices = map[string]string{"place": "best"}
	assert.InDelta(t, 22/(5+4.84), sound(t, rec, best).Value, 1e-9)

	assert.Equal(t, record.NoPoint, code(t, swept(x[:11], y[:11]), of("response-hysteresis", "drive.percent")))
	assert.Equal(t, record.NoPoint, code(t, rec, of("response-yield", "drive.volts")))
	flat := swept(x, make([]float64, len(x)))
	assert.Equal(t, record.ZeroDivisor, code(t, flat, of("dead-zone", "drive.percent")))
	assert.Equal(t, record.ZeroDivisor, code(t, flat, of("response-hysteresis", "drive.percent")))
}

func TestSensorsByTheirWorkedExamples(t *testing.T) {
	rec := &record.Record{Points: append(rowOf("zero", 0, map[string]float64{"force.volts": 13e-3}),
		rowOf("weight", 10, map[string]float64{"force.volts": 2467e-3})...),
		Stages: []record.Span{{Name: "quiet", T0: 0, T1: 4}}}
	of := func(id string) figure.Request {
		return figure.Request{ID: id, Row: "zero", Rows: map[string]string{"high": "weight"}, Quantity: "force.volts",
			Over: "force.newtons", Args: args("high", 20.00)}
	}
	gain := sound(t, rec, of("sensor-gain"))
	assert.InDelta(t, 8.150, gain.Value, 5e-4)
	assert.Equal(t, "N/V", gain.Unit)
	offset := sound(t, rec, of("sensor-offset"))
	assert.InDelta(t, -0.1059, offset.Value, 5e-5)
	assert.InDelta(t, 10.00, gain.Value*1.240+offset.Value, 5e-3)

	readings := []float64{12e-3, 14e-3, 13e-3, 13e-3}
	rec.Trace = func(string, float64, float64) (trace.Series, error) {
		return trace.Series{T: []float64{0.5, 1.5, 2.5, 3.5}, X: readings}, nil
	}
	zero := figure.Request{ID: "sensor-zero", Stage: "quiet", Quantity: "force.volts"}
	assert.InDelta(t, 13.0e-3, sound(t, rec, zero).Value, 1e-9)
	zero.Args = args("quiet", 0.1e-3)
	assert.Equal(t, record.NotSettled, code(t, rec, zero))
}

func TestThermalTestsByTheirWorkedExamples(t *testing.T) {
	times := []float64{0, 1800, 3600, 5400, 7200, 9000, 10800}
	temperatures := []float64{24.0, 52.0, 66.0, 73.0, 76.4, 77.2, 77.6}
	rec := &record.Record{Stages: []record.Span{{Name: "warm", T0: 0, T1: 10800}, {Name: "short", T0: 0, T1: 5400}}}
	rec.Trace = func(_ string, a, b float64) (s trace.Series, err error) {
		for k, t := range times {
			if t >= a && t <= b {
				s.T, s.X = append(s.T, t), append(s.X, temperatures[k])
			}
		}
		return s, nil
	}
	assert.InDelta(t, 9000, sound(t, rec, figure.Request{ID: "thermal-settle-time", Stage: "warm"}).Value, 1e-6)
	assert.Equal(t, record.NotReached, code(t, rec, figure.Request{ID: "thermal-settle-time", Stage: "short"}))
	short := func(id string) figure.Request {
		return figure.Request{ID: id, Stage: "short", Args: args("step", 1800.0)}
	}
	assert.InDelta(t, 80.0, sound(t, rec, short("final-temperature")).Value, 1e-9)
	assert.InDelta(t, 43.3*60, sound(t, rec, short("thermal-time-constant")).Value, 3)
	temperatures[3] = 60
	assert.Equal(t, record.Implausible, code(t, rec, short("final-temperature")))
}

// reader reads true values as an instrument of an accuracy does, which is drawn anew for each run.
type reader struct {
	rng          *rand.Rand
	spec         uncertainty.Range
	gain, offset float64
	noise        float64
}

func (r *reader) draw() {
	even := func(bound float64) float64 { return (2*r.rng.Float64() - 1) * bound }
	r.gain, r.offset = even(r.spec.Reading), even(r.spec.Offset)
}

func (r *reader) read(truth float64) trace.Average {
	var s trace.Series
	for k := range 8 {
		x := truth*(1+r.gain) + r.offset + r.noise*r.rng.NormFloat64()
		s.T, s.X = append(s.T, float64(k)*0.1), append(s.X, math.Round(x/r.spec.Resolution)*r.spec.Resolution)
	}
	a, err := trace.SettledAverage(s, 0)
	if err != nil {
		panic(err)
	}
	return a
}

// The intervals hold the truth of 93 to 97 of 100 runs.
func TestIntervalsHoldTheTruth(t *testing.T) {
	const runs = 1000
	rng := rand.New(rand.NewPCG(7, 3))
	ohms := &reader{rng: rng, spec: uncertainty.Range{To: 10, Reading: 2e-4, Offset: 2e-4, Resolution: 1e-5}, noise: 3e-5}
	celsius := &reader{rng: rng, spec: uncertainty.Range{To: 200, Offset: 0.3, Resolution: 0.01}, noise: 0.02}
	coolant := &reader{rng: rng, spec: celsius.spec, noise: 0.02}
	specs := map[string]uncertainty.Spec{"ohmmeter.ohms": {ohms.spec}, "thermo.celsius": {celsius.spec},
		"thermo2.celsius": {coolant.spec}}
	const c, amplitude, tau = 2.31, 0.22, 95.0
	hot := c + amplitude
	rise := hot/1.980*(235+22) - 235 - 24.5
	held := map[string]int{}
	for range runs {
		ohms.draw()
		celsius.draw()
		coolant.draw()
		rec := &record.Record{Marks: offAt1000, Specs: specs}
		cold := rowOf("cold", 0, map[string]float64{})[0]
		cold.Averages["ohmmeter.ohms"], cold.Averages["thermo.celsius"] = ohms.read(1.980), celsius.read(22)
		rec.Points = append(rec.Points, cold)
		for s := 20.0; s <= 200; s += 20 {
			p := cooled([]float64{s}, []float64{0})[0]
			p.Averages["ohmmeter.ohms"] = ohms.read(c + amplitude*math.Exp(-s/tau))
			rec.Points = append(rec.Points, p)
		}
		mean := coolant.read(24.5).Mean
		rec.Trace = func(string, float64, float64) (s trace.Series, err error) {
			for k := range 12 {
				s.T, s.X = append(s.T, 940+5*float64(k)), append(s.X, mean)
			}
			return s, nil
		}
		for id, truth := range map[string]float64{"hot-resistance": hot, "temperature-rise": rise} {
			r := sound(t, rec, figure.Request{ID: id, Row: "hot", Rows: map[string]string{"cold": "cold"}})
			if math.Abs(r.Value-truth) <= r.U {
				held[id]++
			}
		}
	}
	for _, id := range []string{"hot-resistance", "temperature-rise"} {
		share := 100 * float64(held[id]) / runs
		t.Logf("%s: %.1f %%", id, share)
		assert.GreaterOrEqual(t, share, 93.0, id)
		assert.LessOrEqual(t, share, 97.0, id)
	}
}

func TestIntervalsOfALinearRangeAndAnAdditionalLossHoldTheTruth(t *testing.T) {
	const runs = 1000
	rng := rand.New(rand.NewPCG(17, 4))
	held := map[string]int{}
	force := &reader{rng: rng, spec: uncertainty.Range{To: 1000, Reading: 1e-3, Offset: 0.3, Resolution: 0.01}, noise: 0.2}
	for range runs {
		force.draw()
		begin, end := 10+4*rng.Float64(), 80+4*rng.Float64()
		rec := &record.Record{Specs: map[string]uncertainty.Spec{"force.newtons": {force.spec}}}
		for x := 0.0; x <= 100; x += 2.5 {
			truth := 6 * (math.Min(math.Max(x, begin), end) - begin)
			p := rowOf("", x, map[string]float64{})[0]
			p.Place["drive.percent"], p.Averages["force.newtons"] = x/100, force.read(truth)
			rec.Points = append(rec.Points, p)
		}
		r := sound(t, rec, figure.Request{ID: "linear-range", Quantity: "force.newtons", Over: "drive.percent",
			Args: args("within", 1.0)})
		if math.Abs(r.Value-(end-begin)) <= r.U {
			held["linear-range"]++
		}
	}
	readers := map[string]*reader{
		"meter.volts": {rng: rng, spec: uncertainty.Range{To: 500, Reading: 5e-4, Offset: 0.05, Resolution: 0.01},
			noise: 0.01},
		"meter.amps": {rng: rng, spec: uncertainty.Range{To: 20, Reading: 5e-4, Offset: 1e-3, Resolution: 1e-4},
			noise: 2e-4},
		"meter.watts": {rng: rng, spec: uncertainty.Range{To: 5000, Reading: 5e-4, Offset: 0.5, Resolution: 0.1},
			noise: 0.1},
		"meter.hertz": {rng: rng, spec: uncertainty.Range{To: 100, Offset: 5e-4, Resolution: 1e-4}, noise: 1e-4},
		"shaft.speed": {rng: rng, spec: uncertainty.Range{To: 100, Offset: 2e-3, Resolution: 1e-4}, noise: 2e-4},
		"shaft.torque": {rng: rng, spec: uncertainty.Range{To: 50, Reading: 5e-4, Offset: 5e-3, Resolution: 1e-3},
			noise: 1e-3},
	}
	exact := loadedMachine(2, 5, 8, 11, 14, 16)
	specs := map[string]uncertainty.Spec{}
	for column, r := range readers {
		specs[column] = uncertainty.Spec{r.spec}
	}
	for range runs {
		for _, column := range []string{"meter.volts", "meter.amps", "meter.watts", "meter.hertz", "shaft.speed",
			"shaft.torque"} {
			readers[column].draw()
		}
		rec := &record.Record{Ratings: exact.Ratings, Specs: specs}
		for _, p := range exact.Points {
			read := map[string]trace.Average{}
			for column, a := range p.Averages {
				read[column] = readers[column].read(a.Mean)
			}
			p.Averages = read
			rec.Points = append(rec.Points, p)
		}
		r := compute(rec, figure.Request{ID: "additional-load-loss", Row: "load",
			Rows: map[string]string{"no load": "no load"}, Args: args("resistance", 2.5, "torque", 14.0)})
		if r.Undetermined != nil || math.Abs(r.Value-19.6) <= r.U {
			held["additional-load-loss"]++
		}
	}
	for _, id := range []string{"linear-range", "additional-load-loss"} {
		share := 100 * float64(held[id]) / runs
		t.Logf("%s: %.1f %%", id, share)
		assert.GreaterOrEqual(t, share, 93.0, id)
		assert.LessOrEqual(t, share, 97.5, id)
	}
}
